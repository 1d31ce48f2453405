package reach

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"fado/internal/clock"
	"fado/internal/core/secret"
)

// Turns shares a radio, which can join one access point at a time, between many.
// Whoever is most urgent is next, and of those the one who has waited longest.
type Turns struct {
	radio   Radio
	clock   clock.Clock
	listing chan struct{} // held while listing; guards the list
	list    []AccessPoint
	listed  time.Time
	mu      sync.Mutex
	busy    bool
	waiting []*turn
}

type turn struct {
	urgency int
	mine    chan struct{}
}

// Share lets many use a radio.
func Share(r Radio, c clock.Clock) *Turns {
	return &Turns{radio: r, clock: c, listing: make(chan struct{}, 1)}
}

// Scan lists the access points on the air now. It waits for nobody's turn.
func (t *Turns) Scan(ctx context.Context) ([]AccessPoint, error) { return t.scan(ctx, 0) }

// Recent is Scan for those who look again and again: who asks within a moment of
// another gets the same list, since listing takes a radio seconds.
func (t *Turns) Recent(ctx context.Context) ([]AccessPoint, error) { return t.scan(ctx, moment) }

// Since is Scan for those whom a list that was made after a moment is good enough.
func (t *Turns) Since(ctx context.Context, at time.Time) ([]AccessPoint, error) {
	return t.scan(ctx, t.clock.Now().Sub(at))
}

func (t *Turns) scan(ctx context.Context, good time.Duration) ([]AccessPoint, error) {
	select {
	case t.listing <- struct{}{}:
		defer func() { <-t.listing }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if now := t.clock.Now(); t.list == nil || now.Sub(t.listed) >= good {
		list, err := t.radio.Scan(ctx)
		if err != nil {
			return nil, err
		}
		t.list, t.listed = list, t.clock.Now()
	}
	return slices.Clone(t.list), nil
}

// moment is how long a list of access points is good.
const moment = time.Second

// Join waits for a turn and joins an access point; the turn ends when it is
// left. The keys are tried one after the other.
func (t *Turns) Join(ctx context.Context, urgency int, name string, keys ...secret.Secret) (*Joined, error) {
	if err := t.take(ctx, urgency); err != nil {
		return nil, err
	}
	err := ErrKeyRefused
	for _, key := range keys {
		var j *Joined
		if j, err = t.radio.Join(ctx, name, key); err == nil {
			return NewJoined(j.Line, func() {
				j.Leave()
				t.pass()
			}), nil
		}
		if !errors.Is(err, ErrKeyRefused) {
			break
		}
	}
	t.pass()
	return nil, err
}

func (t *Turns) take(ctx context.Context, urgency int) error {
	t.mu.Lock()
	if !t.busy {
		t.busy = true
		t.mu.Unlock()
		return nil
	}
	me := &turn{urgency, make(chan struct{})}
	i := len(t.waiting)
	for i > 0 && t.waiting[i-1].urgency < urgency {
		i--
	}
	t.waiting = slices.Insert(t.waiting, i, me)
	t.mu.Unlock()
	select {
	case <-me.mine:
		return nil
	case <-ctx.Done():
	}
	t.mu.Lock()
	i = slices.Index(t.waiting, me)
	if i >= 0 {
		t.waiting = slices.Delete(t.waiting, i, i+1)
	}
	t.mu.Unlock()
	if i < 0 {
		t.pass() // it became ours just now
	}
	return ctx.Err()
}

func (t *Turns) pass() {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.waiting) == 0 {
		t.busy = false
		return
	}
	next := t.waiting[0]
	t.waiting = slices.Delete(t.waiting, 0, 1)
	close(next.mine)
}
