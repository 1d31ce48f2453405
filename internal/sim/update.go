package sim

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"
)

// manifest is the payload of the signed manifest, as docs/protocol.md has it.
type manifest struct {
	Manifest  int      `json:"manifest"`
	Sequence  uint64   `json:"sequence"`
	Class     []string `json:"class"`
	Component string   `json:"component"`
	Size      int64    `json:"size"`
	Chip      string   `json:"chip"`
	Digest    struct {
		SHA256 string `json:"sha-256"`
	} `json:"digest"`
}

// download is an update under way. tell says how far it is, in the words of the
// unit's family; it may be nil.
type download struct {
	ask  string
	m    manifest
	link string
	got  []byte
	tell func(d *download, phase, reason string)
}

func (d *download) say(phase, reason string) {
	if d.tell != nil {
		d.tell(d, phase, reason)
	}
}

// checkManifest is the unit's own verification: a compact JWS (RFC 7515)
// signed with Ed25519 (RFC 8037) by the key that was handed over.
func (u *unit) checkManifest(compact, key string) (manifest, error) {
	var m manifest
	parts := strings.Split(compact, ".")
	if len(parts) != 3 {
		return m, errors.New("the manifest is no compact JWS")
	}
	header, err := base64.RawURLEncoding.DecodeString(parts[0])
	if err != nil {
		return m, errors.New("the manifest's header cannot be read")
	}
	var h struct{ Alg string }
	if err := json.Unmarshal(header, &h); err != nil || h.Alg != "EdDSA" {
		return m, errors.New("the manifest is not signed with EdDSA")
	}
	pub, err := base64.RawURLEncoding.DecodeString(key)
	if err != nil || len(pub) != ed25519.PublicKeySize {
		return m, errors.New("no update key was handed over")
	}
	sig, err := base64.RawURLEncoding.DecodeString(parts[2])
	if err != nil || !ed25519.Verify(pub, []byte(parts[0]+"."+parts[1]), sig) {
		return m, errors.New("the manifest's signature does not hold")
	}
	payload, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return m, errors.New("the manifest's payload cannot be read")
	}
	if err := json.Unmarshal(payload, &m); err != nil {
		return m, errors.New("the manifest's payload is no JSON")
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	switch {
	case m.Manifest != 1:
		return m, errors.New("the manifest has a structure that this unit does not know")
	case !slices.Contains(m.Class, u.spec.Model):
		return m, fmt.Errorf("the image is for %s; this is a %s", strings.Join(m.Class, ", "), u.spec.Model)
	case m.Chip != "" && u.spec.Chip != "" && m.Chip != u.spec.Chip:
		return m, errors.New("the image is for another chip")
	case m.Size > int64(u.spec.FlashKiB)*512:
		return m, errors.New("the image does not fit into a slot")
	case m.Sequence < u.sequence:
		return m, errors.New("the manifest is older than one that was installed")
	}
	return m, nil
}

// startUpdate begins a download, or goes on with the one under way.
func (d *direct) startUpdate(ctx context.Context, c config, ask, link, compact string) error {
	u := d.u
	m, err := u.checkManifest(compact, c.UpdateKey)
	if err != nil {
		return err
	}
	u.mu.Lock()
	running := digestOf(u.slots[u.active]) == m.Digest.SHA256
	u.mu.Unlock()
	if running {
		// It runs this very image: it fetches nothing and says what it runs.
		d.tell(c.Topic, ask)
		return nil
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	if u.update != nil && u.update.m.Digest == m.Digest {
		u.update.link, u.update.ask = link, ask
		return nil
	}
	if u.update != nil {
		return errors.New("another update is under way")
	}
	u.begin(ctx, &download{ask: ask, m: m, link: link, tell: func(under *download, phase, reason string) {
		u.mu.Lock()
		ask := under.ask
		u.mu.Unlock()
		p := map[string]any{"ask": ask, "phase": phase, "done_bytes": len(under.got), "of_bytes": under.m.Size}
		if reason != "" {
			p["reason"] = reason
		}
		u.publish(c.Topic+"/update", p, false)
	}})
	return nil
}

// begin fetches in the background. The unit is locked.
func (u *unit) begin(ctx context.Context, d *download) {
	u.update = d
	u.tasks.Go(func() {
		u.fetch(ctx, d)
		u.mu.Lock()
		u.update = nil
		u.mu.Unlock()
	})
}

// fetch downloads, verifies and writes the image, then restarts the unit.
func (u *unit) fetch(ctx context.Context, d *download) {
	for try := 0; int64(len(d.got)) < d.m.Size || d.m.Size == 0; try++ {
		d.say("fetching", "")
		err := u.part(ctx, d)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			continue
		}
		u.log.Info("download broke off", "at", len(d.got), "error", err)
		if try >= 6 {
			d.say("failed", "the download broke off too often: "+err.Error())
			return
		}
		if u.site.clock.Sleep(ctx, time.Duration(try+1)*time.Second) != nil {
			return
		}
	}
	if _, bad := u.once(Corrupted); bad {
		d.got[len(d.got)/2] ^= 1
	}
	if d.m.Digest.SHA256 != "" && digestOf(d.got) != d.m.Digest.SHA256 {
		d.say("refused", "the image's digest is not the one that was said")
		return
	}
	d.say("writing", "")
	_ = u.site.clock.Sleep(ctx, 2*time.Second)
	u.mu.Lock()
	u.writes = append(u.writes, digestOf(d.got))
	other := 1 - u.active
	u.mu.Unlock()
	if _, cut := u.once(PowerCut); cut {
		// Half of the spare slot is written; the running one is untouched.
		u.mu.Lock()
		u.slots[other], u.reason = d.got[:len(d.got)/2], "power"
		u.mu.Unlock()
		u.poke("restart")
		return
	}
	u.mu.Lock()
	u.slots[other], u.active, u.trial, u.sequence, u.reason = d.got, other, true, d.m.Sequence, "update"
	u.mu.Unlock()
	d.say("restarting", "")
	_ = u.site.clock.Sleep(ctx, 300*time.Millisecond)
	u.poke("restart")
}

