package secret

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html"
	"log/slog"
	"net/url"
	"slices"
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

// TestHide: a secret is masked however a unit spells it when it repeats it, and
// nothing else is.
func TestHide(t *testing.T) {
	const plain = `a"b & c/<ç>%`
	among := slices.Values([]any{New(plain), New("a\"b"), New(""), "open", 7})
	for said, want := range map[string]string{
		"pass " + plain + " refused":                    "pass ••• refused",
		"pass " + html.EscapeString(plain) + " refused": "pass ••• refused",
		"pass a&quot;b &amp; c/&lt;ç&gt;% refused":      "pass ••• refused",
		`{"pass":"a\"b & c/<ç>%"}`:                      `{"pass":"•••"}`,
		`{"pass":"a\"b \u0026 c/\u003cç\u003e%"}`:       `{"pass":"•••"}`,
		"/again?pass=" + url.QueryEscape(plain):         "/again?pass=•••",
		"/again/" + url.PathEscape(plain):               "/again/•••",
		`the other one, a"b, and open, 7`:               "the other one, •••, and open, 7",
		"nothing secret":                                "nothing secret",
	} {
		if got := Hide(said, among); got != want {
			t.Errorf("%s: %s; want %s", said, got, want)
		}
	}
}
