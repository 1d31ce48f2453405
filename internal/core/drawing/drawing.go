// Package drawing draws what an integrator has to see before wiring: the ports of
// a model, and the order of the lamps on a strip. Drawings are SVG, built from
// typed elements; the package reads no file and knows no device.
package drawing

import (
	"bytes"
	"encoding/xml"
	"fmt"

	"fado/internal/core/inventory"
	"fado/internal/core/settings"
)

type image struct {
	XMLName  xml.Name `xml:"http://www.w3.org/2000/svg svg"`
	ViewBox  string   `xml:"viewBox,attr"`
	Width    int      `xml:"width,attr"`
	Height   int      `xml:"height,attr"`
	Role     string   `xml:"role,attr"`
	Title    string   `xml:"title"`
	Style    string   `xml:"style"`
	Elements []any
}

type rect struct {
	XMLName xml.Name `xml:"rect"`
	X       int      `xml:"x,attr"`
	Y       int      `xml:"y,attr"`
	W       int      `xml:"width,attr"`
	H       int      `xml:"height,attr"`
	Class   string   `xml:"class,attr"`
}

type label struct {
	XMLName xml.Name `xml:"text"`
	X       int      `xml:"x,attr"`
	Y       int      `xml:"y,attr"`
	Class   string   `xml:"class,attr"`
	Text    string   `xml:",chardata"`
}

type stroke struct {
	XMLName xml.Name `xml:"line"`
	X1      int      `xml:"x1,attr"`
	Y1      int      `xml:"y1,attr"`
	X2      int      `xml:"x2,attr"`
	Y2      int      `xml:"y2,attr"`
	Class   string   `xml:"class,attr"`
}

type circle struct {
	XMLName xml.Name `xml:"circle"`
	X       int      `xml:"cx,attr"`
	Y       int      `xml:"cy,attr"`
	R       int      `xml:"r,attr"`
	Class   string   `xml:"class,attr"`
}

type path struct {
	XMLName xml.Name `xml:"path"`
	D       string   `xml:"d,attr"`
	Class   string   `xml:"class,attr"`
}

// style is ink on paper, whatever the page around it looks like: a drawing is
// printed, too.
const style = `.paper{fill:#fffdf8}text{font:13px "IBM Plex Sans",sans-serif;fill:#1d2a4d}.small{font-size:11px}.mono{font-family:"IBM Plex Mono",monospace}.warn{fill:#9a3b26;font-size:11px}
.case{fill:none;stroke:#1d2a4d;stroke-width:1.5}.pad{fill:#fbf8f1;stroke:#1d2a4d}.used{fill:#d9dfef}.unsafe{stroke:#9a3b26;stroke-dasharray:3 2}line{stroke:#1d2a4d}.way{fill:none;stroke:#8a6116;stroke-width:1.5}
.first{fill:#4f6130}.lamp{fill:#fbf8f1;stroke:#1d2a4d}`

func encode(i image) ([]byte, error) {
	i.Role = "img"
	i.Elements = append([]any{rect{W: i.Width, H: i.Height, Class: "paper"}}, i.Elements...)
	i.ViewBox = fmt.Sprintf("0 0 %d %d", i.Width, i.Height)
	i.Style = style
	var b bytes.Buffer
	e := xml.NewEncoder(&b)
	if err := e.Encode(i); err != nil {
		return nil, fmt.Errorf("draw %s: %w", i.Title, err)
	}
	return b.Bytes(), nil
}

const portHeight = 46

// Ports draws a model's ports: the printed label outside the case, the chip pin
// inside, what each is or can be, and its cautions. values are the intended
// settings of a device, or nil for the model alone.
func Ports(m inventory.Model, values settings.Values) ([]byte, error) {
	img := image{Width: 720, Height: 70 + portHeight*max(len(m.Ports), 1), Title: "Ports of " + m.Title}
	add := func(e any) { img.Elements = append(img.Elements, e) }
	add(rect{X: 90, Y: 40, W: 150, H: img.Height - 56, Class: "case"})
	add(label{X: 96, Y: 28, Class: "", Text: m.Title})
	if len(m.Ports) == 0 {
		add(label{X: 260, Y: 68, Class: "", Text: "The model's file names no ports."})
	}
	for i, p := range m.Ports {
		y := 50 + i*portHeight
		class := "pad"
		if function(p, values) != inventory.Unused {
			class += " used"
		}
		if p.UnsafeAtBoot {
			class += " unsafe"
		}
		add(rect{X: 72, Y: y, W: 36, H: 24, Class: class})
		add(label{X: 16, Y: y + 17, Class: "", Text: p.Label})
		add(label{X: 118, Y: y + 17, Class: "mono small", Text: "pin " + p.Pin})
		add(stroke{X1: 240, Y1: y + 12, X2: 262, Y2: y + 12})
		add(label{X: 270, Y: y + 12, Class: "", Text: says(p, m, values)})
		if c := cautions(p); c != "" {
			add(label{X: 270, Y: y + 28, Class: "warn", Text: c})
		}
	}
	return encode(img)
}

