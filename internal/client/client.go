// Package client is the Go client of the API. The command line and the tests
// use it and nothing else to reach a service.
package client

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"fado/internal/core/problem"
	"fado/internal/wire"
)

// Client reaches one service.
type Client struct {
	base  string
	token string
	http  *http.Client
}

// New makes a client for a service at base; token may be empty before sign-in.
func New(base, token string) *Client { return Over(http.DefaultTransport, base, token) }

// Over makes a client whose requests go over a transport of its own.
func Over(t http.RoundTripper, base, token string) *Client {
	return &Client{base: strings.TrimRight(base, "/"), token: token, http: &http.Client{Timeout: 60 * time.Second, Transport: t}}
}

// within is the client's line with another limit on the whole exchange; 0 is
// none.
func (c *Client) within(limit time.Duration) *http.Client {
	return &http.Client{Timeout: limit, Transport: c.http.Transport}
}

// Base is the service's address.
func (c *Client) Base() string { return c.base }

// Error is a problem that the service answered with.
type Error struct{ wire.Problem }

// Error gives what happened.
func (e *Error) Error() string { return e.Title }

// Unwrap gives the problem in the form that is shown to people.
func (e *Error) Unwrap() error {
	kind := problem.Kind(strings.TrimPrefix(e.Type, "urn:fado:problem:"))
	return &problem.Problem{Kind: kind, What: e.Title, Cause: e.Detail, Next: e.Next, Fields: e.Fields}
}

// Do sends a request with a JSON body (nil for none) and reads the answer into
// out (nil for none). Headers come in pairs.
func (c *Client) Do(ctx context.Context, method, path string, in, out any, headers ...string) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return fmt.Errorf("encode the request: %w", err)
		}
		body = bytes.NewReader(b)
		headers = append(headers, "Content-Type", "application/json")
	}
	resp, err := c.send(ctx, c.http, method, path, body, headers...)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if out == nil {
		_, err = io.Copy(io.Discard, resp.Body)
		return err
	}
	if err := json.NewDecoder(resp.Body).Decode(out); err != nil {
		return fmt.Errorf("read the answer to %s %s: %w", method, path, err)
	}
	return nil
}

// Import takes an inventory in, or rehearses it.
func (c *Client) Import(ctx context.Context, site string, file []byte, dry bool) (wire.Import, error) {
	var out wire.Import
	resp, err := c.send(ctx, c.http, http.MethodPost, fmt.Sprintf("%s?dry_run=%v", Path("sites", site, "inventory"), dry), bytes.NewReader(file), "Content-Type", "text/csv")
	if err != nil {
		return out, err
	}
	defer resp.Body.Close()
	return out, json.NewDecoder(resp.Body).Decode(&out)
}

// Raw reads an answer that is no JSON, such as a drawing.
func (c *Client) Raw(ctx context.Context, path string) ([]byte, error) {
	resp, err := c.send(ctx, c.http, http.MethodGet, path, nil)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, 64<<20))
	if err != nil {
		return nil, fmt.Errorf("read the answer: %w", err)
	}
	return b, nil
}

func (c *Client) send(ctx context.Context, h *http.Client, method, path string, body io.Reader, headers ...string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, problem.New(problem.BadInput, fmt.Sprintf("%q is no address of a service.", c.base), "The address is misspelt.", "Give one such as http://127.0.0.1:8420 with --server.").Because(err)
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := h.Do(req)
	if err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, problem.New(problem.Unavailable, fmt.Sprintf("No Fado answers at %s.", c.base), "The service is not running, or listens elsewhere.", "Start it with «fado serve», or name its address with --server.").Because(err)
	}
	if resp.StatusCode < 400 {
		return resp, nil
	}
	defer resp.Body.Close()
	e := &Error{}
	b, _ := io.ReadAll(io.LimitReader(resp.Body, 1<<20))
	if json.Unmarshal(b, &e.Problem) != nil || e.Title == "" {
		e.Title, e.Status = fmt.Sprintf("%s %s was answered with %s.", method, path, resp.Status), resp.StatusCode
	}
	return nil, e
}

// Get reads one object.
func Get[T any](ctx context.Context, c *Client, path string) (T, error) {
	var out T
	return out, c.Do(ctx, http.MethodGet, path, nil, &out)
}

// Post sends an object and reads the answer.
func Post[T any](ctx context.Context, c *Client, path string, in any) (T, error) {
	var out T
	return out, c.Do(ctx, http.MethodPost, path, in, &out)
}

// Path joins parts to a path of the API, each escaped.
func Path(parts ...string) string {
	for i, p := range parts {
		parts[i] = url.PathEscape(p)
	}
	return "/api/v1/" + strings.Join(parts, "/")
}

// Query appends query parameters; empty values are left out.
func Query(path string, pairs ...string) string {
	q := url.Values{}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			q.Set(pairs[i], pairs[i+1])
		}
	}
	if len(q) == 0 {
		return path
	}
	return path + "?" + q.Encode()
}

// AddImage uploads an image. size is that of file, for progress.
func (c *Client) AddImage(ctx context.Context, file io.Reader, facts wire.ImageFacts) (wire.Image, error) {
	var img wire.Image
	return img, c.upload(ctx, "/api/v1/images", file, facts, &img)
}

