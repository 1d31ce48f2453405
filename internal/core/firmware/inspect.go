package firmware

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"fado/internal/core/inventory"
)

// MaxImage is the largest image that is taken, and the most that one unpacks to, in
// bytes.
const MaxImage = 64 << 20

// The forms in which an image's file may be.
const (
	Raw     = "raw"
	UF2     = "uf2"
	HexFile = "hex"
	Gzip    = "gzip"
)

// Range is a stretch of memory that a file writes.
type Range struct {
	Start uint32 `json:"start"`
	Size  uint32 `json:"size"`
}

// Says is what a file says of itself.
type Says struct {
	Format string            `json:"format" enum:"raw,uf2,hex,gzip"`
	Inner  string            `json:"inner,omitempty" doc:"The form of what it unpacks to"`
	Family string            `json:"family,omitempty" doc:"UF2: the family of chips, hexadecimal"`
	Ranges []Range           `json:"ranges,omitempty" doc:"UF2 and HEX: what it writes"`
	Bytes  int64             `json:"bytes" doc:"That it writes"`
	Fields map[string]string `json:"fields,omitempty" doc:"Read where the model says: version, product, chip, size"`
}

// mostRanges is how many stretches are listed.
const mostRanges = 64

// Inspect reads what a file says of itself. It fails when the file is of a form that
// it does not keep to: a wrong checksum, a missing block.
func Inspect(file []byte) (Says, []byte, error) {
	switch {
	case len(file) > 2 && file[0] == 0x1f && file[1] == 0x8b:
		inner, err := unpack(file)
		if err != nil {
			return Says{Format: Gzip}, nil, err
		}
		if len(inner) > 2 && inner[0] == 0x1f && inner[1] == 0x8b {
			return Says{Format: Gzip}, nil, errors.New("what it unpacks to is packed again")
		}
		s, code, err := Inspect(inner)
		s.Format, s.Inner = Gzip, s.Format
		return s, code, err
	case len(file) >= 4 && binary.LittleEndian.Uint32(file) == uf2Start:
		return inspectUF2(file)
	case len(file) > 10 && file[0] == ':' && looksHex(file):
		return inspectHex(file)
	}
	return Says{Format: Raw, Bytes: int64(len(file))}, file, nil
}

// unpack unpacks gzip (RFC 1952), as far as an image may be long.
func unpack(file []byte) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(file))
	if err != nil {
		return nil, fmt.Errorf("its gzip header is broken: %w", err)
	}
	out, err := io.ReadAll(io.LimitReader(r, MaxImage+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("it cannot be unpacked: %w", err)
	case len(out) > MaxImage:
		return nil, fmt.Errorf("it unpacks to more than %d MiB", MaxImage>>20)
	}
	return out, nil
}

// A UF2 file is a row of blocks of 512 bytes.
const (
	uf2Start  = 0x0A324655
	uf2Second = 0x9E5D5157
	uf2End    = 0x0AB16F30
	uf2Block  = 512
	uf2Data   = 476

	uf2NotFlash = 0x00000001
	uf2Files    = 0x00001000
	uf2Family   = 0x00002000
)