func function(p inventory.Port, values settings.Values) string {
	if f, ok := values[settings.ItemKey("port", p.Label, "function")].(string); ok {
		return f
	}
	if p.Capability != "" && len(p.Can) > 0 {
		return p.Can[0]
	}
	return inventory.Unused
}

func says(p inventory.Port, m inventory.Model, values settings.Values) string {
	f := function(p, values)
	if f == inventory.Unused {
		out := "unused"
		for i, c := range p.Can {
			if i == 0 {
				out += "; can be " + c
				continue
			}
			out += ", " + c
		}
		return out
	}
	if c, ok := m.Capability(p.Capability); ok {
		return f + ": " + c.Title
	}
	return f
}

func cautions(p inventory.Port) string {
	var all []string
	if p.InputOnly {
		all = append(all, "input only")
	}
	if p.UnsafeAtBoot {
		all = append(all, "unsafe at boot: wire nothing to it that drives it")
	}
	if p.SharedWith != "" {
		all = append(all, "shares its pin with "+p.SharedWith)
	}
	all = append(all, p.Cautions...)
	out := ""
	for i, c := range all {
		if i > 0 {
			out += "; "
		}
		out += c
	}
	return out
}

// Most lamps that are drawn one by one; of a larger strip, the corner where it
// begins is drawn.
const (
	mostColumns = 24
	mostRows    = 16
	step        = 30
	rowStep     = 46
)

// Strip draws the order of a strip's lamps: the first, the way from each to the
// next, and numbers at the ends of its lines.
func Strip(s settings.Strip) ([]byte, error) {
	columns, rows := min(s.Width, mostColumns), min(s.Height, mostRows)
	img := image{Width: max(60+columns*step, 480), Height: 70 + rows*rowStep, Title: fmt.Sprintf("Strip of %d x %d lamps", s.Width, s.Height)}
	add := func(e any) { img.Elements = append(img.Elements, e) }
	words := fmt.Sprintf("%d x %d lamps, first at %s, in %s", s.Width, s.Height, s.Corner, map[bool]string{true: "columns", false: "rows"}[s.Columns])
	if s.BackAndForth {
		words += ", back and forth"
	}
	add(label{X: 12, Y: 20, Text: words})
	left, top := 0, 0
	if c, r := s.Place(0); c >= columns || r >= rows { // begin where the strip begins
		left, top = max(c-columns+1, 0), max(r-rows+1, 0)
	}
	at := func(n int) (x, y int, in bool) {
		c, r := s.Place(n)
		c, r = c-left, r-top
		return 40 + c*step, 50 + r*rowStep, c >= 0 && r >= 0 && c < columns && r < rows
	}
	d, broken := "", true
	for n := range s.Width * s.Height {
		x, y, in := at(n)
		if !in {
			broken = true
			continue
		}
		verb := "L"
		if broken {
			verb = "M"
		}
		d, broken = d+fmt.Sprintf("%s%d %d", verb, x, y), false
	}
	add(path{D: d, Class: "way"})
	for n := range s.Width * s.Height {
		x, y, in := at(n)
		if !in {
			continue
		}
		class, r := "lamp", 8
		if n == 0 {
			class = "first"
		}
		add(circle{X: x, Y: y, R: r, Class: class})
		long := s.Width
		if s.Columns {
			long = s.Height
		}
		if n%long == 0 || n%long == long-1 {
			add(label{X: x - 6, Y: y + 24, Class: "small mono", Text: fmt.Sprint(n + 1)})
		}
	}
	if columns < s.Width || rows < s.Height {
		add(label{X: 12, Y: img.Height - 10, Class: "small", Text: fmt.Sprintf("%d x %d of them are drawn", columns, rows)})
	}
	return encode(img)
}
