package engine

import (
	"cmp"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"fado/internal/core/firmware"
	"fado/internal/core/problem"
	"fado/internal/core/secret"
	"fado/internal/core/settings"
	"fado/internal/core/task"
	"fado/internal/core/version"
	"fado/internal/fail"
	"fado/internal/store"
)

// linkLife is how long a download link is valid. It is never scaled.
const linkLife = 2 * time.Hour

// ImageFacts is what a person says of an image.
type ImageFacts struct {
	Firmware, Version, Channel, Part, Chip, OldestFrom, Notes string
	Models                                                    []string
	NeedsKiB                                                  int
	Step                                                      bool   // only on the way to others
	Manifest                                                  string // brought along; "" lets Fado sign
	Unsigned                                                  bool
}

func coreImage(i store.Image) firmware.Image {
	return firmware.Image{SHA256: i.SHA256, Firmware: i.Firmware, Version: i.Version, Channel: firmware.Channel(i.Channel), Part: firmware.Part(i.Part),
		Models: SplitList(i.Models), Chip: i.Chip, Size: i.Size, NeedsKiB: i.NeedsKiB, OldestFrom: i.OldestFrom, Notes: i.Notes, Step: i.Step,
		Sequence: i.Sequence, Signed: i.Manifest != "", Withdrawn: i.Withdrawn}
}

// SplitList takes a stored list, with commas at both ends, apart.
func SplitList(s string) []string {
	s = strings.Trim(s, ",")
	if s == "" {
		return []string{}
	}
	return strings.Split(s, ",")
}

// FindImage finds an image by the start of its SHA-256, at least eight digits.
func (e *Engine) FindImage(ctx context.Context, ref string) (store.Image, error) {
	if len(ref) < 8 || strings.ContainsAny(ref, "%_") {
		return store.Image{}, notFound("image", ref)
	}
	list, err := store.Some[store.Image](e.Store.Read(ctx), 2, "sha256", "sha256 LIKE ?", strings.ToLower(ref)+"%")
	if err != nil {
		return store.Image{}, err
	}
	switch len(list) {
	case 0:
		return store.Image{}, notFound("image", ref)
	case 1:
		return list[0], nil
	}
	return store.Image{}, problem.New(problem.Conflict, fmt.Sprintf("%q is the start of several images.", ref), "", "Give more digits.")
}

// AddImage stores a file under its SHA-256, once, and signs its manifest. The
// file is there as a whole or not at all, whenever the power goes.
func (e *Engine) AddImage(ctx context.Context, actor string, file io.Reader, f ImageFacts) (store.Image, error) {
	sum, size, temp, err := e.receive(file)
	if err != nil {
		return store.Image{}, err
	}
	defer os.Remove(temp)
	says, err := e.inspect(temp, &f)
	if err != nil {
		return store.Image{}, err
	}
	if err := e.checkImageFacts(f); err != nil {
		return store.Image{}, err
	}
	img := store.Image{Says: store.JSON(says), SHA256: sum, Size: size, Firmware: f.Firmware, Version: f.Version, Channel: f.Channel, Part: f.Part, Chip: f.Chip, OldestFrom: f.OldestFrom,
		Step: f.Step, Notes: f.Notes, NeedsKiB: f.NeedsKiB, Models: "," + strings.Join(f.Models, ",") + ",", AddedAt: e.Clock.Now(), AddedBy: actor}
	path := e.Store.ImagePath(sum)
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		if _, dl := e.ofOneClass(f); dl != "" {
			return problem.New(problem.BadInput, dl, "Units of different chips were named together.", "Add the image for the models that share a chip.")
		}
		if old, err := store.One[store.Image](tx, "sha256 = ?", sum); err == nil {
			return problem.New(problem.Conflict, fmt.Sprintf("This very file is stored already, as %s %s.", old.Firmware, old.Version), "It was added before; an image is never changed.",
				fmt.Sprintf("Use the image %.12s.", sum))
		}
		if err := e.signImage(tx, &img, f); err != nil {
			return err
		}
		fail.Point("before image file")
		if err := os.Rename(temp, path); err != nil {
			return fmt.Errorf("store the image: %w", err)
		}
		fail.Point("after image file")
		if err := syncDir(filepath.Dir(path)); err != nil {
			return err
		}
		info, err := os.Stat(path)
		if err != nil {
			return err
		}
		img.FileSize, img.FileTime, img.FileInode = info.Size(), info.ModTime().UTC(), inode(info)
		if err := store.Create(tx, &img); err != nil {
			return err
		}
		e.mark(tx, "image", sum)
		if err := e.followChannels(tx, f.Models); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "image", Text: fmt.Sprintf("The image %s %s (%s, %d bytes, SHA-256 %.12s…) was added.", img.Firmware, img.Version, img.Channel, size, sum)})
	})
	return img, err
}

