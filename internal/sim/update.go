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

// download is an update under way.
type download struct {
	ask  string
	m    manifest
	link string
	got  []byte
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
	under := &download{ask: ask, m: m, link: link}
	u.update = under
	u.tasks.Go(func() {
		u.fetch(ctx, c, under)
		u.mu.Lock()
		u.update = nil
		u.mu.Unlock()
	})
	return nil
}

func (u *unit) progress(c config, d *download, phase, reason string) {
	u.mu.Lock()
	ask := d.ask
	u.mu.Unlock()
	p := map[string]any{"ask": ask, "phase": phase, "done_bytes": len(d.got), "of_bytes": d.m.Size}
	if reason != "" {
		p["reason"] = reason
	}
	u.publish(c.Topic+"/update", p, false)
}

// fetch downloads, verifies and writes the image, then restarts the unit.
func (u *unit) fetch(ctx context.Context, c config, d *download) {
	for try := 0; int64(len(d.got)) < d.m.Size; try++ {
		u.progress(c, d, "fetching", "")
		err := u.part(ctx, c, d)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			continue
		}
		u.log.Info("download broke off", "at", len(d.got), "error", err)
		if try >= 6 {
			u.progress(c, d, "failed", "the download broke off too often: "+err.Error())
			return
		}
		if u.site.clock.Sleep(ctx, time.Duration(try+1)*time.Second) != nil {
			return
		}
	}
	if _, bad := u.once(Corrupted); bad {
		d.got[len(d.got)/2] ^= 1
	}
	if digestOf(d.got) != d.m.Digest.SHA256 {
		u.progress(c, d, "refused", "the image's digest is not the one in the manifest")
		return
	}
	u.progress(c, d, "writing", "")
	_ = u.site.clock.Sleep(ctx, 2*time.Second)
	u.mu.Lock()
	u.writes = append(u.writes, d.m.Digest.SHA256)
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
	u.progress(c, d, "restarting", "")
	_ = u.site.clock.Sleep(ctx, 300*time.Millisecond)
	u.poke("restart")
}

// part reads from where the download stands, with a range request (RFC 9110,
// section 14.2), until the end or an error.
func (u *unit) part(ctx context.Context, c config, d *download) error {
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
			told = len(d.got)
			u.progress(c, d, "fetching", "")
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
