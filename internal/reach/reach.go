// Package reach holds the ways to a unit. In this part: the radio that lists
// access points and joins them, and the HTTP client that is bound to a joined
// one. It carries requests; what they say comes from package dialect.
package reach

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"slices"
	"strings"
	"sync"
	"time"

	"fado/internal/core/dialect"
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

// Radio speaks to the stand-in radio of a simulated site. It joins one access
// point at a time; others wait their turn.
type Radio struct {
	base   string
	client *http.Client
	turn   chan struct{}
}

// NewRadio prepares a radio at a base URL.
func NewRadio(base string) *Radio {
	return &Radio{base: strings.TrimRight(base, "/"), client: &http.Client{Timeout: 15 * time.Second}, turn: make(chan struct{}, 1)}
}

// Scan lists the access points on the air.
func (r *Radio) Scan(ctx context.Context) ([]AccessPoint, error) {
	var out struct {
		AccessPoints []AccessPoint `json:"access_points"`
	}
	status, err := r.call(ctx, http.MethodGet, "/radio/access-points", nil, &out)
	if err == nil && status != http.StatusOK {
		err = fmt.Errorf("%w: status %d", ErrDown, status)
	}
	return out.AccessPoints, err
}

// Join joins an access point. The caller must Leave it.
func (r *Radio) Join(ctx context.Context, name string, key secret.Secret) (*Joined, error) {
	select {
	case r.turn <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
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
		<-r.turn
		return nil, err
	}
	jar, _ := cookiejar.New(nil) // it fails only with options
	dialer := &net.Dialer{Timeout: 5 * time.Second}
	j := &Joined{radio: r, client: &http.Client{
		Timeout: 20 * time.Second, Jar: jar,
		// Nothing but the joined access point can be reached, whatever the
		// address says.
		Transport: &http.Transport{DisableKeepAlives: true, DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return dialer.DialContext(ctx, network, out.Gateway)
		}},
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
	return j, nil
}

func (r *Radio) call(ctx context.Context, method, path string, in, out any) (int, error) {
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

// Joined is an access point that was joined: a client that reaches the unit
// behind it and nothing else.
type Joined struct {
	radio  *Radio
	client *http.Client
	once   sync.Once
}

// Leave leaves the access point and lets the next one be joined.
func (j *Joined) Leave() {
	j.once.Do(func() {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		defer cancel()
		_, _ = j.radio.call(ctx, http.MethodPost, "/radio/leave", nil, nil)
		<-j.radio.turn
	})
}

// StatusError says that a unit answered with a status that its dialect does not
// expect.
type StatusError struct {
	Status int
	Body   string
}

// Error gives the status and the start of what the unit said.
func (e *StatusError) Error() string {
	said := strings.Join(strings.Fields(e.Body), " ")
	if len(said) > 160 {
		said = said[:160] + "…"
	}
	return strings.TrimSpace(fmt.Sprintf("status %d %s", e.Status, said))
}

// Do sends one request to the unit at base, such as http://10.47.0.1, and
// returns the body of its reply. Redirects are not followed and long bodies are
// refused.
func (j *Joined) Do(ctx context.Context, base string, r dialect.Request) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, r.Method, strings.TrimRight(base, "/")+r.Path, bytes.NewReader(r.Body))
	if err != nil {
		return nil, fmt.Errorf("build %s %s: %w", r.Method, r.Path, err)
	}
	if r.ContentType != "" {
		req.Header.Set("Content-Type", r.ContentType)
	}
	fail.Point("before set-up request")
	resp, err := j.client.Do(req)
	fail.Point("after set-up request")
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w", r.Method, r.Path, err)
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, dialect.MaxReply+1))
	if err != nil {
		return nil, fmt.Errorf("read the reply to %s %s: %w", r.Method, r.Path, err)
	}
	if len(body) > dialect.MaxReply {
		return nil, fmt.Errorf("the reply to %s %s is longer than %d bytes", r.Method, r.Path, dialect.MaxReply)
	}
	ok := resp.StatusCode >= 200 && resp.StatusCode < 300
	if len(r.Expect) > 0 {
		ok = slices.Contains(r.Expect, resp.StatusCode)
	}
	if !ok {
		return nil, &StatusError{resp.StatusCode, string(body)}
	}
	return body, nil
}
