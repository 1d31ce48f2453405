package engine

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"fado/internal/core/firmware"
	"fado/internal/core/naming"
	"fado/internal/core/problem"
	"fado/internal/store"
)

// feedTime is how long a feed may take for a page, and a release for its file. It is
// never scaled.
const (
	feedTime = 20 * time.Second
	fileTime = 10 * time.Minute
)

// FindFeed finds a feed by id or name.
func (e *Engine) FindFeed(ctx context.Context, ref string) (store.Feed, error) {
	f, err := store.One[store.Feed](e.Store.Read(ctx), "id = ? OR name = ?", ref, ref)
	if isNone(err) {
		return f, notFound("feed", ref)
	}
	return f, err
}

// AddFeed adds a feed and reads it at once. One that cannot be read is not added.
func (e *Engine) AddFeed(ctx context.Context, actor, name, address string, minutes int) (store.Feed, error) {
	x := store.Feed{ID: store.NewID(), Name: name, URL: address, Minutes: minutes}
	if x.Minutes == 0 {
		x.Minutes = 360
	}
	var f problem.Fields
	if rule, passes := naming.CheckLabel(name); rule != "" {
		f.Add("name", rule, passes)
	} else if _, err := store.One[store.Feed](e.Store.Read(ctx), "name = ?", name); err == nil {
		f.Add("name", "is taken", name+" 2")
	}
	if u, err := url.Parse(address); err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		f.Add("url", "must be http:// or https:// and where the feed is", "https://releases.example/feed.json")
	}
	if x.Minutes < 5 || x.Minutes > 10080 {
		f.Add("minutes", "between 5 and 10080", "360")
	}
	if err := f.Err("The feed was not added."); err != nil {
		return x, err
	}
	list, tag, err := e.readFeed(ctx, x)
	if err != nil {
		return x, feedTrouble(x, err)
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if err := store.Create(tx, &x); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "feed", Text: fmt.Sprintf("The feed %s at %s was added.", name, address)})
	})
	if err != nil {
		return x, err
	}
	if err := e.takeFeed(ctx, x, list, tag, nil); err != nil {
		return x, err
	}
	return e.FindFeed(ctx, x.ID)
}

// RemoveFeed removes a feed. What was taken from it stays.
func (e *Engine) RemoveFeed(ctx context.Context, actor, ref string) error {
	f, err := e.FindFeed(ctx, ref)
	if err != nil {
		return err
	}
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := store.Delete[store.Offered](tx, "feed_id = ?", f.ID); err != nil {
			return err
		}
		if _, err := store.Delete[store.Feed](tx, "id = ?", f.ID); err != nil {
			return err
		}
		e.mark(tx, "feed", f.ID)
		return e.event(tx, store.Event{Actor: actor, Kind: "feed", Text: fmt.Sprintf("The feed %s was removed.", f.Name)})
	})
}

// PollFeed reads a feed now.
func (e *Engine) PollFeed(ctx context.Context, ref string) (store.Feed, error) {
	f, err := e.FindFeed(ctx, ref)
	if err != nil {
		return f, err
	}
	list, tag, cause := e.readFeed(ctx, f)
	if err := e.takeFeed(ctx, f, list, tag, cause); err != nil {
		return f, err
	}
	if cause != nil && !errors.Is(cause, errSame) {
		return f, feedTrouble(f, cause)
	}
	return e.FindFeed(ctx, f.ID)
}

func feedTrouble(f store.Feed, err error) error {
	what, cause := fmt.Sprintf("The feed %s cannot be read: %s.", f.Name, err), "It is off, was moved, or is published with a fault."
	return problem.New(problem.Unavailable, what, cause, "Open its address in a browser; docs/feed.md says what stands there. What was read before stays.").Because(err)
}

// errSame says that a feed has not changed since it was read last (RFC 9110, section
// 15.4.5).
var errSame = errors.New("it has not changed")

// offer is an image with its release, and where it is fetched.
type offer struct {
	firmware.Release
	firmware.ReleaseImage
}

// readFeed reads all pages of a feed. Its addresses stay with its own host.
func (e *Engine) readFeed(ctx context.Context, f store.Feed) (list []offer, tag string, err error) {
	home, err := url.Parse(f.URL)
	if err != nil {
		return nil, "", err
	}
	at, seen, files := home, map[string]bool{}, map[string]bool{}
	for page := 0; at != nil; page++ {
		if page == firmware.MaxPages || seen[at.String()] {
			return nil, "", fmt.Errorf("its pages have no end: %s comes again", at)
		}
		seen[at.String()] = true
		body, etag, err := e.getFeed(ctx, at, map[bool]string{true: f.ETag}[page == 0])
		if err != nil {
			return nil, "", err
		}
		if page == 0 {
			tag = etag
		}
		p, err := firmware.ReadFeed(body)
		if err != nil {
			return nil, "", err
		}
		for _, r := range p.Releases {
			for _, x := range r.Images {
				to, err := at.Parse(x.URL)
				if err != nil || to.Host != home.Host || to.Scheme != home.Scheme {
					return nil, "", fmt.Errorf("the file of %s %s is at another host than the feed", r.Firmware, r.Version)
				}
				if files[x.SHA256] {
					return nil, "", fmt.Errorf("the file of %s %s is offered twice", r.Firmware, r.Version)
				}
				files[x.SHA256] = true
				x.URL = to.String()
				list = append(list, offer{r, x})
			}
		}
		if len(list) > firmware.MaxReleases {
			return nil, "", fmt.Errorf("it offers more than %d files", firmware.MaxReleases)
		}
		if p.Next == "" {
			return list, tag, nil
		}
		next, err := at.Parse(p.Next)
		if err != nil || next.Host != home.Host || next.Scheme != home.Scheme {
			return nil, "", fmt.Errorf("its next page is at another host")
		}
		if page > 0 || f.ETag != "" {
			tag = "" // the first page alone does not tell whether the others changed
		}
		at = next
	}
	return list, tag, nil
}

