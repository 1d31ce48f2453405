package engine

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fado/internal/core/problem"
)

// TestAnUploadByParts: a part goes where the file ends and nowhere else, and what came
// in becomes an image only when it is the file that it was said to be.
func TestAnUploadByParts(t *testing.T) {
	e := bench(t)
	ctx := t.Context()
	file := bytes.Repeat([]byte("firmware"), 1000)
	sum := sumOf(file)
	facts := ImageFacts{Firmware: "junco", Version: "2.2.0", Channel: "stable", Part: "program", Models: []string{"junco"}}
	refused := func(err error, kind problem.Kind, what string) {
		t.Helper()
		if p := problem.As(err); p == nil || p.Kind != kind || !strings.Contains(err.Error(), what) {
			t.Errorf("%v, want %q", err, what)
		}
	}
	part := func(sum string, from, to int) error {
		_, err := e.UploadPart(ctx, sum, int64(from), bytes.NewReader(file[from:to]))
		return err
	}
	refused(part("../../"+sum[6:], 0, 10), problem.BadInput, "The upload was refused")
	_, err := e.FinishUpload(ctx, "test", sum, facts)
	refused(err, problem.NotFound, "Nothing of this file")
	refused(part(sum, 10, 20), problem.Conflict, "stands at byte 0")
	if err := part(sum, 0, 3000); err != nil {
		t.Fatal(err)
	}
	refused(part(sum, 0, 3000), problem.Conflict, "stands at byte 3000")
	// Another start of the service knows of it, and keeps nothing of what a crash left.
	crumb := filepath.Join(e.Store.Dir(), "images", ".incoming-1")
	if err := os.WriteFile(crumb, file, 0o600); err != nil {
		t.Fatal(err)
	}
	e.sweepUploads(true)
	if _, err := os.Stat(crumb); err == nil {
		t.Error("a crumb was left")
	}
	if at, err := e.UploadAt(sum); err != nil || at.Offset != 3000 {
		t.Errorf("%+v %v", at, err)
	}
	if err := part(sum, 3000, 8000); err != nil {
		t.Fatal(err)
	}
	// Its facts are wrong: they can be corrected without sending it again.
	if _, err = e.FinishUpload(ctx, "test", sum, ImageFacts{Firmware: "junco"}); err == nil {
		t.Error("an image without a version was taken")
	}
	img, err := e.FinishUpload(ctx, "test", sum, facts)
	if err != nil || img.SHA256 != sum || img.Size != 8000 {
		t.Fatalf("%+v %v", img, err)
	}
	if list := e.unfinished(); len(list) != 0 {
		t.Errorf("%v was left", list)
	}
	// Something else came in than was said.
	other := strings.Repeat("ab", 32)
	if err := part(other, 0, 100); err != nil {
		t.Fatal(err)
	}
	_, err = e.FinishUpload(ctx, "test", other, facts)
	refused(err, problem.BadInput, "not abab")
	// Two at once; too many; too old.
	if err := e.uploads.hold(other); err != nil {
		t.Fatal(err)
	}
	refused(part(other, 0, 100), problem.Conflict, "is being uploaded already")
	e.uploads.release(other)
	for n := range mostUploads {
		if err := part(fmt.Sprintf("%064x", n), 0, 1); err != nil {
			t.Fatal(err)
		}
	}
	refused(part(other, 0, 100), problem.TooMany, "16 uploads are not finished")
	old := time.Now().Add(-uploadLife - time.Minute)
	if err := os.Chtimes(e.unfinished()[0], old, old); err != nil {
		t.Fatal(err)
	}
	if err := part(other, 0, 100); err != nil {
		t.Errorf("an old upload held a place: %v", err)
	}
}
