// Package paper makes what is printed: a site's hand-over report and the labels of
// its devices, as pages that need no script, no font and no picture from elsewhere.
// It reads no records and knows no secret.
package paper

import (
	"bytes"
	"embed"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"
	_ "time/tzdata" // the zones of sites, wherever this runs

	"fado/internal/core/inventory"
	"fado/internal/wire"
)

//go:embed *.tmpl
var files embed.FS

var pages = template.Must(template.New("").Funcs(template.FuncMap{
	"join": strings.Join, "serving": serving,
	"mono": func(s string) template.HTML {
		return template.HTML("<span class=m>" + breakable.Replace(template.HTMLEscapeString(s)) + "</span>")
	},
}).ParseFS(files, "*.tmpl"))

// breakable lets long names break where a level or a label ends.
var breakable = strings.NewReplacer("/", "/<wbr>", "-", "-<wbr>", ":", ":<wbr>")

func print(name string, v any) ([]byte, error) {
	var b bytes.Buffer
	if err := pages.ExecuteTemplate(&b, name, v); err != nil {
		return nil, fmt.Errorf("write the page %s: %w", name, err)
	}
	return b.Bytes(), nil
}

type room struct {
	Name    string
	Devices []wire.ReportDevice
}

// Serves reports whether anything in the room is in service.
func (r room) Serves() bool { return slices.ContainsFunc(r.Devices, serving) }

func serving(d wire.ReportDevice) bool {
	return d.Stage.AtLeast(inventory.Joined) && d.Stage != inventory.Retired
}

// Report writes a hand-over report as a page for A4.
func Report(r wire.Report) ([]byte, error) {
	zone, err := time.LoadLocation(r.Zone)
	if err != nil {
		zone = time.UTC
	}
	var rooms []room
	var retired []wire.ReportDevice
	for _, d := range r.Devices {
		if d.Stage == inventory.Retired {
			retired = append(retired, d)
			continue
		}
		if len(rooms) == 0 || rooms[len(rooms)-1].Name != d.Room {
			rooms = append(rooms, room{Name: d.Room})
		}
		at := &rooms[len(rooms)-1]
		at.Devices = append(at.Devices, d)
	}
	at := func(t time.Time) string { return t.In(zone).Format("2 Jan 2006, 15:04") }
	return print("report.tmpl", map[string]any{
		"R": r, "Rooms": rooms, "Retired": retired,
		"At": at, "When": func(t *time.Time) string {
			if t == nil {
				return ""
			}
			return at(*t)
		},
	})
}
