package secret

import (
	"bytes"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"
)

func TestNothingComesOut(t *testing.T) {
	const plain = "segredo-da-adega"
	held := struct {
		Pass  Secret
		Ptr   *Secret
		Other string
	}{New(plain), new(New(plain)), "open"}

	var log bytes.Buffer
	slog.New(slog.NewJSONHandler(&log, nil)).Info("x", "pass", held.Pass, "all", held)
	slog.New(slog.NewTextHandler(&log, nil)).Info("x", "pass", held.Pass, "all", held)
	encoded, err := json.Marshal(held)
	if err != nil {
		t.Fatal(err)
	}
	out := log.String() + string(encoded)
	for _, verb := range []string{"%v", "%+v", "%#v", "%s", "%q", "%x", "%d"} {
		out += fmt.Sprintf(verb, held) + fmt.Sprintf(verb, held.Pass)
	}
	if strings.Contains(out, plain) || strings.Contains(out, fmt.Sprintf("%x", plain)) {
		t.Fatalf("the secret came out: %s", out)
	}
	if !strings.Contains(out, Mask) {
		t.Fatalf("no mask in %s", out)
	}
}

func TestGoesIn(t *testing.T) {
	var held struct{ Pass Secret }
	if err := json.Unmarshal([]byte(`{"Pass":"abc"}`), &held); err != nil {
		t.Fatal(err)
	}
	if held.Pass.Expose() != "abc" || held.Pass.IsZero() {
		t.Fatalf("got %q", held.Pass.Expose())
	}
}
