// Package sheet reads and writes tables the way spreadsheets keep them: CSV by
// RFC 4180, with the separators, encodings and numbers that people's programs
// really write. It knows columns and cells, never what a device is, and it opens
// no file.
package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"fado/internal/core/dialect"
	"fado/internal/core/problem"
)

// MaxRows is how many rows a table may have.
const MaxRows = 100_000

// Table is what was read.
type Table struct {
	Columns   []string // as the reader knows them; "" for one that is passed over
	Rows      []Row
	Separator rune
	Encoding  string // UTF-8, UTF-16 or Windows-1252
}

// Row is one row that is not empty.
type Row struct {
	Line  int // in the file, from 1
	cells []string
	of    *Table
}

// Cell is the text in a column, or "" when the row or the table has none.
func (r Row) Cell(column string) string {
	for i, c := range r.of.Columns {
		if c == column && i < len(r.cells) {
			return r.cells[i]
		}
	}
	return ""
}

// Read reads a table whose first row names its columns. Columns finds the
// column that a heading means; headings that begin with # are passed over. What
// is wrong is told all at once, each fault with its line.
func Read(b []byte, column func(heading string) (name string, ok bool), names []string) (*Table, problem.Fields) {
	var f problem.Fields
	t := &Table{}
	var text string
	text, t.Encoding = decode(b)
	offset := 0
	first, rest, _ := strings.Cut(text, "\n")
	if sep, ok := strings.CutPrefix(strings.TrimRight(first, "\r"), "sep="); ok && utf8.RuneCountInString(sep) == 1 {
		t.Separator, _ = utf8.DecodeRuneInString(sep)
		text, offset = rest, 1
	} else {
		t.Separator = separator(first)
	}
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.ReuseRecord = t.Separator, -1, false
	for {
		cells, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		var broken *csv.ParseError
		if errors.As(err, &broken) {
			f.Add(fmt.Sprintf("line %d", broken.StartLine+offset), "a quoted cell is not closed, or a quotation mark stands inside a cell that is not quoted", `"10"" pipe"`)
			return t, f // what follows cannot be told apart
		}
		if err != nil {
			f.Add("file", err.Error(), "")
			return t, f
		}
		line, _ := r.FieldPos(0)
		for i := range cells {
			cells[i] = strings.TrimSpace(bare(cells[i]))
		}
		switch {
		case blank(cells):
		case t.Columns == nil:
			t.header(cells, line+offset, column, names, &f)
		case len(t.Rows) == MaxRows:
			f.Add(fmt.Sprintf("line %d", line+offset), fmt.Sprintf("more than %d rows; split the file", MaxRows), "")
			return t, f
		default:
			for i := len(t.Columns); i < len(cells); i++ {
				if cells[i] != "" {
					f.Add(fmt.Sprintf("line %d", line+offset), fmt.Sprintf("has more cells than there are columns: %q", cells[i]), "")
					break
				}
			}
			t.Rows = append(t.Rows, Row{Line: line + offset, cells: cells, of: t})
		}
	}
	if t.Columns == nil {
		f.Add("line 1", "the file is empty; its first row names the columns", strings.Join(names[:min(4, len(names))], string(t.Separator)))
	}
	return t, f
}

func (t *Table) header(cells []string, line int, column func(string) (string, bool), names []string, f *problem.Fields) {
	t.Columns = make([]string, len(cells))
	seen := map[string]bool{}
	for i, heading := range cells {
		if heading == "" || strings.HasPrefix(heading, "#") {
			continue
		}
		name, ok := column(heading)
		switch {
		case !ok:
			f.Add(fmt.Sprintf("line %d", line), fmt.Sprintf("there is no column %q; put # before a heading to pass its column over", heading), dialect.Nearest(Key(heading), names))
		case seen[name]:
			f.Add(fmt.Sprintf("line %d", line), fmt.Sprintf("the column %s is there twice", name), "")
		default:
			t.Columns[i], seen[name] = name, true
		}
	}
}

// Has reports whether the table has a column.
func (t *Table) Has(column string) bool {
	for _, c := range t.Columns {
		if c == column {
			return true
		}
	}
	return false
}

// Key brings a heading to the form in which columns are named: "Hardware ID"
// is hardware_id.
func Key(heading string) string {
	return strings.ReplaceAll(strings.ToLower(strings.TrimSpace(heading)), " ", "_")
}

// decode finds out how the bytes are encoded. Without a byte order mark they are
// UTF-8 when they can be, else Windows-1252, which every byte can be.
func decode(b []byte) (text, encoding string) {
	switch {
	case bytes.HasPrefix(b, []byte{0xEF, 0xBB, 0xBF}):
		return strings.ToValidUTF8(string(b[3:]), "\uFFFD"), "UTF-8"
	case bytes.HasPrefix(b, []byte{0xFF, 0xFE}):
		return wide(b[2:], 0, 1), "UTF-16"
	case bytes.HasPrefix(b, []byte{0xFE, 0xFF}):
		return wide(b[2:], 1, 0), "UTF-16"
	case utf8.Valid(b):
		return string(b), "UTF-8"
	}
	out, err := charmap.Windows1252.NewDecoder().Bytes(b)
	if err != nil {
		return strings.ToValidUTF8(string(b), "\uFFFD"), "UTF-8"
	}
	return string(out), "Windows-1252"
}

