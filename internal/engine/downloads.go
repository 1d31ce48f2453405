package engine

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"sync"
	"time"

	"golang.org/x/time/rate"

	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/store"
)

// downloads are the links that are in use: what was looked up of them, and what went
// out since it was last put on record. A link leaves when its update is over.
type downloads struct {
	e    *Engine
	mu   sync.Mutex
	live map[string]*liveLink
	pace map[string]*rate.Limiter // by site, where one is set
}

type liveLink struct {
	store.Link
	image  store.Image
	device string
	site   string
	dirty  bool
	paced  bool // at the rate of its site
}

// pacePart is how much goes out at once where the rate is limited. A limit is no
// lower than that it goes out every few seconds.
const (
	pacePart  = 16 << 10
	leastPace = 4       // KiB a second
	mostPace  = 1 << 20 // KiB a second
)

func newDownloads(e *Engine) *downloads {
	return &downloads{e: e, live: map[string]*liveLink{}, pace: map[string]*rate.Limiter{}}
}

// limit sets what all units of a site together may fetch, in KiB a second; 0 lifts it.
// It holds for downloads that are under way, too.
func (d *downloads) limit(site string, kib int) {
	d.mu.Lock()
	defer d.mu.Unlock()
	l := d.pace[site]
	switch {
	case l == nil && kib > 0:
		d.pace[site] = rate.NewLimiter(rate.Limit(kib<<10), pacePart)
	case l != nil && kib > 0:
		l.SetLimit(rate.Limit(kib << 10))
	case l != nil:
		l.SetLimit(rate.Inf) // for those that hold it
		delete(d.pace, site)
	}
}

// Download is an image that a link authorises.
type Download struct {
	Image store.Image
	File  *os.File
	link  *liveLink
	from  *downloads
	pace  *rate.Limiter
}

func deniedLink(why string) error {
	return problem.New(problem.Denied, "This link is not valid: "+why+".", "It is for one unit and one update, and ends with it.", "Start the update again from Fado.")
}

