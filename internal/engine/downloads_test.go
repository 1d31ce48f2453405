package engine

import (
	"bytes"
	"context"
	"io"
	"os"
	"strings"
	"sync"
	"testing"
	"time"

	"fado/internal/core/problem"
	"fado/internal/core/task"
	"fado/internal/store"
	"fado/internal/wire"
)

// underWay puts an update on record that waits, with its link, for an image of so many
// bytes.
func underWay(t *testing.T, e *Engine, size int) (store.Image, store.Link) {
	t.Helper()
	img, err := e.AddImage(t.Context(), "test", bytes.NewReader(bytes.Repeat([]byte("x"), size)), ImageFacts{Firmware: "junco", Version: "2.2.0", Channel: "stable", Part: "program", Models: []string{"junco"}})
	if err != nil {
		t.Fatal(err)
	}
	_, l := underWayAgain(t, e, img, time.Now().Add(time.Hour))
	return img, l
}

func TestALinkServesOneUnitUntilItsUpdateIsOver(t *testing.T) {
	e := bench(t)
	img, l := underWay(t, e, 5000)
	open := func(mac, from string) error {
		d, err := e.OpenDownload(t.Context(), l.ID, mac, from)
		if err != nil {
			return err
		}
		n, err := io.Copy(io.Discard, d.File)
		d.Close(n)
		return err
	}
	refused := func(err error, why string) {
		t.Helper()
		if err == nil || !strings.Contains(err.Error(), why) {
			t.Errorf("%v, want %q", err, why)
		}
	}
	mac := e.Store.LinkMAC(l.ID)
	refused(open("AAAA", "192.168.40.9:1000"), "its signature does not hold")
	if _, err := e.OpenDownload(t.Context(), store.NewID(), mac, "192.168.40.9:1"); err == nil {
		t.Error("a signature served another link")
	}
	// A hundred times, many at once, from one address: all of it each time.
	var wg sync.WaitGroup
	for range 100 {
		wg.Go(func() {
			if err := open(mac, "192.168.40.9:1000"); err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	e.downloads.flush()
	got, err := store.One[store.Link](e.Store.Read(t.Context()), "id = ?", l.ID)
	if err != nil || got.Used != 100 || got.Bytes != img.Size || got.Source != "192.168.40.9" {
		t.Errorf("%+v %v", got, err)
	}
	refused(open(mac, "192.168.40.10:1000"), "in use from another address")
	if n, err := store.Count[store.Event](e.Store.Read(t.Context()), "instr(text, 'A second address, 192.168.40.10') > 0"); err != nil || n != 1 {
		t.Errorf("%d %v", n, err)
	}
	// The file is touched, then changed.
	path := e.Store.ImagePath(img.SHA256)
	later := time.Now().Add(time.Minute)
	if err := os.Chtimes(path, later, later); err != nil {
		t.Fatal(err)
	}
	if err := open(mac, "192.168.40.9:1000"); err != nil {
		t.Error(err)
	}
	if err := os.WriteFile(path, bytes.Repeat([]byte("y"), 5000), 0o600); err != nil {
		t.Fatal(err)
	}
	refused(open(mac, "192.168.40.9:1000"), "changed on disk")
	if err := os.WriteFile(path, bytes.Repeat([]byte("x"), 5000), 0o600); err != nil {
		t.Fatal(err)
	}
	// Its time is over, then its update.
	_, second := underWayAgain(t, e, img, time.Now().Add(-time.Second))
	if _, err := e.OpenDownload(t.Context(), second.ID, e.Store.LinkMAC(second.ID), "192.168.40.9:1"); err == nil || !strings.Contains(err.Error(), "it has expired") {
		t.Error(err)
	}
	if err := e.Store.Write(t.Context(), func(tx *store.Tx) error {
		_, err := store.Change[store.Task](tx, map[string]any{"status": "done"}, "id = ?", l.TaskID)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	e.downloads.end(l.TaskID)
	refused(open(mac, "192.168.40.9:1000"), "its update is over")
}

// underWayAgain is another update of the same image, whose link ends at a time.
func underWayAgain(t *testing.T, e *Engine, img store.Image, ends time.Time) (store.Task, store.Link) {
	t.Helper()
	x := store.Task{ID: store.NewID(), DeviceID: "none", Kind: string(task.Update), Status: string(task.Waiting), Image: img.SHA256, State: "{}", CreatedAt: time.Now(), UpdatedAt: time.Now()}
	l := store.Link{ID: store.NewID(), TaskID: x.ID, Image: img.SHA256, Expires: ends}
	if err := e.Store.Write(t.Context(), func(tx *store.Tx) error {
		if err := store.Create(tx, &x); err != nil {
			return err
		}
		return store.Create(tx, &l)
	}); err != nil {
		t.Fatal(err)
	}
	return x, l
}

// TestASitesRate: what all units of a site fetch together keeps to its rate, which may
// be changed meanwhile; and a download that is given up does not linger.
func TestASitesRate(t *testing.T) {
	e := bench(t)
	img, _ := underWay(t, e, 256<<10)
	site, err := e.SaveSite(t.Context(), "test", "", 0, wire.SiteEdit{Key: new("moinho"), Name: new("Moinho"), Zone: new("Europe/Lisbon"), DownloadKiB: new(128)})
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range []int{-1, 3, 2 << 20} {
		if _, err := e.SaveSite(t.Context(), "test", "moinho", site.Version, wire.SiteEdit{DownloadKiB: &bad}); err == nil || !strings.Contains(problem.As(err).Fields[0].Rule, "KiB a second, from 4 to") {
			t.Errorf("%d: %v", bad, err)
		}
	}
	fetch := func(ctx context.Context, device string) (int64, error) {
		x, l := underWayAgain(t, e, img, time.Now().Add(time.Hour))
		if err := e.Store.Write(ctx, func(tx *store.Tx) error {
			if err := store.Create(tx, &store.Device{ID: device, SiteID: site.ID, HardwareID: device, Hostname: device, Topic: device}); err != nil {
				return err
			}
			_, err := store.Change[store.Task](tx, map[string]any{"device_id": device}, "id = ?", x.ID)
			return err
		}); err != nil {
			return 0, err
		}
		d, err := e.OpenDownload(ctx, l.ID, e.Store.LinkMAC(l.ID), "192.168.40.9:1")
		if err != nil {
			return 0, err
		}
		n, err := io.Copy(io.Discard, d.Body(ctx))
		d.Close(n)
		return n, err
	}
	begun := time.Now()
	var both sync.WaitGroup
	for _, device := range []string{"first", "second"} {
		both.Go(func() {
			if n, err := fetch(t.Context(), device); err != nil || n != img.Size {
				t.Errorf("%d %v", n, err)
			}
		})
	}
	time.Sleep(time.Second)
	if _, err := e.SaveSite(t.Context(), "test", "moinho", site.Version, wire.SiteEdit{DownloadKiB: new(512)}); err != nil {
		t.Fatal(err)
	}
	both.Wait()
	// One second at 128 KiB/s, and the rest of 512 KiB at 512 KiB/s.
	if took := time.Since(begun); took < 1600*time.Millisecond || took > 5*time.Second {
		t.Errorf("512 KiB went out in %v", took)
	}
	ctx, stop := context.WithTimeout(t.Context(), 100*time.Millisecond)
	defer stop()
	begun = time.Now()
	if _, err := fetch(ctx, "third"); err == nil || time.Since(begun) > time.Second {
		t.Errorf("a download that was given up: %v after %v", err, time.Since(begun))
	}
}
