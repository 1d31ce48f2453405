package firmware

import (
	"archive/zip"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"
)

// The most that a feed may hold.
const (
	MaxFeedPage = 4 << 20 // bytes
	MaxReleases = 5000    // of all pages together
	MaxPages    = 50
)

// FeedPage is a page of a release feed (docs/feed.md). Members that are not known are
// left alone.
type FeedPage struct {
	Feed      int       `json:"feed"` // 1
	Publisher string    `json:"publisher,omitempty"`
	Next      string    `json:"next,omitempty"` // address of the next page
	Releases  []Release `json:"releases"`
}

// Release is one version of a firmware, with its images.
type Release struct {
	Firmware  string         `json:"firmware"`
	Version   string         `json:"version"`
	Channel   Channel        `json:"channel,omitempty"` // stable when left out
	Published *time.Time     `json:"published,omitempty"`
	Notes     string         `json:"notes,omitempty"` // Markdown
	Images    []ReleaseImage `json:"images"`
}

// ReleaseImage is one file of a release.
type ReleaseImage struct {
	URL        string   `json:"url"` // from the page's own address
	SHA256     string   `json:"sha256"`
	Size       int64    `json:"size"`
	Models     []string `json:"models"`
	Chip       string   `json:"chip,omitempty"`
	Part       Part     `json:"part,omitempty"` // program when left out
	NeedsKiB   int      `json:"needs_kib,omitempty"`
	OldestFrom string   `json:"oldest_from,omitempty"`
	Step       bool     `json:"step,omitempty"`
	Manifest   string   `json:"manifest,omitempty"`
}

// ReadFeed reads a page and judges all of it; one fault refuses the page.
func ReadFeed(body []byte) (FeedPage, error) {
	var p FeedPage
	if len(body) > MaxFeedPage {
		return p, fmt.Errorf("a page of more than %d MiB", MaxFeedPage>>20)
	}
	if err := json.Unmarshal(body, &p); err != nil {
		return p, fmt.Errorf("it is no feed: %w", err)
	}
	if p.Feed != 1 {
		return p, fmt.Errorf("it says «feed»: %d, and 1 is understood", p.Feed)
	}
	if len(p.Releases) > MaxReleases {
		return p, fmt.Errorf("%d releases; at most %d are read", len(p.Releases), MaxReleases)
	}
	seen := map[string]string{}
	for i := range p.Releases {
		r := &p.Releases[i]
		where := fmt.Sprintf("release %d (%s %s)", i+1, r.Firmware, r.Version)
		if r.Channel == "" {
			r.Channel = Stable
		}
		switch {
		case r.Firmware == "" || strings.Contains(r.Firmware, ",") || len(r.Firmware) > 64:
			return p, fmt.Errorf("%s has no firmware's name", where)
		case r.Version == "" || len(r.Version) > 64:
			return p, fmt.Errorf("%s has no version", where)
		case !slices.Contains([]Channel{Stable, Preview, Nightly}, r.Channel):
			return p, fmt.Errorf("%s is in the channel %q; there are stable, preview and nightly", where, r.Channel)
		case len(r.Images) == 0 || len(r.Images) > 100:
			return p, fmt.Errorf("%s has %d images; between 1 and 100 are read", where, len(r.Images))
		case len(r.Notes) > 64<<10:
			return p, fmt.Errorf("%s has notes of more than 64 KiB", where)
		}
		for j := range r.Images {
			x := &r.Images[j]
			if x.Part == "" {
				x.Part = Program
			}
			if _, err := url.Parse(x.URL); x.URL == "" || err != nil {
				return p, fmt.Errorf("%s: image %d has no address", where, j+1)
			}
			switch {
			case !hexDigest.MatchString(x.SHA256):
				return p, fmt.Errorf("%s: image %d has no sha256 of 64 hexadecimal digits", where, j+1)
			case x.Size <= 0 || x.Size > MaxImage:
				return p, fmt.Errorf("%s: image %d says that it has %d bytes", where, j+1, x.Size)
			case len(x.Models) == 0:
				return p, fmt.Errorf("%s: image %d is for no model", where, j+1)
			case x.Part != Program && x.Part != FileArea:
				return p, fmt.Errorf("%s: image %d is for the part %q; there are program and files", where, j+1, x.Part)
			case len(x.Manifest) > MaxManifest:
				return p, fmt.Errorf("%s: image %d has a manifest of more than %d bytes", where, j+1, MaxManifest)
			}
			if other, twice := seen[x.SHA256]; twice {
				return p, fmt.Errorf("%s and %s are the same file", other, where)
			}
			seen[x.SHA256] = where
		}
	}
	return p, nil
}