// inspect reads what a stored file says of itself, fills in what a person left out,
// and refuses it where the two differ.
func (e *Engine) inspect(path string, f *ImageFacts) (firmware.Says, error) {
	file, err := os.ReadFile(path)
	if err != nil {
		return firmware.Says{}, fmt.Errorf("read the image: %w", err)
	}
	says, code, err := firmware.Inspect(file)
	if err != nil {
		return says, problem.New(problem.BadInput, fmt.Sprintf("The file is no good %s file: %s.", formatName(says.Format), err), "It was cut or changed on its way.", "Get the file again and compare its SHA-256 with the maker's.")
	}
	err = e.agree(&says, code, f)
	return says, err
}

// agree fills in what a person left out of what a file says, and refuses it where the
// two differ.
func (e *Engine) agree(says *firmware.Says, code []byte, f *ImageFacts) error {
	var bad problem.Fields
	for _, name := range f.Models {
		m, ok := e.Model(name)
		if !ok {
			continue // which is refused later
		}
		fields, err := firmware.ReadFields(code, m.ImageFields)
		if err != nil {
			bad.Add("file", fmt.Sprintf("it is no image of a %s: %s", name, err), "")
			continue
		}
		says.Fields = fields
		if f.Version == "" {
			f.Version = fields["version"]
		}
		if f.Firmware == "" {
			f.Firmware = cmp.Or(fields["product"], m.Firmware)
		}
		for _, c := range says.Conflicts(firmware.Image{Version: f.Version, Firmware: f.Firmware, Chip: f.Chip}, m) {
			bad.Add(c.What, fmt.Sprintf("for a %s %s", name, c), c.File)
		}
	}
	return bad.Err("The image was not added: it says something else of itself.")
}

func formatName(format string) string {
	return map[string]string{firmware.UF2: "UF2", firmware.HexFile: "Intel HEX", firmware.Gzip: "gzip"}[format]
}

// ofOneClass tells the chip of the models of an image, and what is wrong when there
// are several.
func (e *Engine) ofOneClass(f ImageFacts) (chip, wrong string) {
	for _, name := range f.Models {
		m, ok := e.Model(name)
		switch {
		case !ok:
		case chip == "":
			chip = m.Chip
		case m.Chip != "" && m.Chip != chip:
			return chip, fmt.Sprintf("The image was not added: it is said to be for models with the chips %s and %s.", chip, m.Chip)
		}
	}
	return chip, ""
}

func (e *Engine) checkImageFacts(f ImageFacts) error {
	var bad problem.Fields
	if f.Firmware == "" || strings.Contains(f.Firmware, ",") {
		bad.Add("firmware", "must not be empty", "junco")
	}
	if f.Version == "" || len(f.Version) > 64 {
		bad.Add("version", "must not be empty, at most 64 characters", "1.4.0")
	}
	switch firmware.Channel(f.Channel) {
	case firmware.Stable, firmware.Preview, firmware.Nightly:
	default:
		bad.Add("channel", "stable, preview or nightly", "stable")
	}
	switch firmware.Part(f.Part) {
	case firmware.Program, firmware.FileArea:
	default:
		bad.Add("part", "program or files", "program")
	}
	if len(f.Models) == 0 {
		bad.Add("models", "at least one model that it is for", "junco")
	}
	for _, m := range f.Models {
		if _, ok := e.Model(m); !ok {
			bad.Add("models", fmt.Sprintf("there is no model %q", m), "")
		}
	}
	return bad.Err("The image was not added.")
}

