package firmware

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"strings"
	"testing"

	"fado/internal/core/inventory"
)

// uf2 writes a file of that form, by its description alone.
func uf2(family uint32, at uint32, code []byte) []byte {
	var out []byte
	n := (len(code) + 255) / 256
	for i := range n {
		b := make([]byte, 512)
		put := func(off int, v uint32) { binary.LittleEndian.PutUint32(b[off:], v) }
		part := code[i*256 : min(len(code), (i+1)*256)]
		put(0, 0x0A324655)
		put(4, 0x9E5D5157)
		put(8, 0x2000)
		put(12, at+uint32(i*256))
		put(16, uint32(len(part)))
		put(20, uint32(i))
		put(24, uint32(n))
		put(28, family)
		copy(b[32:], part)
		put(508, 0x0AB16F30)
		out = append(out, b...)
	}
	return out
}

func hexLine(kind byte, at uint16, data []byte) string {
	b := append([]byte{byte(len(data)), byte(at >> 8), byte(at), kind}, data...)
	sum := byte(0)
	for _, x := range b {
		sum -= x
	}
	return fmt.Sprintf(":%X%02X\r\n", b, sum)
}

func hexFile(base uint16, code []byte) string {
	out := hexLine(4, 0, []byte{byte(base >> 8), byte(base)})
	for i := 0; i < len(code); i += 16 {
		out += hexLine(0, uint16(i), code[i:min(len(code), i+16)])
	}
	return out + hexLine(1, 0, nil)
}

func packed(b []byte) []byte {
	var out bytes.Buffer
	w := gzip.NewWriter(&out)
	_, _ = w.Write(b)
	_ = w.Close()
	return out.Bytes()
}

var code = append([]byte("....1.4.0\x00\x00\x00junco\x00\x00\x00x1\x00\x00"), bytes.Repeat([]byte{7}, 1000)...)

func TestWhatFilesSayOfThemselves(t *testing.T) {
	for name, c := range map[string]struct {
		file   []byte
		format string
		inner  string
		family string
		ranges string
	}{
		"raw":         {code, Raw, "", "", "[]"},
		"uf2":         {uf2(0xe48bff56, 0x10000000, code), UF2, "", "0xe48bff56", "[{268435456 1024}]"},
		"hex":         {[]byte(hexFile(0x0800, code)), HexFile, "", "", "[{134217728 1024}]"},
		"packed":      {packed(code), Gzip, Raw, "", "[]"},
		"packed uf2":  {packed(uf2(1, 0, code)), Gzip, UF2, "0x00000001", "[{0 1024}]"},
		"colons only": {[]byte(":::::::::::::::"), Raw, "", "", "[]"},
	} {
		s, got, err := Inspect(c.file)
		if err != nil || s.Format != c.format || s.Inner != c.inner || s.Family != c.family || fmt.Sprint(s.Ranges) != c.ranges {
			t.Errorf("%s: %+v %v", name, s, err)
		}
		if name != "colons only" && (!bytes.Equal(got, code) || s.Bytes != int64(len(code))) {
			t.Errorf("%s: other code: %d bytes", name, len(got))
		}
	}
}

