package engine

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"fado/internal/core/firmware"
	"fado/internal/core/problem"
)

func sumOf(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}

// Found is a file of an archive and what becomes of it.
type Found struct {
	Name    string
	Size    int64
	SHA256  string
	Format  string
	Facts   ImageFacts
	Outcome string // new, here, added or refused
	Why     string
}

// The outcomes of a file of an archive.
const (
	FoundNew     = "new"
	FoundHere    = "here"
	FoundAdded   = "added"
	FoundRefused = "refused"
)

// ImportArchive looks through a zip archive of builds. What each file is, is said by
// the archive's own index, by the file itself, and for the rest by common. With keep
// the images are added; nothing is when one of them is refused.
func (e *Engine) ImportArchive(ctx context.Context, actor string, r io.ReaderAt, size int64, common ImageFacts, keep bool) ([]Found, error) {
	if size > firmware.MaxArchive {
		return nil, problem.New(problem.BadInput, fmt.Sprintf("The archive is longer than %d MiB.", firmware.MaxArchive>>20), "It holds more than firmware.", "Split it.")
	}
	index := map[string]offer{}
	var out []Found
	var files [][]byte
	l, err := e.library(e.Store.Read(ctx))
	if err != nil {
		return nil, err
	}
	err = firmware.ReadArchive(r, size, func(x firmware.Entry) error {
		if x.Name == firmware.IndexName {
			p, err := firmware.ReadFeed(x.Data)
			if err != nil {
				return fmt.Errorf("its %s: %w", firmware.IndexName, err)
			}
			for _, rel := range p.Releases {
				for _, i := range rel.Images {
					index[path.Clean(i.URL)] = offer{rel, i}
				}
			}
			return nil
		}
		f := Found{Name: x.Name, Size: int64(len(x.Data)), SHA256: sumOf(x.Data), Facts: common}
		e.findOut(&f, x.Data, index)
		if _, here := l.bySum[f.SHA256]; here && f.Outcome != FoundRefused {
			f.Outcome = FoundHere
		}
		if i := slices.IndexFunc(out, func(y Found) bool { return y.SHA256 == f.SHA256 && y.Outcome == FoundNew }); i >= 0 && f.Outcome == FoundNew {
			f.Outcome, f.Why = FoundRefused, "it is the same file as "+out[i].Name
		}
		out, files = append(out, f), append(files, x.Data)
		return ctx.Err()
	})
	if err != nil {
		return nil, problem.New(problem.BadInput, fmt.Sprintf("The archive was refused: %s.", err), "It was damaged, or made to do harm.", "Pack it anew from the builds. Nothing was kept.")
	}
	for name := range index {
		if !slices.ContainsFunc(out, func(f Found) bool { return f.Name == name }) {
			out, files = append(out, Found{Name: name, Outcome: FoundRefused, Why: "the index names it, and it is not in the archive"}), append(files, nil)
		}
	}
	if !keep || slices.ContainsFunc(out, func(f Found) bool { return f.Outcome == FoundRefused }) {
		return out, nil
	}
	for i := range out {
		if out[i].Outcome != FoundNew {
			continue
		}
		if _, err := e.AddImage(ctx, actor, bytes.NewReader(files[i]), out[i].Facts); err != nil {
			return out, err
		}
		out[i].Outcome = FoundAdded
	}
	return out, nil
}

// findOut finds out what a file of an archive is, and why it is refused.
func (e *Engine) findOut(f *Found, data []byte, index map[string]offer) {
	refuse := func(format string, args ...any) { f.Outcome, f.Why = FoundRefused, fmt.Sprintf(format, args...) }
	says, code, err := firmware.Inspect(data)
	f.Format = says.Format
	if err != nil {
		refuse("%s", err)
		return
	}
	if o, ok := index[f.Name]; ok {
		if o.SHA256 != f.SHA256 {
			refuse("its SHA-256 is %.12s…, and the index says %.12s…", f.SHA256, o.SHA256)
			return
		}
		f.Facts.Firmware, f.Facts.Version, f.Facts.Channel, f.Facts.Notes = o.Firmware, o.Version, string(o.Channel), o.Notes
		f.Facts.Models, f.Facts.Chip, f.Facts.Part, f.Facts.NeedsKiB, f.Facts.OldestFrom, f.Facts.Step, f.Facts.Manifest = o.Models, o.Chip, string(o.Part), o.NeedsKiB, o.OldestFrom, o.Step, o.Manifest
	}
	if len(f.Facts.Models) == 0 {
		// Which models say of themselves what this file says?
		for _, m := range e.Models() {
			fields, err := firmware.ReadFields(code, m.ImageFields)
			if err == nil && fields["product"] != "" && strings.EqualFold(fields["product"], m.Firmware) || m.UF2Family != "" && m.UF2Family == says.Family {
				f.Facts.Models = append(f.Facts.Models, m.Name)
			}
		}
	}
	if len(f.Facts.Models) == 0 {
		refuse("nothing says which model it is for")
		return
	}
	if err := e.agree(&says, code, &f.Facts); err != nil {
		var words []string
		if p := problem.As(err); p != nil {
			for _, x := range p.Fields {
				words = append(words, x.Rule)
			}
		}
		refuse("%s", strings.Join(words, "; "))
		return
	}
	if err := e.checkImageFacts(f.Facts); err != nil {
		p := problem.As(err)
		if p == nil {
			p = problem.New(problem.Broken, err.Error(), "", "")
		}
		var words []string
		for _, x := range p.Fields {
			words = append(words, x.Field+" "+x.Rule)
		}
		refuse("%s", strings.Join(words, "; "))
		return
	}
	f.Outcome = FoundNew
}