// receive writes the file beside its final place, in full and on disk.
func (e *Engine) receive(file io.Reader) (sum string, size int64, path string, err error) {
	t, err := os.CreateTemp(filepath.Join(e.Store.Dir(), "images"), ".incoming-")
	if err != nil {
		return "", 0, "", fmt.Errorf("store the image: %w", err)
	}
	defer func() {
		_ = t.Close()
		if err != nil {
			_ = os.Remove(t.Name())
		}
	}()
	h := sha256.New()
	size, err = io.Copy(io.MultiWriter(t, h), io.LimitReader(file, firmware.MaxImage+1))
	switch {
	case err != nil:
		return "", 0, "", fmt.Errorf("store the image: %w", err)
	case size > firmware.MaxImage:
		err = problem.New(problem.BadInput, fmt.Sprintf("The image is longer than %d MiB.", firmware.MaxImage>>20), "This is not a firmware image for a small device.", "Choose the right file.")
		return "", 0, "", err
	case size == 0:
		err = problem.New(problem.BadInput, "The image is empty.", "The file was not written completely.", "Choose the right file.")
		return "", 0, "", err
	}
	if err = t.Sync(); err != nil {
		return "", 0, "", fmt.Errorf("store the image: %w", err)
	}
	return hex.EncodeToString(h.Sum(nil)), size, t.Name(), nil
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}

func inode(info os.FileInfo) uint64 {
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		return st.Ino
	}
	return 0
}

// signImage signs a manifest with Fado's key, or takes the one that came along.
func (e *Engine) signImage(tx *store.Tx, img *store.Image, f ImageFacts) error {
	last, err := store.Some[store.Image](tx, 1, "sequence DESC", "firmware = ?", img.Firmware)
	if err != nil {
		return err
	}
	img.Sequence = 1
	if len(last) > 0 {
		img.Sequence = last[0].Sequence + 1
	}
	key, err := currentKey(tx)
	if err != nil {
		return fmt.Errorf("find the signing key: %w", err)
	}
	switch {
	case f.Manifest != "":
		keys, err := store.All[store.SigningKey](tx, "id", "1 = 1")
		if err != nil {
			return err
		}
		var m firmware.Manifest
		err = fmt.Errorf("the manifest is not signed by a key that is trusted here")
		for _, k := range keys {
			pub, bad := firmware.ParsePublicKey(k.Public)
			if bad != nil {
				return bad
			}
			if m, bad = firmware.Verify(f.Manifest, pub); bad == nil {
				img.SignedBy, err = k.ID, nil
				break
			} else if !strings.Contains(bad.Error(), "not signed by a key") {
				err = bad
			}
		}
		if last := img.Sequence - 1; err == nil && m.Sequence < last {
			err = fmt.Errorf("its sequence %d is older than %d, which %s had before", m.Sequence, last, img.Firmware)
		}
		if err == nil {
			err = m.Match(coreImage(*img))
		}
		if err != nil {
			return problem.New(problem.BadInput, "The manifest does not belong to this file: "+err.Error()+".", "It was made for another build, or signed by a key that units here do not trust.",
				"Leave it out, and Fado signs the image with its own key; or trust the maker's key with «fado key bring».")
		}
		img.Manifest, img.Sequence, img.Brought = f.Manifest, m.Sequence, true
	case !f.Unsigned:
		private, err := e.signer(key)
		if err != nil {
			return err
		}
		if img.Manifest, err = firmware.Sign(firmware.ManifestOf(coreImage(*img)), private); err != nil {
			return err
		}
		img.SignedBy = key.ID
	}
	return nil
}

// signer opens a key of Fado's own; nil for one that was brought along to trust.
func (e *Engine) signer(key store.SigningKey) (ed25519.PrivateKey, error) {
	private, err := e.open("signing key", key.ID, key.Private)
	if err != nil {
		return nil, err
	}
	seed, err := hex.DecodeString(private.Expose())
	if err != nil || len(seed) != ed25519.SeedSize {
		return nil, fmt.Errorf("the signing key %s cannot be read", key.ID)
	}
	return ed25519.NewKeyFromSeed(seed), nil
}

// manifestFor is the manifest of an image that a unit takes: signed by the key that the
// unit was told, as long as Fado has it. After a change of keys a unit that was not
// told of the new one yet is offered what it knows. A unit that goes back to an older
// image, which its site allows, would refuse its sequence number (RFC 9124, manifest
// sequence number); for it the image is signed under the highest that there is.
func (e *Engine) manifestFor(ctx context.Context, d store.Device, img store.Image) (string, error) {
	tx := e.Store.Read(ctx)
	if img.Manifest == "" {
		return "", nil
	}
	key, err := e.keyFor(tx, d, img)
	if err != nil {
		return "", err
	}
	back := false
	if site, err := store.One[store.Site](tx, "id = ?", d.SiteID); err == nil && site.AllowDowngrade && !img.Brought {
		back = version.Stand(d.Running, img.Version) == version.Ahead
	}
	if len(key.Private) == 0 || key.ID == img.SignedBy && !back {
		return img.Manifest, nil // the unit says whether it takes it
	}
	x := coreImage(img)
	if back {
		last, err := store.Some[store.Image](tx, 1, "sequence DESC", "firmware = ?", img.Firmware)
		if err != nil {
			return "", err
		}
		x.Sequence = max(x.Sequence, last[0].Sequence)
	}
	private, err := e.signer(key)
	if err != nil {
		return "", err
	}
	return firmware.Sign(firmware.ManifestOf(x), private)
}