func TestBrokenFilesAreNamed(t *testing.T) {
	u := uf2(1, 0, code)
	change := func(at int, v byte) []byte {
		b := bytes.Clone(u)
		b[at] = v
		return b
	}
	h := hexFile(0, code)
	bomb := packed(make([]byte, MaxImage+1))
	for name, c := range map[string]struct {
		file []byte
		says string
	}{
		"uf2 cut":                    {u[:len(u)-1], "it is cut"},
		"uf2 without its last block": {u[:len(u)-512], "says that there are"},
		"uf2 out of order":           {append(bytes.Clone(u[512:1024]), u[:512]...), "says that it is block"},
		"uf2 end mark":               {change(510, 9), "does not begin and end"},
		"uf2 too much in a block":    {change(17, 2), "at most 476 fit"},
		"uf2 two families":           {change(512+28, 2), "two families"},
		"uf2 overlap":                {change(512+13, 0), "two blocks write"},
		"hex checksum":               {[]byte(strings.Replace(h, "07070707", "07070708", 1)), "wrong checksum"},
		"hex cut":                    {[]byte(h[:len(h)-13]), "no end record"},
		"hex half a line":            {[]byte(h[:200]), "cut"},
		"hex after its end":          {[]byte(h + hexLine(0, 0, []byte{1})), "after the end record"},
		"hex twice":                  {[]byte(hexLine(0, 0, []byte{1}) + hexLine(0, 0, []byte{2}) + hexLine(1, 0, nil)), "writes again"},
		"hex overlap":                {[]byte(hexLine(0, 0, []byte{1, 2}) + hexLine(0, 1, []byte{2}) + hexLine(1, 0, nil)), "two records write"},
		"hex type":                   {[]byte(hexLine(9, 0, []byte{1}) + hexLine(1, 0, nil)), "unknown type 9"},
		"hex of nothing":             {[]byte(":0000000000\n" + hexLine(1, 0, nil)), "no data"},
		"gzip cut":                   {packed(code)[:30], "cannot be unpacked"},
		"gzip bomb":                  {bomb, "unpacks to more than 64 MiB"},
		"gzip in gzip":               {packed(packed(code)), "packed again"},
	} {
		if _, _, err := Inspect(c.file); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestFieldsAndConflicts(t *testing.T) {
	m := inventory.Model{Name: "junco", Chip: "x1", FlashKiB: 64, UF2Family: "0x00000001", ImageFields: []inventory.ImageField{
		{What: "version", At: 4, Type: "text", Length: 8}, {What: "product", At: 12, Type: "text", Length: 8}, {What: "chip", At: 20, Type: "text", Length: 4}}}
	fields, err := ReadFields(code, m.ImageFields)
	if err != nil || fields["version"] != "1.4.0" || fields["product"] != "junco" || fields["chip"] != "x1" {
		t.Fatal(fields, err)
	}
	says := func(img Image, family string) string {
		var out []string
		for _, c := range (Says{Fields: fields, Bytes: 1024, Family: family}).Conflicts(img, m) {
			out = append(out, c.String())
		}
		return strings.Join(out, "; ")
	}
	if got := says(Image{Version: "1.4.0", Firmware: "junco", Chip: "x1"}, "0x00000001"); got != "" {
		t.Error(got)
	}
	if got := says(Image{}, ""); got != "" {
		t.Error(got)
	}
	if got := says(Image{Version: "1.5.0", Firmware: "sobro", Chip: "x2"}, "0x00000002"); got != `the file says version "1.4.0", and "1.5.0" was given; the file says product "junco", and "sobro" was given; the file says chip "x1", and "x2" was given; the file says family "0x00000002", and "0x00000001" was given` {
		t.Error(got)
	}
	for _, bad := range []inventory.ImageField{{What: "version", At: 5000, Type: "u32"}, {What: "version", At: 24, Type: "text", Length: 4}} {
		if _, err := ReadFields(code, []inventory.ImageField{bad}); err == nil {
			t.Errorf("%+v was read", bad)
		}
	}
	numbers, err := ReadFields([]byte{1, 4, 2, 0, 0x10, 0x27}, []inventory.ImageField{{What: "version", Type: "dotted", Length: 3}, {What: "size", At: 4, Type: "u16"}, {What: "chip", At: 4, Type: "u16", Big: true}})
	if err != nil || numbers["version"] != "1.4.2" || numbers["size"] != "10000" || numbers["chip"] != "4135" {
		t.Error(numbers, err)
	}
}

func FuzzInspect(f *testing.F) {
	f.Add(uf2(1, 0, code))
	f.Add([]byte(hexFile(0, code)))
	f.Add(packed(code))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, got, err := Inspect(b)
		if err == nil && s.Bytes != int64(len(got)) {
			t.Fatalf("%+v, and %d bytes", s, len(got))
		}
	})
}
