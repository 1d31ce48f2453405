package engine

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"fado/internal/core/firmware"
	"fado/internal/core/problem"
	"fado/internal/store"
)

// What is left of uploads that were not finished.
const (
	uploadPrefix = ".upload-"
	uploadLife   = 48 * time.Hour
	mostUploads  = 16
)

var sha256Hex = regexp.MustCompile(`^[0-9a-f]{64}$`)

// uploads are files that come in by parts. A file is named by what it will be: its
// SHA-256; so an upload that broke off, or outlived a restart, is taken up by whoever
// has the same file.
type uploads struct {
	mu   sync.Mutex
	busy map[string]bool
}

// Upload is how far a file has come in.
type Upload struct {
	SHA256 string
	Offset int64
}

func (e *Engine) uploadPath(sum string) (string, error) {
	if !sha256Hex.MatchString(sum) {
		var f problem.Fields
		f.Add("sha256", "the file's SHA-256, 64 lower-case hexadecimal digits", strings.Repeat("0123456789abcdef", 4))
		return "", f.Err("The upload was refused.")
	}
	return filepath.Join(e.Store.Dir(), "images", uploadPrefix+sum), nil
}

// hold keeps two from writing to one file.
func (u *uploads) hold(sum string) error {
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.busy[sum] {
		return problem.New(problem.Conflict, "This file is being uploaded already.", "Another window or program sends it.", "Wait until that has ended, then go on.")
	}
	u.busy[sum] = true
	return nil
}

func (u *uploads) release(sum string) {
	u.mu.Lock()
	defer u.mu.Unlock()
	delete(u.busy, sum)
}

// UploadAt tells how far a file has come in; nothing yet is no error.
func (e *Engine) UploadAt(sum string) (Upload, error) {
	path, err := e.uploadPath(sum)
	if err != nil {
		return Upload{}, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return Upload{SHA256: sum}, nil
	}
	return Upload{sum, info.Size()}, nil
}

// UploadPart adds a part at where the file ends.
func (e *Engine) UploadPart(ctx context.Context, sum string, offset int64, part io.Reader) (Upload, error) {
	path, err := e.uploadPath(sum)
	if err != nil {
		return Upload{}, err
	}
	if err := e.uploads.hold(sum); err != nil {
		return Upload{}, err
	}
	defer e.uploads.release(sum)
	at, err := e.UploadAt(sum)
	if err != nil {
		return at, err
	}
	if offset != at.Offset {
		return at, problem.New(problem.Conflict, fmt.Sprintf("The file stands at byte %d; the part is for byte %d.", at.Offset, offset), "A part was sent twice, or one is missing.", "Ask where it stands and go on from there.")
	}
	if at.Offset == 0 {
		e.sweepUploads(false)
		if n := len(e.unfinished()); n >= mostUploads {
			return at, problem.New(problem.TooMany, fmt.Sprintf("%d uploads are not finished.", n), "They were begun and broke off.", "Finish one of them; what is older than two days goes by itself.")
		}
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return at, fmt.Errorf("keep the upload: %w", err)
	}
	defer f.Close()
	n, err := io.Copy(f, io.LimitReader(part, firmware.MaxImage-at.Offset+1))
	at.Offset += n
	if at.Offset > firmware.MaxImage {
		_ = os.Remove(path)
		return at, problem.New(problem.BadInput, fmt.Sprintf("The image is longer than %d MiB.", firmware.MaxImage>>20), "This is not a firmware image for a small device.", "Choose the right file.")
	}
	if err != nil && ctx.Err() == nil {
		return at, fmt.Errorf("keep the upload: %w", err)
	}
	return at, f.Sync()
}

// FinishUpload adds an image that came in by parts, when it is the file that it was
// said to be.
func (e *Engine) FinishUpload(ctx context.Context, actor, sum string, facts ImageFacts) (store.Image, error) {
	path, err := e.uploadPath(sum)
	if err != nil {
		return store.Image{}, err
	}
	if err := e.uploads.hold(sum); err != nil {
		return store.Image{}, err
	}
	defer e.uploads.release(sum)
	b, err := os.ReadFile(path)
	if err != nil {
		return store.Image{}, problem.New(problem.NotFound, "Nothing of this file has come in.", "It was never sent, or was not finished within two days.", "Send it again.")
	}
	if got := sumOf(b); got != sum {
		_ = os.Remove(path)
		return store.Image{}, problem.New(problem.BadInput, fmt.Sprintf("The file that came in has SHA-256 %.12s…, not %.12s….", got, sum), "It was changed while it was sent.", "Send it again, from its start.")
	}
	f, err := os.Open(path)
	if err != nil {
		return store.Image{}, fmt.Errorf("read the upload: %w", err)
	}
	defer f.Close()
	img, err := e.AddImage(ctx, actor, f, facts)
	if err == nil {
		_ = os.Remove(path)
	}
	return img, err // what is wrong with its facts can be corrected without sending it again
}

func (e *Engine) unfinished() []string {
	list, _ := filepath.Glob(filepath.Join(e.Store.Dir(), "images", uploadPrefix+"*"))
	return list
}

// sweepUploads removes uploads that nobody goes on with, and at a start what a crash
// left of images that were being stored.
func (e *Engine) sweepUploads(start bool) {
	for _, path := range e.unfinished() {
		if info, err := os.Stat(path); err == nil && time.Since(info.ModTime()) > uploadLife {
			_ = os.Remove(path)
		}
	}
	if !start {
		return
	}
	list, _ := filepath.Glob(filepath.Join(e.Store.Dir(), "images", ".incoming-*"))
	for _, path := range list {
		_ = os.Remove(path)
	}
}
