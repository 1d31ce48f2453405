package browser

import (
	"net/url"
	"testing"
)

// TestAPressWaitsUntilTheButtonCanBeUsed: a click on a button that is disabled
// for a moment would be lost.
func TestAPressWaitsUntilTheButtonCanBeUsed(t *testing.T) {
	b, err := Open(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	page := `<button disabled onclick="document.body.append('pressed')">Go on</button><script>setTimeout(() => document.querySelector("button").disabled = false, 700)</script>`
	for _, do := range []func() error{
		func() error { return b.Go("data:text/html," + url.PathEscape(page)) },
		func() error { return b.Has("button", "Go on") },
		func() error { return b.Press("button", "Go on") },
		func() error { return b.See("pressed") },
	} {
		if err := do(); err != nil {
			t.Fatal(err)
		}
	}
}