// part reads from where the download stands, with a range request (RFC 9110,
// section 14.2), until the end or an error.
func (u *unit) part(ctx context.Context, d *download) error {
	u.mu.Lock()
	link := d.link
	u.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, 60*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, link, nil)
	if err != nil {
		return err
	}
	if len(d.got) > 0 {
		req.Header.Set("Range", fmt.Sprintf("bytes=%d-", len(d.got)))
	}
	resp, err := (&http.Client{Transport: u.site.net.Transport()}).Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK && resp.StatusCode != http.StatusPartialContent {
		return fmt.Errorf("the link answered %s", resp.Status)
	}
	if resp.StatusCode == http.StatusOK {
		d.got = nil
		if d.m.Size == 0 { // nobody said how long it is
			d.m.Size = resp.ContentLength
		}
	}
	buf := make([]byte, 32<<10)
	told := len(d.got)
	for {
		n, err := resp.Body.Read(buf)
		u.mu.Lock()
		d.got = append(d.got, buf[:n]...)
		u.fetched += int64(n)
		cutAt, cut := u.faultVal, u.fault == DownloadCut && len(d.got) > u.faultVal
		if cut {
			u.fault = None
			d.got = d.got[:cutAt]
		}
		u.mu.Unlock()
		if cut {
			return errors.New("connection lost")
		}
		if int64(len(d.got)) > d.m.Size {
			return errors.New("more bytes came than the manifest says")
		}
		if len(d.got)-told > int(d.m.Size/8) {
			u.touch() // it stays awake
			told = len(d.got)
			d.say("fetching", "")
			if e := u.site.clock.Sleep(ctx, 150*time.Millisecond); e != nil {
				return e
			}
		}
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// room is how many bytes a unit with one slot has beside what it runs.
func (u *unit) room() int64 {
	u.mu.Lock()
	defer u.mu.Unlock()
	return int64(u.spec.FlashKiB)<<10 - int64(len(u.slots[0]))
}

// halfWay is where the power goes in an image that is being written.
const halfWay = 100_000

// burn is a family with one slot that writes an image as it comes in: what is cut
// short leaves the unit dead until a cable reaches it. It returns why it refuses
// before anything is written, or an error when it is dead.
func (u *unit) burn(image io.Reader) (refused string, err error) {
	room := u.room()
	got := make([]byte, len(imageMagic))
	if _, err := io.ReadFull(image, got); err != nil {
		return "nothing came", nil
	}
	if string(got) != imageMagic {
		return "that is no image of mine", nil
	}
	cutAt, cut := u.once(DownloadCut)
	_, power := u.once(PowerCut)
	buf := make([]byte, 16<<10)
	for {
		n, err := image.Read(buf)
		got = append(got, buf[:n]...)
		if cut && len(got) > cutAt || power && len(got) > halfWay || int64(len(got)) > room || err != nil && !errors.Is(err, io.EOF) {
			u.mu.Lock()
			u.slots[0], u.dead = got, true
			u.mu.Unlock()
			u.poke("restart")
			return "", errors.New("cut short while writing")
		}
		if err != nil {
			break
		}
	}
	h, err := readImage(got)
	if _, bad := u.once(Corrupted); bad {
		err = errors.New("a bit turned")
	}
	u.mu.Lock()
	u.writes = append(u.writes, digestOf(got))
	u.slots[0], u.reason = got, "update"
	u.dead = err != nil || !h.Starts || u.fault == BootLoop || u.fault == DiesAfter
	u.mu.Unlock()
	return "", nil
}