func (e *Engine) feedClient(within time.Duration) *http.Client {
	return &http.Client{Timeout: within, Transport: e.net.Transport(), CheckRedirect: func(r *http.Request, via []*http.Request) error {
		if len(via) > 3 || r.URL.Host != via[0].URL.Host {
			return errors.New("it redirects in circles, or to another host")
		}
		return nil
	}}
}

func (e *Engine) getFeed(ctx context.Context, at *url.URL, tag string) (body []byte, etag string, err error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, "", err
	}
	req.Header.Set("Accept", "application/json")
	if tag != "" {
		req.Header.Set("If-None-Match", tag)
	}
	resp, err := e.feedClient(feedTime).Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return nil, "", err
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusNotModified && tag != "" {
		return nil, "", errSame
	}
	if resp.StatusCode != http.StatusOK {
		return nil, "", fmt.Errorf("it answers with status %d", resp.StatusCode)
	}
	body, err = io.ReadAll(io.LimitReader(resp.Body, firmware.MaxFeedPage+1))
	return body, resp.Header.Get("ETag"), err
}

// takeFeed keeps what a feed offers, and how it answered.
func (e *Engine) takeFeed(ctx context.Context, f store.Feed, list []offer, tag string, cause error) error {
	at := e.Clock.Now()
	columns := map[string]any{"look_at": at.Add(time.Duration(f.Minutes) * time.Minute)}
	return e.Store.Write(ctx, func(tx *store.Tx) error {
		switch {
		case errors.Is(cause, errSame):
			columns["read_at"], columns["trouble"], columns["trouble_since"] = at, "", nil
		case cause != nil:
			columns["trouble"] = cause.Error()
			if f.Trouble == "" {
				columns["trouble_since"] = at
				if err := e.event(tx, store.Event{Actor: "fado", Kind: "feed", Text: fmt.Sprintf("The feed %s cannot be read: %s.", f.Name, cause)}); err != nil {
					return err
				}
			}
		default:
			columns["read_at"], columns["trouble"], columns["trouble_since"], columns["e_tag"] = at, "", nil, tag
			if err := e.keepOffers(tx, f, list, at); err != nil {
				return err
			}
		}
		_, err := store.Change[store.Feed](tx, columns, "id = ?", f.ID)
		e.mark(tx, "feed", f.ID)
		return err
	})
}

