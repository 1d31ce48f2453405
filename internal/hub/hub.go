// Package hub is the client of a hub's Thing directory, as W3C WoT Discovery
// describes it: it starts at /.well-known/wot and follows what the directory
// says of itself. It does not write Thing Descriptions; package thing does.
package hub

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/yosida95/uritemplate/v3"

	"fado/internal/carrier"
	"fado/internal/core/secret"
	"fado/internal/core/thing"
	"fado/internal/fail"
)

// The ways in which a hub fails.
var (
	ErrDown     = errors.New("the hub cannot be reached")
	ErrSlow     = fmt.Errorf("%w: it took too long", ErrDown)
	ErrRefused  = errors.New("the hub refused")
	ErrDenied   = fmt.Errorf("%w: it does not accept the token", ErrRefused)
	ErrNonsense = fmt.Errorf("%w: it answers what is no Thing directory", ErrRefused)
	ErrNone     = errors.New("the hub has no such thing")
)

// Directory is a hub's Thing directory.
type Directory struct {
	base   string
	token  secret.Secret
	client *http.Client
}

// Open prepares a directory at a base URL. A token, when there is one, is sent
// as a bearer token (RFC 6750) to that address alone.
func Open(base string, token secret.Secret, n carrier.Net) *Directory {
	return &Directory{base: strings.TrimRight(base, "/"), token: token, client: &http.Client{
		Timeout: 10 * time.Second, Transport: n.Transport(),
		CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
	}}
}

type affordance struct {
	Forms []struct {
		Href   string `json:"href"`
		Method string `json:"htv:methodName"`
	} `json:"forms"`
}

type description struct {
	Base       string                `json:"base"`
	Properties map[string]affordance `json:"properties"`
	Actions    map[string]affordance `json:"actions"`
}

// find asks the directory for the form of an affordance.
func (d *Directory) find(ctx context.Context, name, id, method string) (string, string, error) {
	b, _, err := d.do(ctx, http.MethodGet, d.base+"/.well-known/wot", nil)
	if errors.Is(err, ErrNone) {
		return "", "", fmt.Errorf("%w: it has no description at /.well-known/wot", ErrNonsense)
	}
	if err != nil {
		return "", "", fmt.Errorf("ask the directory for its description: %w", err)
	}
	var desc description
	if err := json.Unmarshal(b, &desc); err != nil {
		return "", "", fmt.Errorf("%w: its description is no JSON", ErrNonsense)
	}
	a, ok := desc.Actions[name]
	if !ok {
		a, ok = desc.Properties[name]
	}
	if !ok || len(a.Forms) == 0 {
		return "", "", fmt.Errorf("%w: its description has no %s", ErrNonsense, name)
	}
	href := a.Forms[0].Href
	if a.Forms[0].Method != "" {
		method = a.Forms[0].Method
	}
	t, err := uritemplate.New(href)
	if err != nil {
		return "", "", fmt.Errorf("%w: the form of %s has no address: %w", ErrNonsense, name, err)
	}
	vars := uritemplate.Values{}
	vars.Set("id", uritemplate.String(id))
	if href, err = t.Expand(vars); err != nil {
		return "", "", fmt.Errorf("%w: %w", ErrRefused, err)
	}
	from := desc.Base
	if from == "" {
		from = d.base + "/"
	}
	base, err := url.Parse(from)
	if err != nil {
		return "", "", fmt.Errorf("%w: its base is no address: %w", ErrNonsense, err)
	}
	at, err := base.Parse(href)
	if err != nil {
		return "", "", fmt.Errorf("%w: the form of %s has no address: %w", ErrNonsense, name, err)
	}
	return method, at.String(), d.own(at)
}

// own sees that an address is the hub's: the token goes to the hub that it was given
// for and nowhere else.
func (d *Directory) own(at *url.URL) error {
	if own, err := url.Parse(d.base); err != nil || own.Host != at.Host || own.Scheme != at.Scheme {
		return fmt.Errorf("%w: it points to another host, %s", ErrRefused, at.Host)
	}
	return nil
}

// The most that a list of things may be.
const (
	mostPages  = 1000
	mostThings = 100_000
)

