// Package browser drives Debian's Chromium for the console's tests and its
// screenshots. It finds things as people with a screen reader do, by role and
// accessible name, and waits for what it looks for instead of sleeping.
package browser

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/accessibility"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/dom"
	"github.com/chromedp/chromedp"
)

// ErrNoChromium says that Chromium is not installed.
var ErrNoChromium = errors.New("chromium is not installed; run «make tools» as root, or install Debian's package chromium")

// Browser is one tab of a headless Chromium.
type Browser struct {
	ctx      context.Context
	end      []func()
	mu       sync.Mutex
	problems []string
}

// Open starts a browser with a new, empty profile.
func Open(parent context.Context) (*Browser, error) {
	path, err := exec.LookPath("chromium")
	if err != nil {
		return nil, ErrNoChromium
	}
	dir, err := os.MkdirTemp("", "fado-chromium-")
	if err != nil {
		return nil, err
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.UserDataDir(dir), chromedp.Flag("headless", "new"),
		chromedp.DisableGPU, chromedp.Flag("hide-scrollbars", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-quic", true))
	b := &Browser{}
	alloc, endAlloc := chromedp.NewExecAllocator(parent, opts...)
	ctx, endTab := chromedp.NewContext(alloc)
	b.ctx, b.end = ctx, []func(){endTab, endAlloc, func() { _ = os.RemoveAll(dir) }}
	if err := chromedp.Do(ctx, chromedp.EmulateViewport(1280, 800)); err != nil {
		b.Close()
		return nil, fmt.Errorf("start chromium: %w", err)
	}
	messages := chromedp.Console(ctx)
	go func() {
		for m, err := range messages {
			if err != nil {
				return
			}
			if m.IsException() || m.Type == "error" {
				b.mu.Lock()
				b.problems = append(b.problems, m.String())
				b.mu.Unlock()
			}
		}
	}()
	return b, nil
}

// Close ends the browser.
func (b *Browser) Close() {
	for _, f := range b.end {
		f()
	}
}

// Problems are the errors that the page wrote to its console.
func (b *Browser) Problems() []string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return append([]string(nil), b.problems...)
}

// Forgive forgets the console's errors so far, for a step that provokes one.
func (b *Browser) Forgive() {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.problems = nil
}

// Go opens an address.
func (b *Browser) Go(address string) error { return chromedp.Do(b.ctx, chromedp.Navigate(address)) }

// Size sets the size of the window.
func (b *Browser) Size(width, height int64) error {
	return chromedp.Do(b.ctx, chromedp.EmulateViewport(width, height))
}

// Theme sets the theme and opens the page again in it.
func (b *Browser) Theme(name string) error {
	if _, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](fmt.Sprintf("localStorage.setItem('fado-theme', %q), %q", name, name))); err != nil {
		return err
	}
	return chromedp.Do(b.ctx, chromedp.Reload())
}

// within is how long a thing may take to appear.
const within = 60 * time.Second

// wait polls until holds is true.
func (b *Browser) wait(what string, holds func() (bool, error)) error {
	deadline := time.Now().Add(within)
	for {
		ok, err := holds()
		if ok {
			return nil
		}
		if time.Now().After(deadline) {
			return errors.Join(fmt.Errorf("%s did not appear within %s; the page says: %.4000s", what, within, b.Text()), err, b.ctx.Err())
		}
		select {
		case <-b.ctx.Done():
			return b.ctx.Err()
		case <-time.After(40 * time.Millisecond):
		}
	}
}

// Text is what the page shows.
func (b *Browser) Text() string {
	s, err := chromedp.Run(b.ctx, chromedp.Evaluate[string]("document.body.innerText"))
	if err != nil {
		return err.Error()
	}
	return s
}

// See waits until the page shows a text.
func (b *Browser) See(text string) error {
	return b.wait(fmt.Sprintf("%q", text), func() (bool, error) { return strings.Contains(b.Text(), text), nil })
}

// find waits for a thing of a role and accessible name; for one that can be used,
// where that matters: pressing a button that is disabled for a moment does nothing.
func (b *Browser) find(role, name string, usable bool) (cdp.BackendNodeID, error) {
	var found cdp.BackendNodeID
	err := b.wait(fmt.Sprintf("the %s «%s»", role, name), func() (bool, error) {
		doc, err := chromedp.Call(b.ctx, dom.GetDocument, dom.GetDocumentParams{})
		if err != nil {
			return false, err
		}
		tree, err := chromedp.Call(b.ctx, accessibility.QueryAXTree, accessibility.QueryAXTreeParams{BackendNodeID: doc.Root.BackendNodeID, Role: role, AccessibleName: name})
		if err != nil {
			return false, err
		}
		for _, n := range tree.Nodes {
			if !n.Ignored && n.BackendDOMNodeID != 0 && !(usable && disabled(n)) {
				found = n.BackendDOMNodeID
				return true, nil
			}
		}
		return false, nil
	})
	return found, err
}

func disabled(n *accessibility.Node) bool {
	return slices.ContainsFunc(n.Properties, func(p *accessibility.Property) bool {
		return p.Name == accessibility.PropertyNameDisabled && string(p.Value.Value) == "true"
	})
}

// Has waits for a thing of a role and accessible name.
func (b *Browser) Has(role, name string) error {
	_, err := b.find(role, name, false)
	return err
}

