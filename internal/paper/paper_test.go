package paper

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"image"
	"image/color"
	"io"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/makiuchi-d/gozxing"
	"github.com/makiuchi-d/gozxing/qrcode"

	"fado/internal/core/check"
	"fado/internal/wire"
)

// read paints the code of a label as a printer would, and reads it with another
// package's reader.
func read(t *testing.T, svg []byte) string {
	t.Helper()
	d := xml.NewDecoder(bytes.NewReader(svg))
	side, cells := 0, map[image.Point]bool{}
	for {
		tok, err := d.Token()
		if err == io.EOF {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		el, ok := tok.(xml.StartElement)
		if !ok || el.Name.Local != "path" {
			continue
		}
		attr := map[string]string{}
		for _, a := range el.Attr {
			attr[a.Name.Local] = a.Value
		}
		scale, err := strconv.ParseFloat(regexp.MustCompile(`scale\(([0-9.]+)\)`).FindStringSubmatch(attr["transform"])[1], 64)
		if err != nil {
			t.Fatal(err)
		}
		side = int(codeSide/scale + .5)
		for _, m := range regexp.MustCompile(`M(\d+) (\d+)h(\d+)v1h-(\d+)z`).FindAllStringSubmatch(attr["d"], -1) {
			var x, y, n int
			_, _ = fmt.Sscan(m[1]+" "+m[2]+" "+m[3], &x, &y, &n)
			for i := range n {
				cells[image.Pt(x+i, y)] = true
			}
		}
	}
	const px = 8
	img := image.NewGray(image.Rect(0, 0, side*px, side*px))
	for y := range side * px {
		for x := range side * px {
			img.SetGray(x, y, map[bool]color.Gray{true: {0}, false: {255}}[cells[image.Pt(x/px, y/px)]])
		}
	}
	bits, err := gozxing.NewBinaryBitmapFromImage(img)
	if err != nil {
		t.Fatal(err)
	}
	out, err := qrcode.NewQRCodeReader().Decode(bits, nil)
	if err != nil {
		t.Fatal(err)
	}
	return out.GetText()
}

func TestLabelsAreRead(t *testing.T) {
	for _, link := range []string{"http://192.168.40.2:8420/devices/01a1f2c3-0000-7000-8000-00000000002a", "https://fado.lagar.home.arpa/devices/" + strings.Repeat("a", 200)} {
		l := Label{Link: link, Name: `Luz <da> "adega" & companhia`, Room: "Adega", Hostname: "adega-lamp-1", HardwareID: "02:5A:11:00:00:2A"}
		b, err := l.SVG()
		if err != nil {
			t.Fatal(err)
		}
		if got := read(t, b); got != link {
			t.Errorf("the code says %q, not %q", got, link)
		}
		if strings.Contains(string(b), "<da>") || !strings.Contains(string(b), "adega-lamp-1") {
			t.Errorf("%s", b)
		}
	}
	if _, err := (Label{Link: strings.Repeat("x", 5000)}).SVG(); err == nil {
		t.Error("a code that holds too much was made")
	}
}

func TestSheet(t *testing.T) {
	labels := make([]Label, 30)
	for i := range labels {
		labels[i] = Label{Link: fmt.Sprintf("http://a/%d", i), Name: fmt.Sprint("Nome ", i)}
	}
	for _, c := range []struct {
		count  int
		layout Layout
		sheets int
		cells  int
	}{{30, Layout{Columns: 3, Rows: 8}, 2, 30}, {24, Layout{Columns: 3, Rows: 8}, 1, 24}, {24, Layout{Columns: 3, Rows: 8, Skip: 1}, 2, 25}, {0, Layout{Columns: 3, Rows: 8}, 1, 0}, {1, Layout{Columns: 1, Rows: 1, Skip: 5}, 1, 1}} {
		b, err := Sheet(labels[:c.count], c.layout)
		if err != nil {
			t.Fatal(err)
		}
		sheets, cells, codes := strings.Count(string(b), "<div class=sheet>"), strings.Count(string(b), "<div class=cell>"), strings.Count(string(b), "<svg")
		if sheets != c.sheets || cells != c.cells || codes != c.count {
			t.Errorf("%+v: %d sheets, %d places, %d labels", c, sheets, cells, codes)
		}
	}
}

func TestFold(t *testing.T) {
	for text, want := range map[string]string{
		"Portão": "Portão", "Clima da Oliveira": "Clima da|Oliveira", "casa-da-bomba-relay-1": "casa-da-bomba-|relay-1", "Abcdefghijklmnopqrst": "Abcdefghijklmnop|qrst",
		"Água extraordinariamente quente": "Água|extraordinariam…", "Interruptor de parede da varanda de cima": "Interruptor de|parede da varan…",
	} {
		if got := strings.Join(fold(text, 16), "|"); got != want {
			t.Errorf("%s: %s, want %s", text, got, want)
		}
	}
}

func TestReport(t *testing.T) {
	at := time.Date(2026, 10, 25, 0, 30, 0, 0, time.UTC) // the hour that comes twice in Lisbon
	r := wire.Report{Site: `Lagar <b>`, Zone: "Europe/Lisbon", At: at, By: "marta", Open: []string{"Portão is not in service yet."}, Events: []wire.Event{{At: at, Actor: "marta", Text: "Something <i>done</i>."}},
		Devices: []wire.ReportDevice{{Name: "Rega", Room: "Terraço", Hostname: "terraco-relay-1", Stage: "adopted", Running: "1.0", SignOff: check.Failing, Commissioned: &at, By: "rui",
			Checks: []check.Result{{Name: check.Hostname, Verdict: check.Fails, Expected: "it", Seen: "that", At: at}, {Name: check.Address, Verdict: check.Holds, At: at}}},
			{Name: "Velha", Stage: "retired", Units: []wire.Tenure{{HardwareID: "02:5A:11:00:00:01", Until: &at}}}}}
	b, err := Report(r)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Lagar &lt;b&gt;", "25 Oct 2026, 01:30", "Still open", "✗ fails", "✓ holds", "No longer in service", "&lt;i&gt;done", "by rui", "Terraço"} {
		if !strings.Contains(string(b), want) {
			t.Errorf("the report does not say %q", want)
		}
	}
	if strings.Contains(string(b), "ZgotmplZ") || strings.Contains(string(b), "<script") || strings.Contains(string(b), "http") {
		t.Error("the page wants something from elsewhere, or a value did not fit its place")
	}
}