// UploadPart is how much of an image is sent at once.
const UploadPart = 256 << 10

// SendImage sends an image by parts and goes on where an earlier try broke off. said is
// told how many bytes are there; it may be nil.
func (c *Client) SendImage(ctx context.Context, file io.ReadSeeker, facts wire.ImageFacts, said func(int64)) (wire.Image, error) {
	h := sha256.New()
	if _, err := io.Copy(h, file); err != nil {
		return wire.Image{}, err
	}
	path := Path("uploads", hex.EncodeToString(h.Sum(nil)))
	at, err := Get[wire.Upload](ctx, c, path)
	for lost := 0; err == nil; {
		if said != nil {
			said(at.Offset)
		}
		if _, err = file.Seek(at.Offset, io.SeekStart); err != nil {
			break
		}
		part, e := io.ReadAll(io.LimitReader(file, UploadPart))
		if err = e; err != nil || len(part) == 0 {
			break
		}
		resp, e := c.send(ctx, c.within(5*time.Minute), http.MethodPut, Query(path, "offset", strconv.FormatInt(at.Offset, 10)), bytes.NewReader(part), "Content-Type", "application/octet-stream")
		if e == nil {
			err = json.NewDecoder(resp.Body).Decode(&at)
			_ = resp.Body.Close()
			lost = 0
			continue
		}
		// It broke off: where it stands is asked, a few times. A refusal stays one.
		if p := problem.As(e); lost == 5 || p == nil || p.Kind != problem.Unavailable && p.Kind != problem.Conflict {
			return wire.Image{}, e
		}
		lost++
		select {
		case <-time.After(time.Duration(lost) * time.Second):
		case <-ctx.Done():
			return wire.Image{}, ctx.Err()
		}
		if now, e := Get[wire.Upload](ctx, c, path); e == nil {
			at = now
		}
	}
	if err != nil {
		return wire.Image{}, err
	}
	return Post[wire.Image](ctx, c, Path("uploads", path[strings.LastIndexByte(path, '/')+1:], "image"), facts)
}

// ImportArchive streams a zip archive of builds; with keep, what is found is added.
func (c *Client) ImportArchive(ctx context.Context, file io.Reader, common wire.ImageFacts, keep bool) ([]wire.Found, error) {
	var out []wire.Found
	return out, c.upload(ctx, Query("/api/v1/images/archive", "keep", map[bool]string{true: "true"}[keep]), file, common, &out)
}

func (c *Client) upload(ctx context.Context, path string, file io.Reader, facts wire.ImageFacts, into any) error {
	read, write := io.Pipe()
	form := multipart.NewWriter(write)
	go func() {
		err := func() error {
			b, err := json.Marshal(facts)
			if err != nil {
				return err
			}
			if err := form.WriteField("facts", string(b)); err != nil {
				return err
			}
			part, err := form.CreateFormFile("file", "image.bin")
			if err != nil {
				return err
			}
			if _, err := io.Copy(part, file); err != nil {
				return err
			}
			return form.Close()
		}()
		_ = write.CloseWithError(err)
	}()
	defer read.Close() // ends the writer when the service refuses early
	resp, err := c.send(ctx, c.within(10*time.Minute), http.MethodPost, path, read, "Content-Type", form.FormDataContentType())
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	return json.NewDecoder(resp.Body).Decode(into)
}

// Backup streams a sealed backup to w.
func (c *Client) Backup(ctx context.Context, passphrase string, w io.Writer) (int64, error) {
	b, err := json.Marshal(map[string]string{"passphrase": passphrase})
	if err != nil {
		return 0, err
	}
	resp, err := c.send(ctx, c.within(0), http.MethodPost, "/api/v1/backup", bytes.NewReader(b), "Content-Type", "application/json")
	if err != nil {
		return 0, err
	}
	defer resp.Body.Close()
	return io.Copy(w, resp.Body)
}

// Changes follows the live stream and calls each for every change, and with an
// empty change when everything has to be read again. It comes back by itself
// after an interruption, until ctx ends or each returns false.
func (c *Client) Changes(ctx context.Context, each func(wire.Change) bool) error {
	last := ""
	for {
		err := c.follow(ctx, &last, each)
		if err == nil || ctx.Err() != nil {
			return ctx.Err()
		}
		var refused *Error
		if errors.As(err, &refused) && refused.Status < 500 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(time.Second):
		}
	}
}

func (c *Client) follow(ctx context.Context, last *string, each func(wire.Change) bool) error {
	resp, err := c.send(ctx, c.within(0), http.MethodGet, "/api/v1/stream", nil, "Last-Event-ID", *last, "Accept", "text/event-stream")
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	lines := bufio.NewScanner(resp.Body)
	event := ""
	for lines.Scan() {
		key, value, _ := strings.Cut(lines.Text(), ": ")
		switch key {
		case "id":
			*last = value
		case "event":
			event = value
		case "data":
			var change wire.Change
			if event == "change" {
				if err := json.Unmarshal([]byte(value), &change); err != nil {
					continue
				}
			}
			if !each(change) {
				return nil
			}
		}
	}
	if err := lines.Err(); err != nil {
		return err
	}
	return io.ErrUnexpectedEOF
}