func inspectUF2(file []byte) (Says, []byte, error) {
	s := Says{Format: UF2}
	if len(file)%uf2Block != 0 {
		return s, nil, fmt.Errorf("it is cut: %d bytes are no whole number of blocks of %d", len(file), uf2Block)
	}
	blocks := uint32(len(file) / uf2Block)
	type part struct {
		at   uint32
		data []byte
	}
	var parts []part
	for n := range blocks {
		b := file[n*uf2Block : (n+1)*uf2Block]
		at := func(i int) uint32 { return binary.LittleEndian.Uint32(b[i:]) }
		switch flags, size := at(8), at(16); {
		case at(0) != uf2Start || at(4) != uf2Second || at(508) != uf2End:
			return s, nil, fmt.Errorf("block %d does not begin and end as a block does", n)
		case at(20) != n:
			return s, nil, fmt.Errorf("block %d says that it is block %d", n, at(20))
		case at(24) != blocks:
			return s, nil, fmt.Errorf("block %d says that there are %d blocks; there are %d", n, at(24), blocks)
		case size == 0 || size > uf2Data:
			return s, nil, fmt.Errorf("block %d says that it holds %d bytes; at most %d fit", n, size, uf2Data)
		case at(12)+size < at(12):
			return s, nil, fmt.Errorf("block %d goes beyond the end of memory", n)
		case flags&(uf2NotFlash|uf2Files) != 0:
			continue
		default:
			if flags&uf2Family != 0 {
				family := fmt.Sprintf("0x%08x", at(28))
				if s.Family != "" && s.Family != family {
					return s, nil, fmt.Errorf("it is for two families, %s and %s", s.Family, family)
				}
				s.Family = family
			}
			parts = append(parts, part{at(12), b[32 : 32+size]})
		}
	}
	slices.SortStableFunc(parts, func(a, b part) int { return int(int64(a.at) - int64(b.at)) })
	var code []byte
	for i, p := range parts {
		if i > 0 && parts[i-1].at+uint32(len(parts[i-1].data)) > p.at {
			return s, nil, fmt.Errorf("two blocks write to 0x%08x", p.at)
		}
		s.add(p.at, uint32(len(p.data)))
		code = append(code, p.data...)
	}
	if len(parts) == 0 {
		return s, nil, errors.New("no block of it is for flash")
	}
	return s, code, nil
}

// add notes a stretch, in order of memory.
func (s *Says) add(at, size uint32) {
	s.Bytes += int64(size)
	if n := len(s.Ranges); n > 0 && s.Ranges[n-1].Start+s.Ranges[n-1].Size == at {
		s.Ranges[n-1].Size += size
		return
	}
	if len(s.Ranges) < mostRanges {
		s.Ranges = append(s.Ranges, Range{at, size})
	}
}

func looksHex(file []byte) bool {
	for _, c := range file[1:9] {
		if !strings.ContainsRune("0123456789ABCDEFabcdef", rune(c)) {
			return false
		}
	}
	return true
}

// inspectHex reads Intel HEX: a record a line, each with its own checksum.
func inspectHex(file []byte) (Says, []byte, error) {
	s := Says{Format: HexFile}
	memory := map[uint32][]byte{}
	var starts []uint32
	var base uint32
	ended := false
	line := 0
	for text := range strings.Lines(string(file)) {
		line++
		text = strings.TrimRight(text, "\r\n \t")
		if text == "" {
			continue
		}
		if ended {
			return s, nil, fmt.Errorf("line %d stands after the end record", line)
		}
		if text[0] != ':' {
			return s, nil, fmt.Errorf("line %d does not begin with a colon", line)
		}
		b, err := hex.DecodeString(text[1:])
		if err != nil || len(b) < 5 || int(b[0]) != len(b)-5 {
			return s, nil, fmt.Errorf("line %d is cut, or not hexadecimal", line)
		}
		sum := byte(0)
		for _, x := range b {
			sum += x
		}
		if sum != 0 {
			return s, nil, fmt.Errorf("line %d has a wrong checksum", line)
		}
		at, data := uint32(b[1])<<8|uint32(b[2]), b[4:len(b)-1]
		switch b[3] {
		case 0:
			if len(data) == 0 {
				continue
			}
			where := base + at
			if where+uint32(len(data)) < where {
				return s, nil, fmt.Errorf("line %d goes beyond the end of memory", line)
			}
			if _, twice := memory[where]; twice {
				return s, nil, fmt.Errorf("line %d writes again to 0x%08x", line, where)
			}
			memory[where] = data
			starts = append(starts, where)
		case 1:
			ended = true
		case 2, 4:
			if len(data) != 2 {
				return s, nil, fmt.Errorf("line %d is an address record of %d bytes", line, len(data))
			}
			base = uint32(data[0])<<8 | uint32(data[1])
			if b[3] == 2 {
				base <<= 4
			} else {
				base <<= 16
			}
		case 3, 5: // where it starts, which is the unit's affair
		default:
			return s, nil, fmt.Errorf("line %d is a record of the unknown type %d", line, b[3])
		}
	}
	if !ended {
		return s, nil, errors.New("it has no end record: it is cut")
	}
	slices.Sort(starts)
	var code []byte
	for i, at := range starts {
		if i > 0 && starts[i-1]+uint32(len(memory[starts[i-1]])) > at {
			return s, nil, fmt.Errorf("two records write to 0x%08x", at)
		}
		s.add(at, uint32(len(memory[at])))
		code = append(code, memory[at]...)
	}
	if len(starts) == 0 {
		return s, nil, errors.New("it holds no data")
	}
	return s, code, nil
}