// keyFor is the key that a unit was told, or else the one that signed the image.
func (e *Engine) keyFor(tx *store.Tx, d store.Device, img store.Image) (store.SigningKey, error) {
	signed, err := store.One[store.SigningKey](tx, "id = ?", img.SignedBy)
	if err != nil && !isNone(err) {
		return signed, err
	}
	told, err := store.One[store.Fact](tx, "device_id = ? AND kind = 'reported' AND key = ?", d.ID, string(settings.UpdateKey))
	if isNone(err) {
		return signed, nil
	}
	if err != nil {
		return signed, err
	}
	var public string
	if json.Unmarshal([]byte(told.Value), &public) != nil || public == "" {
		return signed, nil
	}
	key, err := store.One[store.SigningKey](tx, "public = ?", public)
	if isNone(err) {
		return signed, nil
	}
	return key, err
}

// Keys lists the keys that sign manifests, or are trusted to have.
func (e *Engine) Keys(ctx context.Context) ([]store.SigningKey, error) {
	return store.All[store.SigningKey](e.Store.Read(ctx), "created_at DESC, id", "1 = 1")
}

// RotateKey makes another key, with which manifests are signed from now on. The old one
// stays, for units that were not told of the new one yet.
func (e *Engine) RotateKey(ctx context.Context, actor string) (store.SigningKey, error) {
	pub, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return store.SigningKey{}, fmt.Errorf("make the signing key: %w", err)
	}
	return e.keepKey(ctx, actor, pub, secret.New(hex.EncodeToString(private.Seed())), "was made")
}

// BringKey takes a key that was made elsewhere. With its private part, a PKCS #8 key in
// PEM form (RFC 8410), manifests are signed with it from now on; with its public part
// alone, manifests that came along with an image may be signed by it.
func (e *Engine) BringKey(ctx context.Context, actor, text string) (store.SigningKey, error) {
	var f problem.Fields
	block, _ := pem.Decode([]byte(text))
	if block != nil && block.Type == "PRIVATE KEY" {
		k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
		private, ok := k.(ed25519.PrivateKey)
		if err != nil || !ok {
			f.Add("key", "an Ed25519 key (RFC 8410)", "openssl genpkey -algorithm ed25519")
			return store.SigningKey{}, f.Err("The key was not taken.")
		}
		return e.keepKey(ctx, actor, private.Public().(ed25519.PublicKey), secret.New(hex.EncodeToString(private.Seed())), "was brought along")
	}
	pub, err := firmware.ParsePublicKey(strings.TrimSpace(text))
	if block != nil && block.Type == "PUBLIC KEY" {
		var k any
		if k, err = x509.ParsePKIXPublicKey(block.Bytes); err == nil {
			var ok bool
			if pub, ok = k.(ed25519.PublicKey); !ok {
				err = errors.New("another kind of key")
			}
		}
	}
	if err != nil {
		f.Add("key", "an Ed25519 key in PEM form, or its public part as the x member of a JWK (RFC 8037)", "openssl genpkey -algorithm ed25519")
		return store.SigningKey{}, f.Err("The key was not taken.")
	}
	return e.keepKey(ctx, actor, pub, secret.Secret{}, "is trusted")
}

