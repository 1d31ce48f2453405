package engine

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"fado/internal/core/dialect"
	"fado/internal/core/inventory"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/reach"
	"fado/internal/store"
)

// byHand is the radio of a machine whose user joins access points with what the
// operating system offers. It notices that a set-up address answers, and which
// unit it is by asking it. Before it is known who answers, nothing is sent but that
// question, and the login that it may want.
type byHand struct {
	e    *Engine
	line *reach.Line

	mu    sync.Mutex
	tried map[string]bool // logins that the unit that is there refused, by device
}

func newByHand(e *Engine) *byHand {
	return &byHand{e: e, line: reach.Beside(e.net), tried: map[string]bool{}}
}

// answerTime is how long a set-up address is waited for: a machine that is joined
// to the access point reaches it at once. It is never scaled.
const answerTime = 3 * time.Second

// Scan implements reach.Radio.
func (b *byHand) Scan(ctx context.Context) ([]reach.AccessPoint, error) {
	at := map[string][]*dialect.Dialect{}
	for _, d := range b.e.Dialects() {
		at[d.SetUp.At] = append(at[d.SetUp.At], d)
	}
	out := []reach.AccessPoint{}
	var mu sync.Mutex
	var work sync.WaitGroup
	for _, base := range slices.Sorted(maps.Keys(at)) {
		work.Go(func() {
			ctx, cancel := context.WithTimeout(ctx, answerTime)
			defer cancel()
			for _, d := range at[base] {
				name, there := b.who(ctx, d)
				if name != "" {
					mu.Lock()
					out = append(out, reach.AccessPoint{Name: name, Open: true})
					mu.Unlock()
				}
				if name != "" || !there {
					return
				}
			}
		})
	}
	work.Wait()
	if len(out) == 0 {
		b.mu.Lock()
		clear(b.tried)
		b.mu.Unlock()
	}
	slices.SortFunc(out, func(x, y reach.AccessPoint) int { return strings.Compare(x.Name, y.Name) })
	return out, ctx.Err()
}

// who asks the unit at a family's set-up address for its hardware id, and names
// the access point that it must have. Where only its login opens it, those of the
// devices that are being commissioned are tried, each once. there is false when
// nothing answers.
func (b *byHand) who(ctx context.Context, d *dialect.Dialect) (name string, there bool) {
	ask := func(dev store.Device, code secret.Secret, pinned settings.Values) (string, error) {
		w := &worker{e: b.e, r: &runner{pinned: pinned, ctx: ctx}, d: dev, dl: d, askID: "look"}
		values := b.e.context(dev, code)
		values["ask_id"] = w.askID
		once := d.Identify
		once.Retries = 0
		facts, err := reach.NewTalk(b.line, d.SetUp.At, d.SetUp.Login, w.loginValues(values), b.e.Clock).Do(ctx, &once, values)
		if err != nil {
			return "", err
		}
		h, err := inventory.ParseHardwareID(facts.Text("hardware_id"))
		if err != nil {
			return "", err
		}
		return d.AccessPointName(h.Digits()), nil
	}
	name, err := ask(store.Device{}, secret.Secret{}, nil)
	if err == nil {
		return name, true
	}
	if code := failureCode(err, "answered", ""); code == "" {
		return "", false
	} else if code != "login_refused" {
		return "", true // another family's unit
	}
	b.e.tasks.mu.Lock()
	under := slices.Collect(maps.Values(b.e.tasks.live))
	b.e.tasks.mu.Unlock()
	for _, r := range under {
		dev, err := store.One[store.Device](b.e.Store.Read(ctx), "id = ?", r.device)
		if err != nil || r.kind != task.Commission {
			continue
		}
		if m, ok := b.e.Model(dev.Model); !ok || m.Dialect != d.Name {
			continue
		}
		b.mu.Lock()
		tried := b.tried[dev.ID]
		b.tried[dev.ID] = true
		b.mu.Unlock()
		if tried {
			continue
		}
		code, err := b.e.open("set-up code", dev.ID, dev.SetUpCode)
		if err != nil {
			continue
		}
		if name, err := ask(dev, code, r.pinned); err == nil {
			b.mu.Lock()
			delete(b.tried, dev.ID) // it opens; it may be asked again
			b.mu.Unlock()
			return name, true
		}
	}
	return "", true
}

// Join implements reach.Radio: the person has joined it.
func (b *byHand) Join(context.Context, string, secret.Secret) (*reach.Joined, error) {
	return reach.NewJoined(reach.Beside(b.e.net), func() {}), nil
}