// ReadFields reads the fields that a model declares from an image's code.
func ReadFields(code []byte, fields []inventory.ImageField) (map[string]string, error) {
	out := map[string]string{}
	for _, f := range fields {
		n := f.Width()
		if f.At < 0 || int64(f.At)+int64(n) > int64(len(code)) {
			return nil, fmt.Errorf("its %s should stand at byte %d, and it is %d bytes long", f.What, f.At, len(code))
		}
		b := code[f.At : f.At+n]
		var order binary.ByteOrder = binary.LittleEndian
		if f.Big {
			order = binary.BigEndian
		}
		switch f.Type {
		case "text":
			text, _, _ := strings.Cut(string(b), "\x00")
			text = strings.TrimSpace(text)
			for _, c := range text {
				if c < ' ' || c > '~' {
					return nil, fmt.Errorf("its %s at byte %d is no text", f.What, f.At)
				}
			}
			out[f.What] = text
		case "u8":
			out[f.What] = strconv.Itoa(int(b[0]))
		case "u16":
			out[f.What] = strconv.Itoa(int(order.Uint16(b)))
		case "u32":
			out[f.What] = strconv.FormatUint(uint64(order.Uint32(b)), 10)
		case "dotted": // a byte a number
			parts := make([]string, n)
			for i, x := range b {
				parts[i] = strconv.Itoa(int(x))
			}
			out[f.What] = strings.Join(parts, ".")
		}
	}
	return out, nil
}

// Conflict is a place where a file says something else than a person, or than its
// model allows.
type Conflict struct {
	What, File, Said string
}

// String says it in words.
func (c Conflict) String() string {
	return fmt.Sprintf("the file says %s %q, and %q was given", c.What, c.File, c.Said)
}

// Conflicts compares what a file says with what is said of it, for a model. What a
// person left out is no conflict.
func (s Says) Conflicts(img Image, m inventory.Model) []Conflict {
	var out []Conflict
	differ := func(what, file, said string) {
		if file != "" && said != "" && !strings.EqualFold(file, said) {
			out = append(out, Conflict{what, file, said})
		}
	}
	differ("version", s.Fields["version"], img.Version)
	differ("product", s.Fields["product"], img.Firmware)
	differ("chip", s.Fields["chip"], m.Chip)
	differ("chip", s.Fields["chip"], img.Chip)
	if v := s.Fields["size"]; v != "" && v != strconv.FormatInt(s.Bytes, 10) {
		out = append(out, Conflict{"size", v, strconv.FormatInt(s.Bytes, 10)})
	}
	if m.UF2Family != "" {
		differ("family", s.Family, m.UF2Family)
	}
	if s.Bytes > int64(m.FlashKiB)<<10 {
		out = append(out, Conflict{"bytes to write", strconv.FormatInt(s.Bytes, 10), fmt.Sprintf("%d KiB of flash", m.FlashKiB)})
	}
	return out
}