// List returns all things that the directory holds. It follows the pages of the
// list by their links (WoT Discovery, section 7.3.2.1.5; RFC 8288).
func (d *Directory) List(ctx context.Context) ([]map[string]any, error) {
	_, at, err := d.find(ctx, "things", "", http.MethodGet)
	if err != nil {
		return nil, err
	}
	out := []map[string]any{}
	for range mostPages {
		b, header, err := d.do(ctx, http.MethodGet, at, nil)
		if err != nil {
			return nil, fmt.Errorf("list the things: %w", err)
		}
		var page []map[string]any
		if err := json.Unmarshal(b, &page); err != nil {
			return nil, fmt.Errorf("%w: its list of things is no list", ErrNonsense)
		}
		if out = append(out, page...); len(out) > mostThings {
			return nil, fmt.Errorf("%w: it lists more than %d things", ErrNonsense, mostThings)
		}
		next := nextPage(header)
		if next == "" {
			return out, nil
		}
		from, err := url.Parse(at)
		if err != nil {
			return nil, err
		}
		to, err := from.Parse(next)
		if err != nil {
			return nil, fmt.Errorf("%w: the next page of its list has no address: %w", ErrNonsense, err)
		}
		if err := d.own(to); err != nil {
			return nil, err
		}
		at = to.String()
	}
	return nil, fmt.Errorf("%w: its list of things has no end", ErrNonsense)
}

// nextPage is the target of a link to the next page, or "".
func nextPage(h http.Header) string {
	for _, line := range h.Values("Link") {
		for link := range strings.SplitSeq(line, ",") {
			target, params, _ := strings.Cut(link, ";")
			target = strings.TrimSpace(target)
			if !strings.HasPrefix(target, "<") || !strings.HasSuffix(target, ">") {
				continue
			}
			for p := range strings.SplitSeq(params, ";") {
				if name, value, _ := strings.Cut(strings.TrimSpace(p), "="); strings.EqualFold(name, "rel") && strings.Trim(value, `"`) == "next" {
					return target[1 : len(target)-1]
				}
			}
		}
	}
	return ""
}

// Put adds a thing or replaces it.
func (d *Directory) Put(ctx context.Context, td map[string]any) error {
	id, _ := td["id"].(string)
	method, at, err := d.find(ctx, "createThing", id, http.MethodPut)
	if err != nil {
		return err
	}
	b, err := json.Marshal(td)
	if err != nil {
		return err
	}
	fail.Point("before hub put")
	_, _, err = d.do(ctx, method, at, b)
	fail.Point("after hub put")
	return err
}

// Get returns a thing as the directory holds it, or ErrNone.
func (d *Directory) Get(ctx context.Context, id string) (map[string]any, error) {
	method, at, err := d.find(ctx, "retrieveThing", id, http.MethodGet)
	if err != nil {
		return nil, err
	}
	b, _, err := d.do(ctx, method, at, nil)
	if err != nil {
		return nil, err
	}
	var td map[string]any
	if err := json.Unmarshal(b, &td); err != nil {
		return nil, fmt.Errorf("%w: the thing is no JSON", ErrNonsense)
	}
	return td, nil
}

// Delete removes a thing. One that is not there is no error.
func (d *Directory) Delete(ctx context.Context, id string) error {
	method, at, err := d.find(ctx, "deleteThing", id, http.MethodDelete)
	if err != nil {
		return err
	}
	if _, _, err = d.do(ctx, method, at, nil); errors.Is(err, ErrNone) {
		return nil
	}
	return err
}

func (d *Directory) do(ctx context.Context, method, at string, body []byte) ([]byte, http.Header, error) {
	req, err := http.NewRequestWithContext(ctx, method, at, bytes.NewReader(body))
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", ErrRefused, err)
	}
	if body != nil {
		req.Header.Set("Content-Type", thing.MediaType)
	}
	if !d.token.IsZero() {
		req.Header.Set("Authorization", "Bearer "+d.token.Expose())
	}
	resp, err := d.client.Do(req)
	if err != nil {
		return nil, nil, fmt.Errorf("%w: %w", lost(err), err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, mostBody+1))
	switch {
	case err != nil:
		return nil, nil, fmt.Errorf("%w: %w", lost(err), err)
	case len(b) > mostBody:
		return nil, nil, fmt.Errorf("%w: an answer of more than %d MiB", ErrNonsense, mostBody>>20)
	case resp.StatusCode == http.StatusNotFound:
		return nil, nil, ErrNone
	case resp.StatusCode >= 500:
		return nil, nil, fmt.Errorf("%w: status %d", ErrDown, resp.StatusCode)
	case resp.StatusCode == http.StatusUnauthorized || resp.StatusCode == http.StatusForbidden:
		return nil, nil, fmt.Errorf("%w: status %d", ErrDenied, resp.StatusCode)
	case resp.StatusCode >= 300:
		return nil, nil, fmt.Errorf("%w: status %d %.120s", ErrRefused, resp.StatusCode, strings.TrimSpace(string(b)))
	}
	return b, resp.Header, nil
}

// mostBody is the most that one answer may be, in bytes.
const mostBody = 32 << 20

// lost tells slow from gone.
func lost(err error) error {
	if t, ok := errors.AsType[net.Error](err); ok && t.Timeout() {
		return ErrSlow
	}
	return ErrDown
}