func (e *Engine) keepKey(ctx context.Context, actor string, pub ed25519.PublicKey, private secret.Secret, how string) (store.SigningKey, error) {
	k := store.SigningKey{ID: firmware.KeyID(pub), Public: firmware.PublicKeyText(pub), CreatedAt: e.Clock.Now()}
	if !private.IsZero() {
		k.Private = e.seal("signing key", k.ID, private)
	}
	return k, e.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := store.One[store.SigningKey](tx, "id = ?", k.ID); err == nil {
			return problem.New(problem.Conflict, fmt.Sprintf("The key %s is here already.", k.ID), "It was taken before.", "List the keys with «fado key list».")
		}
		if err := store.Create(tx, &k); err != nil {
			return err
		}
		if len(k.Private) > 0 {
			if _, err := store.Change[store.SigningKey](tx, map[string]any{"retired_at": k.CreatedAt}, "id <> ? AND private IS NOT NULL AND retired_at IS NULL", k.ID); err != nil {
				return err
			}
			if err := e.signAnew(tx, k); err != nil {
				return err
			}
			if _, err := store.NextRevision(tx, k.CreatedAt, actor, "signing key"); err != nil {
				return err
			}
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "key", Text: fmt.Sprintf("The signing key %s %s. Units are told of it when their settings are applied.", k.ID, how)})
	})
}

// signAnew signs what Fado itself has signed with another key.
func (e *Engine) signAnew(tx *store.Tx, key store.SigningKey) error {
	private, err := e.signer(key)
	if err != nil {
		return err
	}
	list, err := store.All[store.Image](tx, "sha256", "signed_by IN (SELECT id FROM signing_keys WHERE private IS NOT NULL) AND brought = 0")
	if err != nil {
		return err
	}
	for _, i := range list {
		m, err := firmware.Sign(firmware.ManifestOf(coreImage(i)), private)
		if err != nil {
			return err
		}
		if _, err := store.Change[store.Image](tx, map[string]any{"manifest": m, "signed_by": key.ID}, "sha256 = ?", i.SHA256); err != nil {
			return err
		}
	}
	return nil
}

func currentKey(tx *store.Tx) (store.SigningKey, error) {
	list, err := store.Some[store.SigningKey](tx, 1, "created_at DESC", "retired_at IS NULL AND private IS NOT NULL")
	if err != nil || len(list) == 0 {
		return store.SigningKey{}, errors.Join(err, store.ErrNone)
	}
	return list[0], nil
}

// EnsureKey makes the signing key at the first start.
func EnsureKey(ctx context.Context, s *store.Store, at time.Time) error {
	return s.Write(ctx, func(tx *store.Tx) error {
		if _, err := currentKey(tx); err == nil {
			return nil
		}
		pub, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return fmt.Errorf("make the signing key: %w", err)
		}
		id := firmware.KeyID(pub)
		return store.Create(tx, &store.SigningKey{ID: id, Public: firmware.PublicKeyText(pub), CreatedAt: at,
			Private: s.Seal("signing key/"+id, secret.New(hex.EncodeToString(private.Seed())))})
	})
}

// Withdraw takes an image out of use; it stays for the record.
func (e *Engine) Withdraw(ctx context.Context, actor, ref, why string) (store.Image, error) {
	img, err := e.FindImage(ctx, ref)
	if err != nil {
		return img, err
	}
	if strings.TrimSpace(why) == "" {
		var f problem.Fields
		f.Add("reason", "must not be empty", "Loses its clock after a day.")
		return img, f.Err("The image was not withdrawn.")
	}
	img.Withdrawn = why
	return img, e.Store.Write(ctx, func(tx *store.Tx) error {
		if _, err := store.Change[store.Image](tx, map[string]any{"withdrawn": why}, "sha256 = ?", img.SHA256); err != nil {
			return err
		}
		e.mark(tx, "image", img.SHA256)
		if err := e.followChannels(tx, SplitList(img.Models)); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "image", Text: fmt.Sprintf("The image %s %s was withdrawn: %s", img.Firmware, img.Version, why)})
	})
}

// DeleteImage removes an image to which nothing refers. One that was ever sent to a
// unit stays, for the record.
func (e *Engine) DeleteImage(ctx context.Context, actor, ref string) error {
	img, err := e.FindImage(ctx, ref)
	if err != nil {
		return err
	}
	err = e.Store.Write(ctx, func(tx *store.Tx) error {
		n, err := store.Count[store.Task](tx, "kind = ? AND instr(state, ?) > 0", string(task.Update), img.SHA256)
		if err != nil {
			return err
		}
		running, err := store.Count[store.Device](tx, "digest = ?", img.SHA256)
		if err != nil {
			return err
		}
		if n+running > 0 {
			return problem.New(problem.Conflict, fmt.Sprintf("%s %s was not deleted.", img.Firmware, img.Version), fmt.Sprintf("%d updates and %d units refer to it.", n, running), "Withdraw it with «fado image withdraw»; it stays for the record.")
		}
		if _, err := store.Delete[store.Image](tx, "sha256 = ?", img.SHA256); err != nil {
			return err
		}
		e.mark(tx, "image", img.SHA256)
		if err := e.followChannels(tx, SplitList(img.Models)); err != nil {
			return err
		}
		return e.event(tx, store.Event{Actor: actor, Kind: "image", Text: fmt.Sprintf("The image %s %s (SHA-256 %.12s…) was deleted; no unit ever took it.", img.Firmware, img.Version, img.SHA256)})
	})
	if err != nil {
		return err
	}
	if err := os.Remove(e.Store.ImagePath(img.SHA256)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("remove the image's file: %w", err)
	}
	return nil
}