// Press clicks a thing of a role and accessible name.
func (b *Browser) Press(role, name string) error {
	id, err := b.find(role, name, true)
	if err != nil {
		return err
	}
	if _, err := chromedp.Call(b.ctx, dom.ScrollIntoViewIfNeeded, dom.ScrollIntoViewIfNeededParams{BackendNodeID: id}); err != nil {
		return fmt.Errorf("scroll to the %s «%s»: %w", role, name, err)
	}
	// A page that is still filling moves its buttons, and the click would hit
	// another: the place has to be the same three times, a moment apart.
	var x, y float64
	still := 0
	err = b.wait(fmt.Sprintf("the %s «%s» standing still", role, name), func() (bool, error) {
		box, err := chromedp.Call(b.ctx, dom.GetContentQuads, dom.GetContentQuadsParams{BackendNodeID: id})
		if err != nil || len(box.Quads) == 0 {
			still = 0
			if again, e := b.find(role, name, true); e == nil {
				id = again // it was drawn anew
			}
			return false, err
		}
		q := box.Quads[0]
		nowX, nowY := (q[0]+q[4])/2, (q[1]+q[5])/2
		if still++; nowX != x || nowY != y {
			still = 1
		}
		x, y = nowX, nowY
		return still >= 3, nil
	})
	if err != nil {
		return err
	}
	return chromedp.Do(b.ctx, chromedp.MouseClickXY(x, y))
}

// Type clicks a field and types into it.
func (b *Browser) Type(role, name, text string) error {
	if err := b.Press(role, name); err != nil {
		return err
	}
	return chromedp.Do(b.ctx, chromedp.KeyEvent(text))
}

// Fill replaces the text of a field by its label, as pasting over it does.
func (b *Browser) Fill(name, text string) error {
	script := fmt.Sprintf(`(() => {
	  const a = document.querySelector('[aria-label=' + JSON.stringify(%[1]q) + ']') ?? document.getElementById([...document.querySelectorAll("label")].find((l) => l.textContent === %[1]q)?.htmlFor);
	  if (!a) return false;
	  Object.getOwnPropertyDescriptor(Object.getPrototypeOf(a), "value").set.call(a, %[2]s);
	  a.dispatchEvent(new Event("input", { bubbles: true }));
	  return true;
	})()`, name, quoted(text))
	return b.wait(fmt.Sprintf("the field «%s»", name), func() (bool, error) { return chromedp.Run(b.ctx, chromedp.Evaluate[bool](script)) })
}

func quoted(text string) string {
	q, _ := json.Marshal(text)
	return string(q)
}

// Key presses keys where the focus is.
func (b *Browser) Key(keys string) error { return chromedp.Do(b.ctx, chromedp.KeyEvent(keys)) }

// Choose takes an option of a select by the text that it shows.
func (b *Browser) Choose(name, option string) error {
	if err := b.Has("combobox", name); err != nil {
		return err
	}
	script := fmt.Sprintf(`(() => {
	  const root = document.querySelector('[role="dialog"]') ?? document;
	  const label = [...root.querySelectorAll("label")].find((l) => l.textContent === %[1]q);
	  const s = root.querySelector('select[aria-label=' + JSON.stringify(%[1]q) + ']') ?? (label && document.getElementById(label.htmlFor));
	  const o = s && [...s.options].find((o) => o.text === %[2]q);
	  if (!o) return false;
	  Object.getOwnPropertyDescriptor(HTMLSelectElement.prototype, "value").set.call(s, o.value);
	  s.dispatchEvent(new Event("change", { bubbles: true }));
	  return true;
	})()`, name, option)
	return b.wait(fmt.Sprintf("the option «%s» of «%s»", option, name), func() (bool, error) { return chromedp.Run(b.ctx, chromedp.Evaluate[bool](script)) })
}

// Upload chooses a file for the page's one file field.
func (b *Browser) Upload(path string) error {
	return b.wait("a file field", func() (bool, error) {
		doc, err := chromedp.Call(b.ctx, dom.GetDocument, dom.GetDocumentParams{})
		if err != nil {
			return false, err
		}
		found, err := chromedp.Call(b.ctx, dom.QuerySelector, dom.QuerySelectorParams{NodeID: doc.Root.NodeID, Selector: "input[type=file]"})
		if err != nil || found.NodeID == 0 {
			return false, err
		}
		_, err = chromedp.Call(b.ctx, dom.SetFileInputFiles, dom.SetFileInputFilesParams{Files: []string{path}, NodeID: found.NodeID})
		return err == nil, err
	})
}

// Picture takes a PNG of the window, or of the whole page.
func (b *Browser) Picture(path string, whole bool) error {
	shot := chromedp.CaptureScreenshot()
	if whole {
		shot = chromedp.FullScreenshot(100)
	}
	png, err := chromedp.Run(b.ctx, shot)
	if err != nil {
		return err
	}
	return os.WriteFile(path, png, 0o644)
}

// Axe runs axe-core, from its script file, on the page and returns what it
// finds against WCAG 2.2 AA.
func (b *Browser) Axe(script string) ([]string, error) {
	source, err := os.ReadFile(script)
	if err != nil {
		return nil, fmt.Errorf("read axe-core: %w", err)
	}
	if err := chromedp.Do(b.ctx, chromedp.Evaluate[chromedp.Void](string(source))); err != nil {
		return nil, fmt.Errorf("load axe-core: %w", err)
	}
	out, err := chromedp.Run(b.ctx, chromedp.Evaluate[string](
		`axe.run({runOnly: ["wcag2a", "wcag2aa", "wcag21aa", "wcag22aa", "best-practice"]}).then((r) => JSON.stringify(r.violations.map((v) => v.id + ": " + v.help + " — " + v.nodes.slice(0, 3).map((n) => n.html.slice(0, 160) + " " + (n.any[0]?.message ?? "")).join(" | "))))`,
		chromedp.EvalAwaitPromise))
	if err != nil {
		return nil, fmt.Errorf("run axe-core: %w", err)
	}
	var found []string
	return found, json.Unmarshal([]byte(out), &found)
}