// find looks a link up, once.
func (d *downloads) find(ctx context.Context, id string) (*liveLink, error) {
	d.mu.Lock()
	l, ok := d.live[id]
	d.mu.Unlock()
	if ok {
		return l, nil
	}
	tx := d.e.Store.Read(ctx)
	rec, err := store.One[store.Link](tx, "id = ?", id)
	if err != nil {
		return nil, deniedLink("it is not known")
	}
	t, err := store.One[store.Task](tx, "id = ?", rec.TaskID)
	if err != nil || task.Status(t.Status).Over() {
		return nil, deniedLink("its update is over")
	}
	img, err := d.e.FindImage(ctx, rec.Image)
	if err != nil {
		return nil, err
	}
	l = &liveLink{Link: rec, image: img, device: t.DeviceID}
	if device, err := store.One[store.Device](tx, "id = ?", t.DeviceID); err == nil {
		l.site = device.SiteID
	}
	if site, err := store.One[store.Site](tx, "id = ?", l.site); err == nil {
		d.limit(site.ID, site.DownloadKiB)
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if other, ok := d.live[id]; ok {
		return other, nil
	}
	d.live[id] = l
	return l, nil
}

// end takes the links of a task away, when it is over or has another image to fetch.
func (d *downloads) end(taskID string) {
	d.flush()
	d.mu.Lock()
	defer d.mu.Unlock()
	for id, l := range d.live {
		if l.TaskID == taskID {
			delete(d.live, id)
		}
	}
}

// flush puts on record what went out.
func (d *downloads) flush() {
	d.mu.Lock()
	var list []store.Link
	slow := map[string]store.Link{}
	for _, l := range d.live {
		if l.dirty {
			list = append(list, l.Link)
			if l.paced {
				slow[l.device] = l.Link
			}
			l.dirty = false
		}
	}
	d.mu.Unlock()
	// A unit that says nothing while it fetches is not taken for stalled when it is
	// this service that holds it back.
	for device, l := range slow {
		d.e.tasks.deliver(device, task.Event{Kind: task.Progress, Facts: map[string]string{
			"reply_to": l.TaskID + ".", "phase": "served", "done": fmt.Sprint(l.Bytes)}})
	}
	if len(list) == 0 {
		return
	}
	err := d.e.Store.Write(context.Background(), func(tx *store.Tx) error {
		for _, l := range list {
			if _, err := store.Change[store.Link](tx, map[string]any{"bytes": l.Bytes, "used": l.Used}, "id = ?", l.ID); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		d.e.Log.Warn("note downloads", "error", err)
	}
}

// run puts on record once a second what went out.
func (d *downloads) run(ctx context.Context) {
	for d.e.Clock.Sleep(ctx, d.e.Clock.Scaled(time.Second)) == nil {
		d.flush()
	}
	d.flush()
}

// OpenDownload checks a link and opens its image. One link serves one image to
// one source address, while its update is under way and until it expires.
func (e *Engine) OpenDownload(ctx context.Context, id, mac, remote string) (*Download, error) {
	if len(id) > 64 || mac != e.Store.LinkMAC(id) {
		return nil, deniedLink("its signature does not hold")
	}
	d := e.downloads
	l, err := d.find(ctx, id)
	if err != nil {
		return nil, err
	}
	if time.Now().After(l.Expires) {
		return nil, deniedLink("it has expired")
	}
	host, _, err := net.SplitHostPort(remote)
	if err != nil {
		host = remote
	}
	d.mu.Lock()
	first, source := l.Source == "", l.Source
	if first {
		l.Source = host
	}
	d.mu.Unlock()
	if !first && source != host {
		_ = e.Record(ctx, store.Event{Actor: host, DeviceID: l.device, TaskID: l.TaskID, Kind: "image", Text: fmt.Sprintf("A second address, %s, asked for the image that is for %s; it was refused.", host, source)})
		return nil, deniedLink("it is in use from another address")
	}
	if first { // whose it is stands on record before the first byte
		err := e.Store.Write(ctx, func(tx *store.Tx) error {
			_, err := store.Change[store.Link](tx, map[string]any{"source": host}, "id = ?", id)
			return err
		})
		if err != nil {
			d.mu.Lock()
			l.Source = ""
			d.mu.Unlock()
			return nil, err
		}
	}
	d.mu.Lock()
	img := l.image
	d.mu.Unlock()
	now, err := e.VerifyImage(ctx, img)
	if err != nil {
		return nil, err
	}
	if now != img {
		d.mu.Lock()
		l.image = now
		d.mu.Unlock()
	}
	f, err := os.Open(e.Store.ImagePath(img.SHA256))
	if err != nil {
		return nil, fmt.Errorf("open the image: %w", err)
	}
	return &Download{Image: now, File: f, link: l, from: d}, nil
}

// Body is the image as it may go out: at once, or at the rate of its site. It ends
// early with the context.
func (d *Download) Body(ctx context.Context) io.ReadSeeker {
	d.from.mu.Lock()
	defer d.from.mu.Unlock()
	if d.pace = d.from.pace[d.link.site]; d.pace == nil {
		return d.File
	}
	d.link.paced = true
	return &paced{d, ctx}
}

// paced is an image that goes out in parts, each when the site's rate allows it.
type paced struct {
	d   *Download
	ctx context.Context
}

func (p *paced) Seek(offset int64, whence int) (int64, error) { return p.d.File.Seek(offset, whence) }

func (p *paced) Read(b []byte) (int, error) {
	n, err := p.d.File.Read(b[:min(len(b), pacePart)])
	if n == 0 {
		return n, err
	}
	if wait := p.d.pace.WaitN(p.ctx, n); wait != nil {
		return 0, wait
	}
	if at, e := p.d.File.Seek(0, io.SeekCurrent); e == nil {
		p.d.from.mu.Lock()
		p.d.link.Bytes, p.d.link.dirty = max(p.d.link.Bytes, at), true
		p.d.from.mu.Unlock()
	}
	return n, err
}

// Close ends a download and notes how far into the file it came.
func (d *Download) Close(reached int64) {
	_ = d.File.Close()
	d.from.mu.Lock()
	defer d.from.mu.Unlock()
	d.link.Bytes, d.link.Used, d.link.dirty = max(d.link.Bytes, reached), d.link.Used+1, true
}
