// Package reach holds the ways to a unit: the radio that lists access points and
// joins them, the home's network, and the conversation over either. It carries
// requests to the one unit they are meant for and never decides what they say,
// which is for package dialect.
package reach

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"fado/internal/carrier"
	"fado/internal/core/secret"
	"fado/internal/fail"
)

// The ways in which a radio fails.
var (
	ErrNotSeen    = errors.New("the access point is not on the air")
	ErrKeyRefused = errors.New("the access point refused the key")
	ErrDown       = errors.New("the radio does not answer")
)

// AccessPoint is one that the radio hears.
type AccessPoint struct {
	Name   string `json:"name"`
	BSSID  string `json:"bssid"`
	Signal int    `json:"signal"` // dBm
	Open   bool   `json:"open"`
}

// Radio lists access points and joins one at a time. Who uses it together with
// others asks for a turn first, see Turns.
type Radio interface {
	// Scan lists the access points on the air.
	Scan(ctx context.Context) ([]AccessPoint, error)
	// Join joins an access point, with an empty key for an open one, and gives
	// the line to the unit behind it, which the caller has to Leave. It fails
	// with ErrNotSeen, ErrKeyRefused or ErrDown.
	Join(ctx context.Context, name string, key secret.Secret) (*Joined, error)
}

// StandIn is the radio of a simulated site.
type StandIn struct {
	net    carrier.Net
	base   string
	client *http.Client
}

// NewStandIn prepares a radio at a base URL.
func NewStandIn(base string, n carrier.Net) *StandIn {
	return &StandIn{net: n, base: strings.TrimRight(base, "/"), client: &http.Client{Timeout: 15 * time.Second, Transport: n.Transport()}}
}

// Scan implements Radio.
func (r *StandIn) Scan(ctx context.Context) ([]AccessPoint, error) {
	var out struct {
		AccessPoints []AccessPoint `json:"access_points"`
	}
	status, err := r.call(ctx, http.MethodGet, "/radio/access-points", nil, &out)
	if err == nil && status != http.StatusOK {
		err = fmt.Errorf("%w: status %d", ErrDown, status)
	}
	return out.AccessPoints, err
}

// Join implements Radio.
func (r *StandIn) Join(ctx context.Context, name string, key secret.Secret) (*Joined, error) {
	fail.Point("before join")
	var out struct{ Gateway string }
	status, err := r.call(ctx, http.MethodPost, "/radio/join", map[string]string{"name": name, "key": key.Expose()}, &out)
	fail.Point("after join")
	switch {
	case err != nil:
	case status == http.StatusNotFound:
		err = ErrNotSeen
	case status == http.StatusForbidden:
		err = ErrKeyRefused
	case status != http.StatusOK:
		err = fmt.Errorf("%w: status %d", ErrDown, status)
	}
	if err != nil {
		return nil, err
	}
	// Nothing but the joined access point can be reached, whatever the address
	// says.
	return NewJoined(newLine(r.net.Only(out.Gateway)), func() {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		_, _ = r.call(ctx, http.MethodPost, "/radio/leave", nil, nil)
	}), nil
}

func (r *StandIn) call(ctx context.Context, method, path string, in, out any) (int, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return 0, err
		}
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, r.base+path, body)
	if err != nil {
		return 0, err
	}
	resp, err := r.client.Do(req)
	if err != nil {
		return 0, fmt.Errorf("%w: %w", ErrDown, err)
	}
	defer resp.Body.Close()
	if out != nil && resp.StatusCode == http.StatusOK {
		if err := json.NewDecoder(io.LimitReader(resp.Body, 1<<20)).Decode(out); err != nil {
			return resp.StatusCode, fmt.Errorf("%w: %w", ErrDown, err)
		}
	}
	return resp.StatusCode, nil
}

// Joined is an access point that was joined: a line to the unit behind it.
type Joined struct {
	*Line
	leave func()
	once  sync.Once
}

// NewJoined makes one that is left by calling leave.
func NewJoined(l *Line, leave func()) *Joined { return &Joined{Line: l, leave: leave} }

// Leave leaves the access point. Leaving twice is leaving once.
func (j *Joined) Leave() { j.once.Do(j.leave) }
