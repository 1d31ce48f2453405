package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"fado/internal/core/task"
	"fado/internal/store"
)

const imageSize = 1 << 20

// links makes an image, and a download link for each of so many updates that are
// under way.
func links(dir string, n int) (sum string, paths []string, err error) {
	body := bytes.Repeat([]byte("0123456789abcdef"), imageSize/16)
	digest := sha256.Sum256(body)
	sum = hex.EncodeToString(digest[:])
	s, err := store.Open(dir)
	if err != nil {
		return "", nil, err
	}
	defer s.Close()
	if err := os.WriteFile(s.ImagePath(sum), body, 0o600); err != nil {
		return "", nil, err
	}
	now := time.Now().UTC()
	err = s.Write(context.Background(), func(tx *store.Tx) error {
		if err := store.Create(tx, &store.Image{SHA256: sum, Firmware: "load", Version: "1.0", Channel: "stable", Part: "program", Models: ",sobro-quatro,", Size: imageSize, AddedAt: now}); err != nil {
			return err
		}
		for i := range n {
			// A task that waits for a person touches nothing.
			x := store.Task{ID: store.NewID(), DeviceID: fmt.Sprint("none-", i), Kind: string(task.Update), Status: string(task.Waiting), Image: sum, CreatedAt: now, UpdatedAt: now, State: "{}"}
			l := store.Link{ID: store.NewID(), TaskID: x.ID, Image: sum, Expires: now.Add(time.Hour)}
			if err := store.Create(tx, &x); err != nil {
				return err
			}
			if err := store.Create(tx, &l); err != nil {
				return err
			}
			paths = append(paths, "/image/"+l.ID+"/"+s.LinkMAC(l.ID))
		}
		return nil
	})
	return sum, paths, err
}

// fetch takes files, so many at once, and tells how many bytes came a second.
func fetch(base string, paths []string, atOnce, files int) (perSecond float64, err error) {
	c := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: atOnce}}
	var next, total atomic.Int64
	var failed atomic.Value
	began := time.Now()
	var wg sync.WaitGroup
	for w := range atOnce {
		wg.Go(func() {
			for next.Add(1) <= int64(files) {
				resp, err := c.Get(base + paths[w%len(paths)])
				if err != nil {
					failed.Store(err)
					return
				}
				n, err := io.Copy(io.Discard, resp.Body)
				_ = resp.Body.Close()
				if err != nil || n != imageSize || resp.StatusCode != http.StatusOK {
					failed.Store(fmt.Errorf("%s after %d bytes: %w", resp.Status, n, err))
					return
				}
				total.Add(n)
			}
		})
	}
	wg.Wait()
	if e, ok := failed.Load().(error); ok {
		return 0, e
	}
	return float64(total.Load()) / time.Since(began).Seconds(), nil
}

func download(fado string) error {
	if _, err := exec.LookPath("nginx"); err != nil {
		fmt.Println("nginx is not installed; the comparison is left out.")
		return nil
	}
	dir, err := os.MkdirTemp("", "fado-download-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	data := filepath.Join(dir, "data")
	if err := prepare(data, 1, "embedded"); err != nil {
		return err
	}
	sum, paths, err := links(data, 64)
	if err != nil {
		return err
	}
	r, err := service(fado, data, free())
	if err != nil {
		return err
	}
	defer r.stop()
	at := free()
	conf := fmt.Sprintf("daemon off; worker_processes auto; pid %[1]s/pid; error_log %[1]s/error.log; user root; events { worker_connections 4096; } http { access_log off; sendfile on; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s; server { listen %[2]s; root %[3]s/images; } }", dir, at, data)
	if err := os.WriteFile(filepath.Join(dir, "nginx.conf"), []byte(conf), 0o600); err != nil {
		return err
	}
	nginx := exec.Command("nginx", "-c", filepath.Join(dir, "nginx.conf"))
	if err := nginx.Start(); err != nil {
		return err
	}
	defer func() { _ = nginx.Process.Signal(os.Interrupt); _ = nginx.Wait() }()
	for range 200 {
		if c, err := net.Dial("tcp", at); err == nil {
			_ = c.Close()
			break
		}
		time.Sleep(10 * time.Millisecond)
	}
	var base, ours []float64
	for range 5 {
		b, err := fetch("http://"+at, []string{"/" + sum}, 64, 1500)
		if err != nil {
			return fmt.Errorf("nginx: %w", err)
		}
		o, err := fetch(r.url, paths, 64, 1500)
		if err != nil {
			return fmt.Errorf("fado: %w", err)
		}
		base, ours = append(base, b), append(ours, o)
	}
	b, o := middle(base), middle(ours)
	fmt.Printf("image downloads, 1 MiB, 64 at once: %.0f MiB a second; nginx with the same file: %.0f; ratio %.2f (wanted 0.90)\n", o/(1<<20), b/(1<<20), o/b)

	// A thousand at once that are slow: what do they cost?
	_, before := r.used()
	var slow []net.Conn
	for i := range 1000 {
		c, err := net.Dial("tcp", r.url[len("http://"):])
		if err != nil {
			return err
		}
		defer c.Close()
		if _, err := fmt.Fprintf(c, "GET %s HTTP/1.1\r\nHost: x\r\n\r\n", paths[i%len(paths)]); err != nil {
			return err
		}
		slow = append(slow, c)
	}
	buf := make([]byte, 16<<10)
	for round := range 8 {
		for _, c := range slow {
			if _, err := c.Read(buf); err != nil {
				return fmt.Errorf("round %d: %w", round, err)
			}
		}
	}
	_, with := r.used()
	fmt.Printf("1000 slow downloads at once: the service grew by %.0f MiB, %.0f KiB each\n", with-before, (with-before)*1024/1000)
	return nil
}
