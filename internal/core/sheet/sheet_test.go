package sheet

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"
	"unicode/utf16"
)

var names = []string{"name", "room", "hardware_id", "report.interval_seconds"}

func column(heading string) (string, bool) {
	for _, n := range names {
		if n == Key(heading) {
			return n, true
		}
	}
	return "", false
}

func utf16LE(s string) []byte {
	out := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(s)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}

// TestSpreadsheetsFiles: the same table as several programs write it.
func TestSpreadsheetsFiles(t *testing.T) {
	for name, c := range map[string]struct {
		file      []byte
		separator rune
		encoding  string
	}{
		"plain":                 {[]byte("name,room\nNora,Pátio 🫒\n"), ',', "UTF-8"},
		"byte order mark, CRLF": {[]byte("\uFEFFName,Room\r\nNora,Pátio 🫒\r\n"), ',', "UTF-8"},
		"semicolons":            {[]byte("name;room\nNora;Pátio 🫒"), ';', "UTF-8"},
		"clipboard":             {[]byte("name\troom\nNora\tPátio 🫒\n"), '\t', "UTF-8"},
		"says its separator":    {[]byte("sep=;\r\nname;room\r\nNora;Pátio 🫒\r\n"), ';', "UTF-8"},
		"wide":                  {utf16LE("name\troom\nNora\tPátio 🫒\n"), '\t', "UTF-16"},
		"quoted headings":       {[]byte("\"name\";\"room\"\n\"Nora\";\"Pátio 🫒\"\n"), ';', "UTF-8"},
		"empty rows and cells":  {[]byte("name,room,,\n,,,\nNora,Pátio 🫒,,\n,,,\n"), ',', "UTF-8"},
		"a column of one's own": {[]byte("name,#bought,room\nNora,\"yes, in May\",Pátio 🫒\n"), ',', "UTF-8"},
	} {
		table, f := Read(c.file, column, names)
		if len(f) > 0 || len(table.Rows) != 1 || table.Rows[0].Cell("name") != "Nora" || table.Rows[0].Cell("room") != "Pátio 🫒" || table.Rows[0].Cell("hardware_id") != "" {
			t.Errorf("%s: %v %+v", name, f, table.Rows)
		}
		if table.Separator != c.separator || table.Encoding != c.encoding {
			t.Errorf("%s: %q %s", name, table.Separator, table.Encoding)
		}
	}
	table, f := Read([]byte("name;room\nCh\xe3o;P\xe1tio \x80\n"), column, names)
	if len(f) > 0 || table.Encoding != "Windows-1252" || table.Rows[0].Cell("room") != "Pátio €" {
		t.Errorf("%v %+v", f, table)
	}
}

// TestFaultsOfTables: all at once, with their lines and what would pass.
func TestFaultsOfTables(t *testing.T) {
	_, f := Read([]byte("name,rom,name\nNora,x,y,too many\n\nOutra,x,y,too many\n"), column, names)
	said := ""
	for _, x := range f {
		said += x.Field + " " + x.Rule + " " + x.Passes + "\n"
	}
	for _, want := range []string{`line 1 there is no column "rom"`, " room\n", "line 1 the column name is there twice", `line 2 has more cells than there are columns: "too many"`, "line 4 has more"} {
		if !strings.Contains(said, want) {
			t.Errorf("%q is not said in\n%s", want, said)
		}
	}
	for file, want := range map[string]string{"": "line 1", "\n\n,,\n": "line 1", "name\n\"open": "line 2", "sep=;\nname\na\"b\n": "line 3"} {
		if _, f := Read([]byte(file), column, names); len(f) != 1 || f[0].Field != want {
			t.Errorf("%q: %v", file, f)
		}
	}
}

func TestNumbersOfSpreadsheets(t *testing.T) {
	for cell, want := range map[string]int64{"45": 45, "45.0": 45, "45,00": 45, "86 400": 86400, "86\u202F400": 86400, "1.234,0": 1234, "1,234.00": 1234, "-3": -3, "1.234.567,0": 1234567} {
		if n, rule, _ := Whole(cell); rule != "" || n != want {
			t.Errorf("%q is %d (%s)", cell, n, rule)
		}
	}
	for _, cell := range []string{"", "forty", "45.5", "4,5,0", "1.000", "1,000", "1e3"} {
		if n, rule, passes := Whole(cell); rule == "" || passes == "" {
			t.Errorf("%q passed as %d", cell, n)
		}
	}
	if _, rule, passes := Whole("1.000"); !strings.Contains(rule, "1000 or 1") || passes != "1000" {
		t.Error(rule, passes)
	}
	for cell, want := range map[string]bool{"VERDADEIRO": true, "falsch": false, "x": true, "No": false} {
		if v, ok := Flag(cell); !ok || v != want {
			t.Errorf("%s is %v %v", cell, v, ok)
		}
	}
	if _, ok := Flag("perhaps"); ok {
		t.Error("«perhaps» is a flag")
	}
	if !strings.Contains(Mangled("2,5E+10"), "rounded") || !strings.Contains(Mangled("20000000007"), "leading zeros") || Mangled("02:5A:11:00:00:07") != "" || Mangled("025A11000007") != "" {
		t.Error("what a spreadsheet does to a hardware id is not told")
	}
}

// FuzzRoundTrip: what is written is read back as it was, and no cell is one that
// a spreadsheet carries out.
func FuzzRoundTrip(f *testing.F) {
	for _, s := range []string{"Nora", "=1+1", "+351", "-", "-5", "@x", "'=1", "''", "'ola", "a,\"b\"\nc", "é;\t", "\t=1"} {
		f.Add(s, "x")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		clean := func(s string) string {
			return strings.TrimSpace(strings.ReplaceAll(strings.ToValidUTF8(s, ""), "\r", ""))
		}
		a, b = clean(a), clean(b)
		var out bytes.Buffer
		w, err := NewWriter(&out, names)
		if err != nil {
			t.Fatal(err)
		}
		if err := w.Row([]string{a, b, "always", "5"}); err != nil {
			t.Fatal(err)
		}
		if err := w.End(); err != nil {
			t.Fatal(err)
		}
		table, faults := Read(out.Bytes(), column, names)
		if len(faults) > 0 || len(table.Rows) != 1 {
			t.Fatal(faults, out.String())
		}
		if r := table.Rows[0]; r.Cell("name") != a || r.Cell("room") != b || r.Cell("report.interval_seconds") != "5" {
			t.Fatalf("%q %q came back as %q %q", a, b, r.Cell("name"), r.Cell("room"))
		}
		for _, c := range []string{Guarded(a), Guarded(b)} {
			if c != "" && strings.ContainsRune("=+-@\t", rune(c[0])) && !number.MatchString(c) {
				t.Fatalf("%q would be carried out", c)
			}
		}
	})
}

func BenchmarkRead(b *testing.B) {
	var file bytes.Buffer
	file.WriteString("name,room,hardware_id,report.interval_seconds\n")
	for range 10_000 {
		file.WriteString("Nora do pátio,Pátio,02:5A:11:00:00:07,45\n")
	}
	for b.Loop() {
		if t, f := Read(file.Bytes(), column, names); len(f) > 0 || len(t.Rows) != 10_000 {
			b.Fatal(f)
		}
	}
}
