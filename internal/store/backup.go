package store

import (
	"archive/tar"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"
	"gorm.io/gorm"

	"fado/internal/core/problem"
	"fado/internal/core/secret"
)

// lastEntry closes a backup, so that one that was cut short is told apart.
const lastEntry = "complete"

// Backup writes records, telemetry, images and the sealing key as one file,
// sealed with a passphrase (age, scrypt), while the service runs.
func (s *Store) Backup(ctx context.Context, w io.Writer, passphrase secret.Secret) error {
	temp, err := os.MkdirTemp(s.dir, ".backup-")
	if err != nil {
		return fmt.Errorf("make room for the backup: %w", err)
	}
	defer os.RemoveAll(temp)
	// VACUUM INTO writes a consistent copy of a database in use.
	for name, db := range map[string]*gorm.DB{recordsFile: s.reader, telemetryFile: s.telemetry} {
		if err := db.WithContext(ctx).Exec("VACUUM INTO ?", filepath.Join(temp, name)).Error; err != nil {
			return fmt.Errorf("copy %s: %w", name, err)
		}
	}
	recipient, err := age.NewScryptRecipient(passphrase.Expose())
	if err != nil {
		return fmt.Errorf("seal the backup: %w", err)
	}
	sealed, err := age.Encrypt(w, recipient)
	if err != nil {
		return fmt.Errorf("seal the backup: %w", err)
	}
	zipped := gzip.NewWriter(sealed)
	out := tar.NewWriter(zipped)
	files := map[string]string{recordsFile: filepath.Join(temp, recordsFile), telemetryFile: filepath.Join(temp, telemetryFile), KeyFile: filepath.Join(s.dir, KeyFile)}
	images, err := os.ReadDir(filepath.Join(s.dir, "images"))
	if err != nil {
		return err
	}
	for _, i := range images {
		if !strings.HasPrefix(i.Name(), ".") {
			files["images/"+i.Name()] = s.ImagePath(i.Name())
		}
	}
	for name, path := range files {
		if err := addFile(ctx, out, name, path); err != nil {
			return fmt.Errorf("back up %s: %w", name, err)
		}
	}
	if err := out.WriteHeader(&tar.Header{Name: lastEntry, Mode: 0o600, ModTime: time.Now()}); err != nil {
		return err
	}
	for _, c := range []io.Closer{out, zipped, sealed} {
		if err := c.Close(); err != nil {
			return err
		}
	}
	return nil
}

func addFile(ctx context.Context, out *tar.Writer, name, path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return err
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	if err := out.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: info.Size(), ModTime: info.ModTime()}); err != nil {
		return err
	}
	_, err = io.CopyN(out, f, info.Size())
	return err
}

// Restore opens a backup into an empty data folder. Nothing is left behind when
// it fails.
func Restore(r io.Reader, dir string, passphrase secret.Secret) (err error) {
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return problem.New(problem.Conflict, fmt.Sprintf("The folder %s is not empty.", dir), "A backup is restored into a new folder, so that nothing is overwritten.", "Name a folder that does not exist yet.")
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	identity, err := age.NewScryptIdentity(passphrase.Expose())
	if err != nil {
		return err
	}
	opened, err := age.Decrypt(r, identity)
	if err != nil {
		return problem.New(problem.Denied, "The backup cannot be opened.", "The passphrase is another, or the file is no backup of Fado.", "Try the passphrase that it was made with.").Because(err)
	}
	temp := strings.TrimRight(dir, "/") + ".incoming"
	if err := os.MkdirAll(filepath.Join(temp, "images"), 0o700); err != nil {
		return err
	}
	defer os.RemoveAll(temp)
	broken := func(err error) error {
		return problem.New(problem.Broken, "The backup is damaged or cut short.", "Its copy was interrupted, or the disk lost bytes.", "Use another copy. Nothing was restored.").Because(err)
	}
	zipped, err := gzip.NewReader(opened)
	if err != nil {
		return broken(err)
	}
	complete := false
	in := tar.NewReader(zipped)
	for {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return broken(err)
		}
		if h.Name == lastEntry {
			complete = true
			continue
		}
		if !filepath.IsLocal(h.Name) {
			return broken(fmt.Errorf("it holds the path %q", h.Name))
		}
		f, err := os.OpenFile(filepath.Join(temp, h.Name), os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		_, err = io.Copy(f, in)
		if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
			return broken(err)
		}
	}
	if !complete {
		return broken(errors.New("its end is missing"))
	}
	_ = os.Remove(dir) // an empty folder may stand there
	return os.Rename(temp, dir)
}