func wide(b []byte, low, high int) string {
	units := make([]uint16, len(b)/2)
	for i := range units {
		units[i] = uint16(b[2*i+low]) | uint16(b[2*i+high])<<8
	}
	return string(utf16.Decode(units))
}

// separator finds what stands between the headings: the semicolon of programs
// whose decimal sign is the comma, the tabulator of the clipboard, or the comma.
func separator(header string) rune {
	best, most := ',', 0
	for _, c := range []rune{',', ';', '\t'} {
		n, quoted := 0, false
		for _, r := range header {
			switch {
			case r == '"':
				quoted = !quoted
			case r == c && !quoted:
				n++
			}
		}
		if n > most {
			best, most = c, n
		}
	}
	return best
}

func blank(cells []string) bool {
	for _, c := range cells {
		if c != "" {
			return false
		}
	}
	return true
}

// formula is what a spreadsheet would take for more than text; the apostrophe is
// among them so that one that was there is told from one that was put there.
const formula = "=+-@\t\r'"

var number = regexp.MustCompile(`^[+-]?[0-9]+([.,][0-9]+)?$`)

// Guarded puts an apostrophe before what a spreadsheet would carry out.
func Guarded(cell string) string {
	if cell == "" || !strings.ContainsRune(formula, rune(cell[0])) || number.MatchString(cell) {
		return cell
	}
	return "'" + cell
}

// bare takes the apostrophe of Guarded away.
func bare(cell string) string {
	if len(cell) > 1 && cell[0] == '\'' && strings.IndexByte(formula, cell[1]) >= 0 {
		return cell[1:]
	}
	return cell
}

// Writer writes a table in UTF-8 with a byte order mark, commas and CRLF, which
// spreadsheets open without asking.
type Writer struct{ to *csv.Writer }

// NewWriter begins a table with its headings.
func NewWriter(to io.Writer, headings []string) (*Writer, error) {
	if _, err := io.WriteString(to, "\uFEFF"); err != nil {
		return nil, err
	}
	w := &Writer{csv.NewWriter(to)}
	w.to.UseCRLF = true
	return w, w.to.Write(headings)
}

// Row writes one row. Cells that a spreadsheet would take for a formula get an
// apostrophe, which Read takes away again.
func (w *Writer) Row(cells []string) error {
	out := make([]string, len(cells))
	for i, c := range cells {
		out[i] = Guarded(c)
	}
	return w.to.Write(out)
}

// End writes what is left and reports the first error.
func (w *Writer) End() error {
	w.to.Flush()
	return w.to.Error()
}

var spaces = strings.NewReplacer(" ", "", "\u00A0", "", "\u202F", "", "'", "")

var (
	grouped = regexp.MustCompile(`^[+-]?[0-9]{1,3}([.,])[0-9]{3}$`)
	rounded = regexp.MustCompile(`(?i)^[0-9]+([.,][0-9]+)?E\+?[0-9]+$`)
)

// Whole reads a whole number as spreadsheets show them: 45, 45.0, 45,00 or
// 86 400. One that could mean two numbers is refused with both.
func Whole(cell string) (n int64, rule, passes string) {
	s := spaces.Replace(cell)
	if n, err := strconv.ParseInt(s, 10, 64); err == nil {
		return n, "", ""
	}
	if grouped.MatchString(s) {
		all := strings.NewReplacer(".", "", ",", "").Replace(s)
		return 0, fmt.Sprintf("%q can mean %s or %s", cell, all, s[:len(s)-4]), all
	}
	// The last sign is the decimal one; the others group.
	i := strings.LastIndexAny(s, ".,")
	if i < 0 {
		return 0, fmt.Sprintf("%q is no whole number", cell), "45"
	}
	head, tail := strings.NewReplacer(".", "", ",", "").Replace(s[:i]), s[i+1:]
	n, err := strconv.ParseInt(head, 10, 64)
	if err != nil || strings.Trim(tail, "0") != "" || strings.IndexByte(s[:i], s[i]) >= 0 {
		return 0, fmt.Sprintf("%q is no whole number", cell), "45"
	}
	return n, "", ""
}

// Flag reads yes or no, as people write it and as spreadsheets of several
// languages do.
func Flag(cell string) (v, ok bool) {
	switch strings.ToLower(cell) {
	case "true", "yes", "1", "x", "verdadeiro", "sim", "wahr", "ja", "vrai", "oui", "vero", "sì", "verdadero", "sí":
		return true, true
	case "false", "no", "0", "falso", "não", "falsch", "nein", "faux", "non":
		return false, true
	}
	return false, false
}

// Mangled says how a spreadsheet spoilt a hardware id that it took for a
// number, or "".
func Mangled(cell string) string {
	switch {
	case rounded.MatchString(cell):
		return fmt.Sprintf("%q: the spreadsheet took the hardware id for a number and rounded it; format the column as text and enter it again", cell)
	case len(cell) < 12 && number.MatchString(cell):
		return fmt.Sprintf("%q: the spreadsheet took the hardware id for a number and dropped its leading zeros; write it with colons", cell)
	}
	return ""
}

// Columns are the columns that the row's table has, in their order.
func (r Row) Columns() []string {
	return r.of.Columns
}
