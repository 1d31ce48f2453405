// Package engine is what runs: it takes in what units say, keeps presence,
// carries out the commands of tasks, and keeps hub and broker accounts in step
// with the records. The rules it applies are in package core; it decides
// nothing that could be decided there. It knows nothing of HTTP sessions or of
// the command line.
package engine

import (
	"cmp"
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"fado/internal/broker"
	"fado/internal/carrier"
	"fado/internal/clock"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/reach"
	"fado/internal/store"
)

// Engine is the running service below its API.
type Engine struct {
	Store     *store.Store
	Clock     clock.Clock
	Log       *slog.Logger
	Changes   *Changes
	bus       broker.Bus
	embedded  *broker.Embedded // nil with a broker elsewhere
	managed   *broker.Managed  // nil unless a broker elsewhere lets its accounts be managed
	ownTLS    bool             // the embedded broker shows a certificate of its own authority
	link      link
	radio     *reach.Turns     // nil without one
	byHand    bool             // it is a person who joins
	multicast *reach.Multicast // nil when it does not ask on its own link
	catalog   *catalog
	ingest    *ingest
	tasks     *tasks
	rollouts  *rollouts
	firsts    *firsts
	dangers   *dangers
	downloads *downloads
	uploads   *uploads
	reread    *reread
	net       carrier.Net
	checker   *http.Client
	finds     finds
	ctx       context.Context
	stop      context.CancelFunc
	work      sync.WaitGroup
}

// Parts is what an engine is made from.
type Parts struct {
	Store     *store.Store
	Clock     clock.Clock
	Log       *slog.Logger
	Bus       broker.Bus
	Embedded  *broker.Embedded
	Managed   *broker.Managed
	OwnTLS    bool // the embedded broker shows a certificate of an authority that Fado keeps
	Radio     *reach.Turns
	ByHand    bool // a person joins access points; Radio is nil
	Multicast *reach.Multicast
	Net       carrier.Net // to units, brokers and hubs
	AtOnce    int         // units that are commissioned at once; 0 for 32
}

// Start loads what is kept, takes up what was under way, and runs until Stop.
func Start(p Parts) (*Engine, error) {
	ctx, cancel := context.WithCancel(context.Background())
	e := &Engine{Store: p.Store, Clock: p.Clock, Log: p.Log, Changes: NewChanges(), bus: p.Bus, embedded: p.Embedded, managed: p.Managed, ownTLS: p.OwnTLS, radio: p.Radio, multicast: p.Multicast,
		net: p.Net, checker: &http.Client{Timeout: 5 * time.Second, Transport: p.Net.Transport()}, ctx: ctx, stop: cancel}
	if p.ByHand {
		e.byHand = true
		e.radio = reach.Share(newByHand(e), p.Clock)
	}
	e.catalog = &catalog{}
	e.ingest = newIngest(e)
	e.tasks = newTasks(e, cmp.Or(p.AtOnce, 32))
	e.rollouts = newRollouts(e)
	e.firsts = newFirsts(e)
	e.dangers = newDangers()
	e.downloads = newDownloads(e)
	e.uploads = &uploads{busy: map[string]bool{}}
	e.sweepUploads(true)
	e.reread = newReread(e)
	e.link.due = make(chan struct{}, 1)
	e.link.heard = make(chan time.Time, 1)
	for _, load := range []func() error{e.loadCatalog, e.loadTrust, e.loadAccounts, e.ingest.load, e.ingest.loadSaid} {
		if err := load(); err != nil {
			cancel()
			return nil, err
		}
	}
	e.work.Go(func() { e.Changes.run(ctx) })
	e.work.Go(func() { e.ingest.run(ctx) })
	if err := e.bus.Subscribe(ctx, "#", e.ingest.take); err != nil {
		e.Stop()
		return nil, fmt.Errorf("listen on the broker: %w", err)
	}
	for _, takeUp := range []func() error{e.tasks.takeUp, e.rollouts.takeUp} {
		if err := takeUp(); err != nil {
			e.Stop()
			return nil, err
		}
	}
	e.work.Go(func() { e.reread.run(ctx) })
	e.work.Go(func() { e.reread.rounds(ctx) })
	e.work.Go(func() { e.scanLoop(ctx) })
	e.work.Go(func() { e.findLoop(ctx) })
	e.work.Go(func() { e.outgoingLoop(ctx) })
	e.work.Go(func() { e.hubLoop(ctx) })
	e.work.Go(func() { e.presenceLoop(ctx) })
	e.work.Go(func() { e.linkLoop(ctx) })
	e.work.Go(func() { e.certificateLoop(ctx) })
	e.work.Go(func() { e.feedLoop(ctx) })
	e.work.Go(func() { e.downloads.run(ctx) })
	e.work.Go(func() { e.alertLoop(ctx) })
	if e.managed != nil {
		e.work.Go(func() { e.accountsLoop(ctx) })
	}
	return e, nil
}

