package firmware

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

func feed(change func(m map[string]any)) []byte {
	image := map[string]any{"url": "junco-2.2.0.bin", "sha256": digest, "size": 1000, "models": []any{"junco"}}
	m := map[string]any{"feed": 1, "releases": []any{map[string]any{"firmware": "junco", "version": "2.2.0", "images": []any{image}}}, "unknown": true}
	if change != nil {
		change(m)
	}
	b, _ := json.Marshal(m)
	return b
}

func TestReadFeed(t *testing.T) {
	p, err := ReadFeed(feed(nil))
	if err != nil || len(p.Releases) != 1 || p.Releases[0].Channel != Stable || p.Releases[0].Images[0].Part != Program {
		t.Fatalf("%+v %v", p, err)
	}
	release := func(f func(r, i map[string]any)) func(map[string]any) {
		return func(m map[string]any) {
			r := m["releases"].([]any)[0].(map[string]any)
			f(r, r["images"].([]any)[0].(map[string]any))
		}
	}
	for says, change := range map[string]func(map[string]any){
		"1 is understood":    func(m map[string]any) { m["feed"] = 2 },
		"it is no feed":      func(m map[string]any) { m["releases"] = "none" },
		"no firmware's name": release(func(r, _ map[string]any) { r["firmware"] = "" }),
		"no version":         release(func(r, _ map[string]any) { delete(r, "version") }),
		"the channel":        release(func(r, _ map[string]any) { r["channel"] = "beta" }),
		"has 0 images":       release(func(r, _ map[string]any) { r["images"] = []any{} }),
		"no address":         release(func(_, i map[string]any) { i["url"] = "" }),
		"no sha256":          release(func(_, i map[string]any) { i["sha256"] = "abc" }),
		"says that it has":   release(func(_, i map[string]any) { i["size"] = 1 << 40 }),
		"no model":           release(func(_, i map[string]any) { delete(i, "models") }),
		"the part":           release(func(_, i map[string]any) { i["part"] = "loader" }),
		"a manifest of more": release(func(_, i map[string]any) { i["manifest"] = strings.Repeat("x", MaxManifest+1) }),
		"are the same file":  func(m map[string]any) { m["releases"] = append(m["releases"].([]any), m["releases"].([]any)[0]) },
		"notes of more":      release(func(r, _ map[string]any) { r["notes"] = strings.Repeat("x", 65<<10) }),
		"a page of more":     func(m map[string]any) { m["pad"] = strings.Repeat("x", MaxFeedPage) },
	} {
		if _, err := ReadFeed(feed(change)); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
	}
}

func archive(t *testing.T, files map[string][]byte, more func(*zip.Writer)) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for name, data := range files {
		f, err := w.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		_, _ = f.Write(data)
	}
	if more != nil {
		more(w)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func TestReadArchive(t *testing.T) {
	var names []string
	read := func(b []byte) error {
		names = nil
		return ReadArchive(bytes.NewReader(b), int64(len(b)), func(e Entry) error { names = append(names, e.Name); return nil })
	}
	if err := read(archive(t, map[string][]byte{"builds/a.bin": code, IndexName: []byte("{}"), "empty": nil}, nil)); err != nil || names[0] != IndexName || len(names) != 3 {
		t.Fatal(names, err)
	}
	many := map[string][]byte{}
	for i := range maxEntries + 1 {
		many[fmt.Sprint(i)] = nil
	}
	lying := archive(t, map[string][]byte{"a": bytes.Repeat([]byte("x"), 100)}, nil)
	lying = bytes.ReplaceAll(lying, []byte{100, 0, 0, 0, 1, 0}, []byte{10, 0, 0, 0, 1, 0}) // the directory says 10
	for says, b := range map[string][]byte{
		"no zip archive": []byte("PK no"),
		"climbs out":     archive(t, map[string][]byte{"../../etc/x": code}, nil),
		"climbs out of":  archive(t, map[string][]byte{"/etc/x": code}, nil),
		"\\\\":           archive(t, map[string][]byte{`a\..\b`: code}, nil),
		"no plain file": archive(t, nil, func(w *zip.Writer) {
			h := &zip.FileHeader{Name: "link"}
			h.SetMode(0o777 | 1<<27)
			_, _ = w.CreateHeader(h)
		}),
		"is there twice":  archive(t, map[string][]byte{"a": code}, func(w *zip.Writer) { _, _ = w.Create("a") }),
		"times its size":  archive(t, map[string][]byte{"bomb": make([]byte, 32<<20)}, nil),
		"at most 64 are":  archive(t, map[string][]byte{"huge": make([]byte, MaxImage+1)}, nil),
		"at most 500 are": archive(t, many, nil),
		"read a":          lying,
	} {
		if err := read(b); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", says, err)
		}
		if says != "read a" && len(names) > 0 {
			t.Errorf("%s: %v were read before it was refused", says, names)
		}
	}
}

func FuzzReadFeed(f *testing.F) {
	f.Add(feed(nil))
	f.Fuzz(func(t *testing.T, b []byte) {
		if p, err := ReadFeed(b); err == nil {
			for _, r := range p.Releases {
				if len(r.Images) == 0 || r.Version == "" {
					t.Fatal("a hollow release")
				}
			}
		}
	})
}

func FuzzReadArchive(f *testing.F) {
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	x, _ := w.Create("a.bin")
	_, _ = x.Write(code)
	_ = w.Close()
	f.Add(out.Bytes())
	f.Fuzz(func(t *testing.T, b []byte) {
		_ = ReadArchive(bytes.NewReader(b), int64(len(b)), func(e Entry) error {
			if strings.HasPrefix(e.Name, "/") || strings.Contains(e.Name, "..") && strings.HasPrefix(e.Name, "..") {
				t.Fatal(e.Name)
			}
			return nil
		})
	})
}
