package store

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"fado/internal/core/problem"
	"fado/internal/core/secret"
)

func fresh(t testing.TB) *Store {
	t.Helper()
	s, err := Open(filepath.Join(t.TempDir(), "data"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return s
}

func write(t testing.TB, s *Store, fn func(tx *Tx) error) {
	t.Helper()
	if err := s.Write(context.Background(), fn); err != nil {
		t.Fatal(err)
	}
}

func TestNothingCanBeReadByOthers(t *testing.T) {
	s := fresh(t)
	write(t, s, func(tx *Tx) error { return Save(tx, &Meta{"x", "y"}) })
	err := filepath.WalkDir(s.Dir(), func(path string, d os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s has mode %04o", path, info.Mode().Perm())
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

func TestSealedValuesOpenInTheirPlaceOnly(t *testing.T) {
	s := fresh(t)
	sealed := s.Seal("network/1", secret.New("azeite virgem"))
	if bytes.Contains(sealed, []byte("azeite")) {
		t.Fatal("a sealed value can be read")
	}
	if got, err := s.Sealer.Open("network/1", sealed); err != nil || got.Expose() != "azeite virgem" {
		t.Fatal(got, err)
	}
	for _, bad := range [][]byte{sealed[:10], append(bytes.Clone(sealed), 1), nil} {
		if got, err := s.Sealer.Open("network/1", bad); err == nil && !got.IsZero() {
			t.Error("a changed value was opened")
		}
	}
	if _, err := s.Sealer.Open("network/2", sealed); err == nil {
		t.Error("a value was opened in another's place")
	}
	if bytes.Equal(sealed, s.Seal("network/1", secret.New("azeite virgem"))) {
		t.Error("the same secret looks the same twice")
	}
}

func TestKeyTroubleIsExplained(t *testing.T) {
	s := fresh(t)
	dir := s.Dir()
	s.Close()
	key := filepath.Join(dir, KeyFile)
	good, err := os.ReadFile(key)
	if err != nil {
		t.Fatal(err)
	}
	other := fresh(t)
	foreign, _ := os.ReadFile(filepath.Join(other.Dir(), KeyFile))
	for name, c := range map[string]struct {
		break_ func() error
		want   string
	}{
		"missing":  {func() error { return os.Remove(key) }, "is missing"},
		"open":     {func() error { return os.Chmod(key, 0o644) }, "can be read by others"},
		"cut":      {func() error { return os.WriteFile(key, good[:20], 0o600) }, "cannot be used"},
		"anothers": {func() error { return os.WriteFile(key, foreign, 0o600) }, "does not fit"},
	} {
		if err := c.break_(); err != nil {
			t.Fatal(err)
		}
		s, err := Open(dir)
		if p := problem.As(err); p == nil || !strings.Contains(p.What, c.want) || p.Cause == "" || p.Next == "" {
			t.Errorf("%s: %v", name, err)
		}
		if err == nil {
			s.Close()
		}
		_ = os.Remove(key)
		if err := os.WriteFile(key, good, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	again, err := Open(dir)
	if err != nil {
		t.Fatal("the right key back in its place:", err)
	}
	again.Close()
}

func TestANewerSchemaIsRefused(t *testing.T) {
	s := fresh(t)
	if err := s.writer.Exec("INSERT INTO migrations (id) VALUES ('2031-01-01-later')").Error; err != nil {
		t.Fatal(err)
	}
	s.Close()
	_, err := Open(s.Dir())
	if p := problem.As(err); p == nil || !strings.Contains(p.What, "newer Fado") {
		t.Fatal(err)
	}
}

// TestAfterRunsOnceCommitted: who is told of a change can read it, and nobody
// is told of one that was not kept.
func TestAfterRunsOnceCommitted(t *testing.T) {
	s := fresh(t)
	told := 0
	write := func(name string, end error) error {
		return s.Write(t.Context(), func(tx *Tx) error {
			if err := Create(tx, &File{Kind: "model", Name: name}); err != nil {
				return err
			}
			tx.After(func() {
				told++
				if _, err := One[File](s.Read(t.Context()), "name = ?", name); err != nil {
					t.Errorf("told of %s before it could be read: %v", name, err)
				}
			})
			return end
		})
	}
	if err := write("kept", nil); err != nil || told != 1 {
		t.Errorf("after a commit: told %d times, %v", told, err)
	}
	if err := write("dropped", errors.New("no")); err == nil || told != 1 {
		t.Errorf("after a failed write: told %d times, %v", told, err)
	}
}

func TestAWriteIsAllOrNothing(t *testing.T) {
	s := fresh(t)
	boom := errors.New("boom")
	err := s.Write(context.Background(), func(tx *Tx) error {
		if err := Save(tx, &Meta{"half", "done"}); err != nil {
			return err
		}
		return boom
	})
	if !errors.Is(err, boom) {
		t.Fatal(err)
	}
	if _, err := One[Meta](s.Read(context.Background()), "name = ?", "half"); !errors.Is(err, ErrNone) {
		t.Fatal("half of a write is there")
	}
}

func TestForeignKeysAndUniqueNamesHold(t *testing.T) {
	s := fresh(t)
	err := s.Write(context.Background(), func(tx *Tx) error { return Create(tx, &Room{ID: "r", SiteID: "nowhere", Name: "x"}) })
	if err == nil || !strings.Contains(err.Error(), "FOREIGN KEY") {
		t.Errorf("a room without a site: %v", err)
	}
	write(t, s, func(tx *Tx) error { return Create(tx, &Site{ID: "s", Key: "lagar"}) })
	err = s.Write(context.Background(), func(tx *Tx) error { return Create(tx, &Site{ID: "s2", Key: "lagar"}) })
	if !Taken(err) {
		t.Errorf("two sites with one key: %v", err)
	}
}

func fill(t testing.TB, s *Store, n int) {
	t.Helper()
	write(t, s, func(tx *Tx) error {
		if err := Save(tx, &Site{ID: "s", Key: "lagar"}); err != nil {
			return err
		}
		list := make([]Device, 0, 500)
		for i := range n {
			name := fmt.Sprintf("device %06d", i)
			list = append(list, Device{ID: fmt.Sprintf("d%06d", i), SiteID: "s", Name: name, Hostname: fmt.Sprintf("h%d", i), BrokerID: "b", Topic: fmt.Sprintf("t/%d", i),
				Model: []string{"junco", "sobro"}[i%2], Stage: []string{"listed", "adopted"}[i%2], Tags: ",water,", Search: name, Presence: "online", CreatedAt: time.Now(), UpdatedAt: time.Now()})
			if len(list) == 500 || i == n-1 {
				if err := SaveAll(tx, list); err != nil {
					return err
				}
				list = list[:0]
			}
		}
		return nil
	})
}

func TestPagesOfDevices(t *testing.T) {
	s := fresh(t)
	fill(t, s, 130)
	tx := s.Read(context.Background())
	seen := map[string]bool{}
	name, id := "", ""
	for {
		page, total, err := Devices(tx, DeviceFilter{SiteID: "s", Model: "junco", Tag: "water"}, name, id, 20)
		if err != nil || total != 65 {
			t.Fatal(total, err)
		}
		for _, d := range page {
			if seen[d.ID] || d.Model != "junco" {
				t.Fatalf("%s comes twice or is no junco", d.ID)
			}
			seen[d.ID] = true
			name, id = d.Name, d.ID
		}
		if len(page) < 20 {
			break
		}
	}
	if len(seen) != 65 {
		t.Fatalf("%d of 65", len(seen))
	}
	for search, want := range map[string]int64{"000042": 1, "device 00004": 11, "%": 0, "nothing": 0} {
		if _, n, err := Devices(tx, DeviceFilter{Search: search}, "", "", 5); err != nil || n != want {
			t.Errorf("%q: %d, want %d (%v)", search, n, want, err)
		}
	}
}

func TestBackupAndRestore(t *testing.T) {
	s := fresh(t)
	sealed := s.Seal("network/1", secret.New("azeite virgem"))
	write(t, s, func(tx *Tx) error {
		return errors.Join(Save(tx, &Site{ID: "s", Key: "lagar"}), Create(tx, &Network{ID: "1", SiteID: "s", SSID: "casa", Passphrase: sealed}))
	})
	if err := os.WriteFile(s.ImagePath("abc"), []byte("an image"), 0o600); err != nil {
		t.Fatal(err)
	}
	var file bytes.Buffer
	pass := secret.New("quatro palavras e um numero")
	if err := s.Backup(context.Background(), &file, pass); err != nil {
		t.Fatal(err)
	}
	if bytes.Contains(file.Bytes(), []byte("azeite")) || bytes.Contains(file.Bytes(), []byte("an image")) {
		t.Fatal("the backup can be read without its passphrase")
	}
	into := filepath.Join(t.TempDir(), "restored")
	whole := file.Bytes()
	for name, c := range map[string]struct {
		file []byte
		pass string
	}{"another passphrase": {whole, "wrong words"}, "cut short": {whole[:len(whole)-40], "quatro palavras e um numero"}, "changed": {append(bytes.Clone(whole[:len(whole)/2]), append([]byte{1, 2, 3}, whole[len(whole)/2+3:]...)...), "quatro palavras e um numero"}} {
		if err := Restore(bytes.NewReader(c.file), into, secret.New(c.pass)); problem.As(err) == nil {
			t.Errorf("%s: %v", name, err)
		}
		if _, err := os.Stat(into); err == nil {
			t.Fatalf("%s: something was left behind", name)
		}
	}
	if err := Restore(bytes.NewReader(whole), into, pass); err != nil {
		t.Fatal(err)
	}
	if err := Restore(bytes.NewReader(whole), into, pass); problem.As(err) == nil {
		t.Error("a backup was restored over a folder in use")
	}
	back, err := Open(into)
	if err != nil {
		t.Fatal(err)
	}
	defer back.Close()
	n, err := One[Network](back.Read(context.Background()), "id = ?", "1")
	if err != nil {
		t.Fatal(err)
	}
	if got, err := back.Sealer.Open("network/1", n.Passphrase); err != nil || got.Expose() != "azeite virgem" {
		t.Error(got, err)
	}
	if b, err := os.ReadFile(back.ImagePath("abc")); err != nil || string(b) != "an image" {
		t.Error(string(b), err)
	}
}

func TestKeptForTheBroker(t *testing.T) {
	s := fresh(t)
	ctx := context.Background()
	batch := map[string][]byte{}
	for i := range 1200 {
		batch[fmt.Sprintf("r/%d", i)] = []byte("x")
	}
	if err := s.SaveKept(ctx, batch); err != nil {
		t.Fatal(err)
	}
	for k := range batch {
		if k != "r/7" {
			batch[k] = nil
		}
	}
	if err := s.SaveKept(ctx, batch); err != nil {
		t.Fatal(err)
	}
	if got, err := s.LoadKept(ctx); err != nil || len(got) != 1 || string(got["r/7"]) != "x" {
		t.Fatal(len(got), err)
	}
}

// BenchmarkPage reads a filtered page of 50 of 100,000 devices with its count.
func BenchmarkPage(b *testing.B) {
	s := fresh(b)
	fill(b, s, 100_000)
	tx := s.Read(context.Background())
	for b.Loop() {
		if _, _, err := Devices(tx, DeviceFilter{SiteID: "s", Stage: "adopted", Search: "0042"}, "", "", 50); err != nil {
			b.Fatal(err)
		}
	}
}