// The most that an archive may hold.
const (
	MaxArchive  = 256 << 20 // bytes, packed
	maxUnpacked = 512 << 20
	maxEntries  = 500
	maxRatio    = 200 // unpacked to packed, of an entry of more than a MiB
)

// IndexName is the file of an archive that says what its other files are: a page of a
// feed, whose addresses are names in the archive.
const IndexName = "releases.json"

// Entry is a file of an archive.
type Entry struct {
	Name string
	Data []byte
}

// ReadArchive gives each file of a zip archive to each, in order. It refuses the
// archive whole before the first when a name climbs out of it, is there twice, or when
// it holds more than fits; and stops at a file that is longer than it said.
func ReadArchive(r io.ReaderAt, size int64, each func(Entry) error) error {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return fmt.Errorf("it is no zip archive: %w", err)
	}
	if len(z.File) > maxEntries {
		return fmt.Errorf("it holds %d files; at most %d are read", len(z.File), maxEntries)
	}
	names, total := map[string]bool{}, uint64(0)
	var files []*zip.File
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		clean := path.Clean(f.Name)
		switch {
		case f.Name == "" || clean != f.Name || path.IsAbs(f.Name) || strings.HasPrefix(clean, "..") || strings.ContainsAny(f.Name, "\\\x00:"):
			return fmt.Errorf("the name %q climbs out of the archive", f.Name)
		case !f.Mode().IsRegular():
			return fmt.Errorf("%s is no plain file", f.Name)
		case names[f.Name]:
			return fmt.Errorf("%s is there twice", f.Name)
		case f.UncompressedSize64 > MaxImage:
			return fmt.Errorf("%s unpacks to %d MiB; at most %d are read", f.Name, f.UncompressedSize64>>20, MaxImage>>20)
		case f.UncompressedSize64 > 1<<20 && f.UncompressedSize64/max(f.CompressedSize64, 1) > maxRatio:
			return fmt.Errorf("%s unpacks to %d times its size: nothing that a unit runs does", f.Name, f.UncompressedSize64/max(f.CompressedSize64, 1))
		}
		names[f.Name] = true
		if total += f.UncompressedSize64; total > maxUnpacked {
			return fmt.Errorf("it unpacks to more than %d MiB", maxUnpacked>>20)
		}
		files = append(files, f)
	}
	// What says what the others are comes first.
	slices.SortStableFunc(files, func(a, b *zip.File) int {
		return map[bool]int{true: -1}[a.Name == IndexName] - map[bool]int{true: -1}[b.Name == IndexName]
	})
	for _, f := range files {
		data, err := readEntry(f)
		if err != nil {
			return fmt.Errorf("read %s: %w", f.Name, err)
		}
		if err := each(Entry{f.Name, data}); err != nil {
			return err
		}
	}
	return nil
}

func readEntry(f *zip.File) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	data, err := io.ReadAll(io.LimitReader(r, int64(f.UncompressedSize64)+1))
	if err == nil && uint64(len(data)) != f.UncompressedSize64 {
		err = errors.New("it is longer than it says")
	}
	return data, err
}
