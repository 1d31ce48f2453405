package paper

import (
	"encoding/xml"
	"fmt"
	"html/template"
	"strings"

	qrcode "github.com/skip2/go-qrcode"
)

// Label is what stands on a device's label. It holds no secret: whoever reads the
// code needs an account to see more.
type Label struct {
	Link       string // that the code holds
	Name       string
	Room       string
	Site       string
	Model      string
	Hostname   string
	HardwareID string
}

// A label is drawn in tenths of a millimetre, 62 mm by 30 mm.
const (
	labelWidth  = 620
	labelHeight = 300
	codeSide    = 270
	textLeft    = 300
)

type svg struct {
	XMLName xml.Name `xml:"http://www.w3.org/2000/svg svg"`
	ViewBox string   `xml:"viewBox,attr"`
	Width   string   `xml:"width,attr"`
	Height  string   `xml:"height,attr"`
	Role    string   `xml:"role,attr"`
	Title   string   `xml:"title"`
	Parts   []any
}

type rect struct {
	XMLName xml.Name `xml:"rect"`
	Width   int      `xml:"width,attr"`
	Height  int      `xml:"height,attr"`
	Fill    string   `xml:"fill,attr"`
}

type path struct {
	XMLName   xml.Name `xml:"path"`
	D         string   `xml:"d,attr"`
	Transform string   `xml:"transform,attr"`
	Fill      string   `xml:"fill,attr"`
	Crisp     string   `xml:"shape-rendering,attr"`
}

type words struct {
	XMLName xml.Name `xml:"text"`
	X       int      `xml:"x,attr"`
	Y       int      `xml:"y,attr"`
	Size    int      `xml:"font-size,attr"`
	Weight  int      `xml:"font-weight,attr,omitempty"`
	Family  string   `xml:"font-family,attr"`
	Fill    string   `xml:"fill,attr"`
	Text    string   `xml:",chardata"`
}

const (
	sans = "'IBM Plex Sans', 'Liberation Sans', Helvetica, Arial, sans-serif"
	mono = "'IBM Plex Mono', 'Liberation Mono', 'Courier New', monospace"
)

// SVG draws the label. Black on white, since codes are read from paper.
func (l Label) SVG() ([]byte, error) {
	code, err := qrcode.New(l.Link, qrcode.Medium)
	if err != nil {
		return nil, fmt.Errorf("make the code of %s: %w", l.Name, err)
	}
	bits := code.Bitmap() // with the four modules of quiet that a code needs around it
	var d strings.Builder
	for y, row := range bits {
		for x := 0; x < len(row); x++ {
			n := 0
			for x+n < len(row) && row[x+n] {
				n++
			}
			if n > 0 {
				fmt.Fprintf(&d, "M%d %dh%dv1h-%dz", x, y, n, n)
				x += n
			}
		}
	}
	img := svg{ViewBox: fmt.Sprintf("0 0 %d %d", labelWidth, labelHeight), Width: "62mm", Height: "30mm", Role: "img", Title: fmt.Sprintf("%s, %s: %s", l.Name, l.Hostname, l.Link)}
	img.Parts = append(img.Parts, rect{Width: labelWidth, Height: labelHeight, Fill: "#fff"},
		path{D: d.String(), Transform: fmt.Sprintf("translate(8 15) scale(%.4f)", float64(codeSide)/float64(len(bits))), Fill: "#000", Crisp: "crispEdges"})
	y := 58
	line := func(text string, size, weight, most int, family string) {
		if text == "" {
			return
		}
		for _, part := range fold(text, most) {
			img.Parts = append(img.Parts, words{X: textLeft, Y: y, Size: size, Weight: weight, Family: family, Fill: "#000", Text: part})
			y += size * 5 / 4
		}
	}
	line(l.Name, 32, 600, 14, sans)
	line(l.Room, 26, 0, 19, sans)
	y += 8
	line(l.Hostname, 24, 0, 21, mono)
	line(l.HardwareID, 24, 0, 21, mono)
	line(l.Site, 22, 0, 24, sans)
	return xml.Marshal(img)
}

// fold breaks a text into at most two lines of at most most letters, at a space or
// hyphen where there is one; what is too long for that ends in an ellipsis.
func fold(text string, most int) []string {
	r := []rune(text)
	if len(r) <= most {
		return []string{text}
	}
	at := most
	for i := most; i > 2; i-- {
		if r[i-1] == ' ' || r[i-1] == '-' {
			at = i
			break
		}
	}
	rest := []rune(strings.TrimSpace(string(r[at:])))
	if len(rest) > most {
		rest = append(rest[:most-1], '…')
	}
	return []string{strings.TrimSpace(string(r[:at])), string(rest)}
}

// Layout is how labels lie on an A4 sheet.
type Layout struct {
	Columns, Rows int
	MarginMM      float64
	Skip          int // of the first sheet, used up before
}

// Sheet lays labels out on sheets of A4, as a page to print.
func Sheet(labels []Label, l Layout) ([]byte, error) {
	a := l.Columns * l.Rows
	cells := make([]template.HTML, l.Skip%a, l.Skip%a+len(labels))
	for _, x := range labels {
		b, err := x.SVG()
		if err != nil {
			return nil, err
		}
		cells = append(cells, template.HTML(b)) // encoded by encoding/xml just now
	}
	var sheets [][]template.HTML
	for len(cells) > a {
		sheets = append(sheets, cells[:a])
		cells = cells[a:]
	}
	if len(cells) > 0 || len(sheets) == 0 {
		sheets = append(sheets, cells)
	}
	return print("labels.tmpl", map[string]any{"Sheets": sheets, "Columns": l.Columns, "Rows": l.Rows, "Margin": l.MarginMM, "Count": len(labels)})
}