func (e *Engine) keepOffers(tx *store.Tx, f store.Feed, list []offer, at time.Time) error {
	old, err := store.All[store.Offered](tx, "sha256", "feed_id = ?", f.ID)
	if err != nil {
		return err
	}
	was := map[string]store.Offered{}
	for _, o := range old {
		was[o.SHA256] = o
	}
	byVersion, fresh := map[string]string{}, []string{}
	for _, o := range list {
		row := store.Offered{FeedID: f.ID, SHA256: o.SHA256, Firmware: o.Firmware, Version: o.Version, Channel: string(o.Channel), Models: "," + strings.Join(o.Models, ",") + ",",
			Body: store.JSON(o.ReleaseImage), Notes: o.Notes, Published: o.Published, FirstSeen: at}
		if before, has := was[o.SHA256]; has {
			row.FirstSeen = before.FirstSeen
		} else {
			fresh = append(fresh, o.Firmware+" "+o.Version)
		}
		for _, m := range o.Models {
			k := strings.Join([]string{o.Firmware, o.Version, m, string(o.Part)}, "\x00")
			if twin := byVersion[k]; twin != "" {
				row.Twin = twin
			}
			byVersion[k] = o.SHA256
		}
		delete(was, o.SHA256)
		if err := store.Save(tx, &row); err != nil {
			return err
		}
	}
	for sum, o := range was {
		if o.Gone {
			continue
		}
		if _, err := store.Change[store.Offered](tx, map[string]any{"gone": true}, "feed_id = ? AND sha256 = ?", f.ID, sum); err != nil {
			return err
		}
		if err := e.event(tx, store.Event{Actor: "fado", Kind: "feed", Text: fmt.Sprintf("The feed %s offers %s %s no more.", f.Name, o.Firmware, o.Version)}); err != nil {
			return err
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	text := fmt.Sprintf("The feed %s offers %d new files: %s.", f.Name, len(fresh), strings.Join(fresh[:min(5, len(fresh))], ", "))
	if len(fresh) == 1 {
		text = fmt.Sprintf("The feed %s offers %s.", f.Name, fresh[0])
	}
	return e.event(tx, store.Event{Actor: "fado", Kind: "feed", Text: text})
}

// Release is an image that a feed offers, and how it stands here.
type Release struct {
	store.Offered
	Feed  string
	Image firmware.ReleaseImage
	Taken bool
	Suits []string // the models of it that there are here
}

// Releases lists what feeds offer, the newest first; all lists what was taken and what
// is gone, too, and what is for models that there are none of.
func (e *Engine) Releases(ctx context.Context, all bool) ([]Release, error) {
	tx := e.Store.Read(ctx)
	feeds, err := store.All[store.Feed](tx, "name", "1 = 1")
	if err != nil {
		return nil, err
	}
	name := map[string]string{}
	for _, f := range feeds {
		name[f.ID] = f.Name
	}
	list, err := store.All[store.Offered](tx, "first_seen DESC, firmware, version DESC", "1 = 1")
	if err != nil {
		return nil, err
	}
	l, err := e.library(tx)
	if err != nil {
		return nil, err
	}
	out := []Release{}
	for _, o := range list {
		r := Release{Offered: o, Feed: name[o.FeedID]}
		if err := json.Unmarshal([]byte(o.Body), &r.Image); err != nil {
			return nil, fmt.Errorf("read what a feed offers: %w", err)
		}
		_, r.Taken = l.bySum[o.SHA256]
		for _, m := range r.Image.Models {
			if _, ok := e.Model(m); ok {
				r.Suits = append(r.Suits, m)
			}
		}
		if all || !r.Taken && !o.Gone && len(r.Suits) > 0 {
			out = append(out, r)
		}
	}
	return out, nil
}

// TakeRelease fetches an image that a feed offers, and adds it when it is the file
// that was said.
func (e *Engine) TakeRelease(ctx context.Context, actor, ref string) (store.Image, error) {
	if len(ref) < 8 || strings.ContainsAny(ref, "%_") {
		return store.Image{}, notFound("release", ref)
	}
	list, err := store.Some[store.Offered](e.Store.Read(ctx), 2, "first_seen", "sha256 LIKE ? AND gone = 0", strings.ToLower(ref)+"%")
	if err != nil {
		return store.Image{}, err
	}
	if len(list) == 0 {
		return store.Image{}, notFound("release", ref)
	}
	o := list[0]
	var x firmware.ReleaseImage
	if err := json.Unmarshal([]byte(o.Body), &x); err != nil {
		return store.Image{}, fmt.Errorf("read what a feed offers: %w", err)
	}
	var models []string
	for _, m := range x.Models {
		if _, ok := e.Model(m); ok {
			models = append(models, m)
		}
	}
	if len(models) == 0 {
		return store.Image{}, problem.New(problem.Conflict, fmt.Sprintf("%s %s is for %s; there are none of these models here.", o.Firmware, o.Version, strings.Join(x.Models, ", ")), "Their model files were not added.", "Add them with «fado model add FILE».")
	}
	bad := func(format string, args ...any) error {
		return problem.New(problem.Unavailable, fmt.Sprintf("%s %s was not taken: %s.", o.Firmware, o.Version, fmt.Sprintf(format, args...)), "The feed is wrong about it, or the file was changed.", "Tell its publisher. Nothing was kept.")
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, x.URL, nil)
	if err != nil {
		return store.Image{}, err
	}
	resp, err := e.feedClient(fileTime).Do(req)
	if err != nil {
		return store.Image{}, bad("it cannot be fetched: %s", reason(err))
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return store.Image{}, bad("its address answers with status %d", resp.StatusCode)
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, x.Size+1))
	switch {
	case err != nil:
		return store.Image{}, bad("it broke off after %d bytes", len(body))
	case int64(len(body)) != x.Size:
		return store.Image{}, bad("it is not of %d bytes, as the feed says", x.Size)
	case sumOf(body) != o.SHA256:
		return store.Image{}, bad("its SHA-256 is %.12s…, and the feed says %.12s…", sumOf(body), o.SHA256)
	}
	return e.AddImage(ctx, actor, bytes.NewReader(body), ImageFacts{Firmware: o.Firmware, Version: o.Version, Channel: o.Channel, Part: string(x.Part), Chip: x.Chip, OldestFrom: x.OldestFrom,
		Notes: o.Notes, Models: models, NeedsKiB: x.NeedsKiB, Step: x.Step, Manifest: x.Manifest})
}

// feedLoop reads the feeds that are due.
func (e *Engine) feedLoop(ctx context.Context) {
	for e.Clock.Sleep(ctx, time.Minute) == nil {
		list, err := store.All[store.Feed](e.Store.Read(ctx), "id", "look_at <= ?", e.Clock.Now())
		if err != nil {
			continue
		}
		for _, f := range list {
			if _, err := e.PollFeed(ctx, f.ID); err != nil && ctx.Err() == nil {
				e.Log.Info("read a feed", "feed", f.Name, "error", err)
			}
		}
	}
}