// makeLink stores the link of an update, or renews its time.
func (e *Engine) makeLink(ctx context.Context, taskID string, d store.Device) (time.Time, error) {
	rec, err := e.Task(ctx, taskID)
	if err != nil {
		return time.Time{}, err
	}
	sum, err := legOf(rec)
	if err != nil {
		return time.Time{}, err
	}
	img, err := e.FindImage(ctx, sum)
	if err != nil {
		return time.Time{}, err
	}
	if _, err := e.VerifyImage(ctx, img); err != nil {
		return time.Time{}, err
	}
	site, err := e.FindSite(ctx, d.SiteID)
	if err != nil {
		return time.Time{}, err
	}
	if site.DownloadAddress == "" || site.DownloadProven == nil {
		return time.Time{}, fmt.Errorf("the download address of %s is not set or not proven", site.Name)
	}
	e.downloads.end(taskID) // its time is renewed, or another leg begins
	until := time.Now().UTC().Add(linkLife)
	return until, e.Store.Write(ctx, func(tx *store.Tx) error {
		l, err := store.One[store.Link](tx, "task_id = ?", taskID)
		if isNone(err) {
			l, err = store.Link{ID: store.NewID(), TaskID: taskID, Image: img.SHA256}, nil
		}
		if err != nil {
			return err
		}
		if l.Image != img.SHA256 { // the next leg of a route
			if _, err := store.Delete[store.Link](tx, "id = ?", l.ID); err != nil {
				return err
			}
			l = store.Link{ID: store.NewID(), TaskID: taskID, Image: img.SHA256}
		}
		l.Expires = until
		return store.Save(tx, &l)
	})
}

func (e *Engine) linkAddress(ctx context.Context, taskID string, d store.Device) (secret.Secret, error) {
	l, err := store.One[store.Link](e.Store.Read(ctx), "task_id = ?", taskID)
	if err != nil {
		return secret.Secret{}, fmt.Errorf("find the link: %w", err)
	}
	site, err := e.FindSite(ctx, d.SiteID)
	if err != nil {
		return secret.Secret{}, err
	}
	return secret.New(strings.TrimRight(site.DownloadAddress, "/") + "/image/" + l.ID + "/" + e.Store.LinkMAC(l.ID)), nil
}

// VerifyImage makes sure that the stored file is the image. It reads the whole
// file when its size, time or inode are not those of the last time, and returns what
// they are now.
func (e *Engine) VerifyImage(ctx context.Context, img store.Image) (store.Image, error) {
	path := e.Store.ImagePath(img.SHA256)
	info, err := os.Stat(path)
	if err != nil {
		return img, fmt.Errorf("the image's file is gone: %w", err)
	}
	if info.Size() == img.FileSize && info.ModTime().UTC().Equal(img.FileTime) && inode(info) == img.FileInode {
		return img, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return img, fmt.Errorf("open the image: %w", err)
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return img, fmt.Errorf("read the image: %w", err)
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != img.SHA256 {
		_ = e.Record(ctx, store.Event{Actor: "fado", Kind: "image", Text: fmt.Sprintf("The file of %s %s was changed on disk: it has SHA-256 %.12s… now. It is not served.", img.Firmware, img.Version, got)})
		return img, fmt.Errorf("the image's file was changed on disk: its SHA-256 is %s", got)
	}
	img.FileSize, img.FileTime, img.FileInode = info.Size(), info.ModTime().UTC(), inode(info)
	return img, e.Store.Write(ctx, func(tx *store.Tx) error {
		_, err := store.Change[store.Image](tx, map[string]any{"file_size": img.FileSize, "file_time": img.FileTime, "file_inode": img.FileInode}, "sha256 = ?", img.SHA256)
		return err
	})
}