// Stop ends all work and waits for it. What was under way is taken up at the
// next start.
func (e *Engine) Stop() {
	e.stop()
	e.rollouts.wait()
	e.tasks.wait()
	e.work.Wait()
}

// Ready reports whether the service can do its work, and why not.
func (e *Engine) Ready(ctx context.Context) error {
	if !e.bus.Connected() {
		return fmt.Errorf("the broker is not connected")
	}
	_, err := store.Count[store.Site](e.Store.Read(ctx), "1 = 1")
	return err
}

// HasRadio reports whether access points can be listed and joined.
func (e *Engine) HasRadio() bool { return e.radio != nil }

// Sessions counts the clients of the embedded broker.
func (e *Engine) Sessions() int {
	if e.embedded == nil {
		return 0
	}
	return e.embedded.Sessions()
}

// event writes an event in a transaction and tells the live stream.
func (e *Engine) event(tx *store.Tx, ev store.Event) error {
	ev.At = e.Clock.Now()
	e.mark(tx, "event", "")
	return store.Log(tx, ev)
}

// mark notes a change for the live stream, which hears of it once it is
// committed: told earlier, a console would read the old state and keep it.
func (e *Engine) mark(tx *store.Tx, kind, id string) {
	tx.After(func() { e.Changes.Mark(kind, id) })
}

// Record writes an event of its own.
func (e *Engine) Record(ctx context.Context, ev store.Event) error {
	return e.Store.Write(ctx, func(tx *store.Tx) error { return e.event(tx, ev) })
}

// Seal and Open keep secrets in the records; place binds a secret to where it
// belongs.
func (e *Engine) seal(place, id string, s secret.Secret) []byte {
	return e.Store.Seal(place+"/"+id, s)
}

func (e *Engine) open(place, id string, sealed []byte) (secret.Secret, error) {
	return e.Store.Open(place+"/"+id, sealed)
}

func notFound(what, name string) error {
	if what == "sighting" {
		return problem.New(problem.NotFound, fmt.Sprintf("No unit was seen as %q.", name), "It was misspelt, or it is gone.", "List what was seen with «fado bench list --all».")
	}
	return problem.New(problem.NotFound, fmt.Sprintf("There is no %s %q.", what, name), "It was misspelt or removed.", fmt.Sprintf("List what there is with «fado %s list».", what))
}

// Changes tells the live stream which objects changed: the latest change of
// each object, at most four times a second.
type Changes struct {
	mu      sync.Mutex
	pending map[Change]bool
	marked  chan struct{} // something is pending
	ring    []Change
	first   uint64 // sequence number of ring[0]
	wake    map[chan struct{}]bool
}

// Change names an object that changed.
type Change struct {
	Kind string `json:"kind"`
	ID   string `json:"id"`
}

const ringSize = 4096

// NewChanges makes an empty stream.
func NewChanges() *Changes {
	return &Changes{pending: map[Change]bool{}, marked: make(chan struct{}, 1), wake: map[chan struct{}]bool{}, first: 1}
}

// Mark notes that an object changed.
func (c *Changes) Mark(kind, id string) {
	c.mu.Lock()
	c.pending[Change{kind, id}] = true
	c.mu.Unlock()
	select {
	case c.marked <- struct{}{}:
	default: // it knows
	}
}

func (c *Changes) run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-c.marked:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(250 * time.Millisecond): // more of the same come together
		}
		c.mu.Lock()
		if len(c.pending) > 0 {
			for change := range c.pending {
				c.ring = append(c.ring, change)
			}
			clear(c.pending)
			if over := len(c.ring) - ringSize; over > 0 {
				c.ring = append([]Change(nil), c.ring[over:]...)
				c.first += uint64(over)
			}
			for ch := range c.wake {
				select {
				case ch <- struct{}{}:
				default:
				}
			}
		}
		c.mu.Unlock()
	}
}

// Listen returns a channel that is poked when there are new changes, and a
// function that ends it.
func (c *Changes) Listen() (<-chan struct{}, func()) {
	ch := make(chan struct{}, 1)
	c.mu.Lock()
	c.wake[ch] = true
	c.mu.Unlock()
	return ch, func() {
		c.mu.Lock()
		delete(c.wake, ch)
		c.mu.Unlock()
	}
}

// Since returns the changes after a sequence number and the number of the last.
// ok is false when that number is too old or not one of this stream: the
// listener must read everything again.
func (c *Changes) Since(seq uint64) (out []Change, last uint64, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	last = c.first + uint64(len(c.ring)) - 1
	if seq+1 < c.first || seq > last {
		return nil, last, false
	}
	return append(out, c.ring[seq+1-c.first:]...), last, true
}
