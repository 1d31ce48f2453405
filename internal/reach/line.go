package reach

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/text/encoding/htmlindex"

	"fado/internal/carrier"
	"fado/internal/core/dialect"
	"fado/internal/fail"
)

// Line is an HTTP client that reaches one unit and nothing else: it follows no
// redirect, waits a bounded time and reads a bounded reply.
type Line struct {
	client *http.Client
	sent   *atomic.Int64 // bytes of the last request's body that went out
}

// Sent is how many bytes of its body the last request has handed to the network.
// Whether they arrived is not known.
func (l *Line) Sent() int64 { return l.sent.Load() }

// Patiently gives each reply more time: an image takes longer to send, and to write.
func (l *Line) Patiently(d time.Duration) { l.client.Timeout = d }

// counted counts what is read of a body.
type counted struct {
	from io.Reader
	n    *atomic.Int64
}

func (c counted) Read(p []byte) (int, error) {
	n, err := c.from.Read(p)
	c.n.Add(int64(n))
	return n, err
}

// replyTime is how long a unit may take for one reply. It is a matter of the
// network and never scaled.
const replyTime = 20 * time.Second

func newLine(t http.RoundTripper) *Line {
	jar, _ := cookiejar.New(nil) // it fails only with options
	return &Line{&http.Client{Timeout: replyTime, Jar: jar, Transport: t,
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}, new(atomic.Int64)}
}

// ErrAddress says that an address cannot be a unit's.
var ErrAddress = errors.New("no address of a unit in a home's network")

// LAN makes a line to a unit in the home's network. proxy is the HTTP proxy
// through which the site is reached; "" when the service stands in the site.
func LAN(address, proxy string, n carrier.Net) (*Line, error) {
	a, err := netip.ParseAddr(address)
	if err != nil || a.IsLoopback() || a.IsMulticast() || a.IsUnspecified() || a.IsLinkLocalUnicast() || !a.IsPrivate() {
		return nil, fmt.Errorf("%q is %w", address, ErrAddress)
	}
	t := n.Transport()
	if proxy == "" {
		// Whatever a page names, only this address is dialled.
		t.DialContext = func(ctx context.Context, network, to string) (net.Conn, error) {
			_, port, err := net.SplitHostPort(to)
			if err != nil {
				return nil, err
			}
			return n.Dial(ctx, network, net.JoinHostPort(a.String(), port))
		}
		return newLine(t), nil
	}
	p, err := url.Parse(proxy)
	if err != nil {
		return nil, fmt.Errorf("the site's proxy %q is no address: %w", proxy, err)
	}
	t.Proxy = http.ProxyURL(p)
	return newLine(t), nil
}

// StatusError says that a unit answered with a status that its dialect does not
// expect.
type StatusError struct {
	Status int
	Body   string
	To     string // where a redirect points
}

// Error gives the status and the start of what the unit said.
func (e *StatusError) Error() string {
	if e.To != "" {
		return fmt.Sprintf("status %d, a redirect to %.80s, which is not followed", e.Status, e.To)
	}
	said := strings.Join(strings.Fields(e.Body), " ")
	if len(said) > 160 {
		said = strings.ToValidUTF8(said[:160], "") + "…"
	}
	return strings.TrimSpace(fmt.Sprintf("status %d %s", e.Status, said))
}

// Do sends one request to the unit at base, such as http://10.47.0.1, and
// returns the body of its reply as UTF-8.
func (l *Line) Do(ctx context.Context, base string, r dialect.Request) ([]byte, error) {
	return l.send(ctx, base, r, nil)
}

func (l *Line) send(ctx context.Context, base string, r dialect.Request, prepare func(*http.Request)) ([]byte, error) {
	l.sent.Store(0)
	req, err := http.NewRequestWithContext(ctx, r.Method, strings.TrimRight(base, "/")+r.Path, counted{bytes.NewReader(r.Body), l.sent})
	if err != nil {
		return nil, fmt.Errorf("build %s %s: %w", r.Method, r.Path, err)
	}
	if req.ContentLength = int64(len(r.Body)); len(r.Body) == 0 {
		req.Body = http.NoBody
	}
	// A digest login sends a request twice.
	req.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(counted{bytes.NewReader(r.Body), l.sent}), nil }
	if r.ContentType != "" {
		req.Header.Set("Content-Type", r.ContentType)
	}
	for k, v := range r.Headers {
		req.Header.Set(k, v)
	}
	if prepare != nil {
		prepare(req)
	}
	fail.Point("before set-up request")
	resp, err := l.client.Do(req)
	fail.Point("after set-up request")
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w", r.Method, r.Path, bare(err))
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, dialect.MaxReply+1))
	if err != nil {
		return nil, fmt.Errorf("read the reply to %s %s: %w", r.Method, r.Path, err)
	}
	if len(body) > dialect.MaxReply {
		return nil, fmt.Errorf("the reply to %s %s is longer than %d bytes", r.Method, r.Path, dialect.MaxReply)
	}
	body, err = utf8Body(body, resp.Header.Get("Content-Type"))
	if err != nil {
		return nil, fmt.Errorf("read the reply to %s %s: %w", r.Method, r.Path, err)
	}
	ok := resp.StatusCode >= 200 && resp.StatusCode < 300
	if len(r.Expect) > 0 {
		ok = slices.Contains(r.Expect, resp.StatusCode)
	}
	if !ok {
		s := &StatusError{Status: resp.StatusCode, Body: string(body)}
		if resp.StatusCode >= 300 && resp.StatusCode < 400 {
			s.To = resp.Header.Get("Location")
		}
		return nil, s
	}
	return body, nil
}

// bare takes the method and the address off a client's error: they may hold
// what a person typed, and are said anyway.
func bare(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// utf8Body turns a reply in another charset (RFC 9110, section 8.3.2) into
// UTF-8.
func utf8Body(body []byte, contentType string) ([]byte, error) {
	_, params, err := mime.ParseMediaType(contentType)
	name := strings.ToLower(params["charset"])
	if err != nil || name == "" || name == "utf-8" || name == "us-ascii" {
		return body, nil
	}
	enc, err := htmlindex.Get(name)
	if err != nil {
		return nil, fmt.Errorf("it is in the charset %q, which is not known", name)
	}
	return enc.NewDecoder().Bytes(body)
}

// Beside makes a line to whatever this machine itself reaches, as it does after
// somebody has joined an access point with it.
func Beside(n carrier.Net) *Line { return newLine(n.Transport()) }
