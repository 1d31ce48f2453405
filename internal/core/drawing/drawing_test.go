package drawing

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strings"
	"testing"

	"fado/internal/core/inventory"
	"fado/internal/core/settings"
)

// texts reads a drawing as a browser does and returns its texts and how many
// elements of a kind it has.
func texts(t *testing.T, svg []byte) (out []string, count map[string]int) {
	t.Helper()
	count = map[string]int{}
	d := xml.NewDecoder(bytes.NewReader(svg))
	in := ""
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			return out, count
		}
		if err != nil {
			t.Fatalf("%v in %s", err, svg)
		}
		switch x := tok.(type) {
		case xml.StartElement:
			in = x.Name.Local
			count[in]++
		case xml.CharData:
			if in == "text" {
				out = append(out, string(x))
			}
		case xml.EndElement:
			in = ""
		}
	}
}

func TestPortsShowLabelPinAndCautions(t *testing.T) {
	m := inventory.Model{Name: "x", Title: `Relay <"&'>`, Capabilities: []inventory.Capability{{Name: "relay", Title: "First", Kind: inventory.Switch}}, Ports: []inventory.Port{
		{Label: "K1", Pin: "P4", Can: []string{"relay"}, Capability: "relay"}, {Label: "S1", Pin: "P5", Can: []string{"button", "contact"}, InputOnly: true},
		{Label: "X", Pin: "P0", Can: []string{"button"}, UnsafeAtBoot: true, SharedWith: "S1", Cautions: []string{"hot <b>"}}}}
	svg, err := Ports(m, settings.Values{"port.S1.function": "contact"})
	if err != nil {
		t.Fatal(err)
	}
	all, _ := texts(t, svg)
	got := strings.Join(all, "|")
	for _, want := range []string{`Relay <"&'>`, "K1|pin P4|relay: First", "S1|pin P5|contact|input only", "X|pin P0|unused; can be button|unsafe at boot: wire nothing to it that drives it; shares its pin with S1; hot <b>"} {
		if !strings.Contains(got, want) {
			t.Errorf("%q is not in %q", want, got)
		}
	}
}

func TestStripsAreDrawnInTheirOrder(t *testing.T) {
	for _, c := range []struct {
		s      settings.Strip
		places [][2]int // of the lamps 0, 1, long, last
	}{
		{settings.Strip{Width: 4, Height: 3, Corner: "top left"}, [][2]int{{0, 0}, {1, 0}, {0, 1}, {3, 2}}},
		{settings.Strip{Width: 4, Height: 3, Corner: "top left", BackAndForth: true}, [][2]int{{0, 0}, {1, 0}, {3, 1}, {3, 2}}},
		{settings.Strip{Width: 4, Height: 3, Corner: "bottom right"}, [][2]int{{3, 2}, {2, 2}, {3, 1}, {0, 0}}},
		{settings.Strip{Width: 4, Height: 3, Corner: "top right", Columns: true}, [][2]int{{3, 0}, {3, 1}, {2, 0}, {0, 2}}},
		{settings.Strip{Width: 4, Height: 3, Corner: "bottom left", Columns: true, BackAndForth: true}, [][2]int{{0, 2}, {0, 1}, {1, 0}, {3, 2}}},
	} {
		long := c.s.Width
		if c.s.Columns {
			long = c.s.Height
		}
		seen := map[[2]int]bool{}
		for n := range c.s.Width * c.s.Height {
			x, y := c.s.Place(n)
			if x < 0 || y < 0 || x >= c.s.Width || y >= c.s.Height || seen[[2]int{x, y}] {
				t.Fatalf("%+v: lamp %d sits at %d, %d", c.s, n, x, y)
			}
			seen[[2]int{x, y}] = true
		}
		for i, n := range []int{0, 1, long, c.s.Width*c.s.Height - 1} {
			if x, y := c.s.Place(n); [2]int{x, y} != c.places[i] {
				t.Errorf("%+v: lamp %d sits at %d, %d; want %v", c.s, n, x, y, c.places[i])
			}
		}
		svg, err := Strip(c.s)
		if _, count := texts(t, svg); err != nil || count["circle"] != 12 {
			t.Errorf("%d lamps, %v", count["circle"], err)
		}
	}
	large, err := Strip(settings.Strip{Width: 300, Height: 40, Corner: "bottom right"})
	if err != nil || len(large) > 200<<10 || !bytes.Contains(large, []byte(`class="first"`)) || !bytes.Contains(large, []byte("24 x 16 of them are drawn")) {
		t.Errorf("a large strip: %d bytes, %v", len(large), err)
	}
}
