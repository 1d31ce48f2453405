package paper

import (
	"bytes"
	"fmt"
	"html/template"
	"image/color"
	"slices"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"

	"fado/internal/wire"
)

// The colours of outcomes on paper, each with a line of its own kind, so that they can
// be told apart in print.
var outcomeLines = []struct {
	name, words string
	colour      color.RGBA
	dashes      []vg.Length
}{
	{"over", "has an outcome", color.RGBA{36, 64, 107, 255}, nil},
	{"succeeded", "succeeded", color.RGBA{76, 90, 18, 255}, []vg.Length{vg.Points(7), vg.Points(2)}},
	{"wrong", "failed, reverted or lost", color.RGBA{143, 47, 27, 255}, []vg.Length{vg.Points(2), vg.Points(2)}},
}

// Progress draws how many devices of a rollout had an outcome, had succeeded, and had
// gone wrong, over time, as SVG. Zone is that of the axis.
func Progress(r wire.Rollout, units []wire.RolloutUnit, now time.Time, zone *time.Location) ([]byte, error) {
	p := plot.New()
	p.Y.Label.Text, p.Y.Min, p.Y.Max = "devices", 0, float64(max(len(units), 1))
	p.Y.Tick.Marker = whole{}
	p.X.Tick.Marker = plot.TimeTicks{Format: "2 Jan 15:04", Time: func(t float64) time.Time { return time.Unix(int64(t), 0).In(zone) }}
	p.Legend.Top, p.Legend.Left = true, true
	p.Legend.TextStyle.Font.Size, p.Legend.Padding, p.Legend.XOffs = vg.Points(9), vg.Points(2.5), vg.Points(6)
	began, ended := r.PlannedAt, now
	if r.StartedAt != nil {
		began = *r.StartedAt
	}
	if r.EndedAt != nil {
		ended = *r.EndedAt
	}
	for _, l := range outcomeLines {
		var at []time.Time
		for _, u := range units {
			wrong := u.Stands == "failed" || u.Stands == "reverted" || u.Stands == "lost"
			if u.Ended != nil && (l.name == "over" || l.name == u.Stands || l.name == "wrong" && wrong) {
				at = append(at, *u.Ended)
			}
		}
		slices.SortFunc(at, time.Time.Compare)
		points := plotter.XYs{{X: seconds(began)}}
		for i, t := range at {
			points = append(points, plotter.XY{X: max(seconds(t), seconds(began)), Y: float64(i + 1)})
		}
		points = append(points, plotter.XY{X: max(seconds(ended), points[len(points)-1].X), Y: float64(len(at))})
		line, err := plotter.NewLine(points)
		if err != nil {
			return nil, fmt.Errorf("draw the progress: %w", err)
		}
		line.StepStyle, line.Color, line.Width, line.Dashes = plotter.PostStep, l.colour, vg.Points(1.6), l.dashes
		p.Add(line)
		p.Legend.Add(fmt.Sprintf("%s (%d)", l.words, len(at)), line)
	}
	p.Y.Max *= 1.35 // room for the legend
	w, err := p.WriterTo(17*vg.Centimeter, 7*vg.Centimeter, "svg")
	if err != nil {
		return nil, fmt.Errorf("draw the progress: %w", err)
	}
	var b bytes.Buffer
	if _, err := w.WriteTo(&b); err != nil {
		return nil, fmt.Errorf("draw the progress: %w", err)
	}
	return b.Bytes(), nil
}

func seconds(t time.Time) float64 { return float64(t.UnixMilli()) / 1000 }

// whole marks whole numbers only: there are no half devices.
type whole struct{}

// Ticks implements plot.Ticker.
func (whole) Ticks(low, high float64) []plot.Tick {
	step := 1.0
	for _, s := range []float64{1, 2, 5, 10, 20, 50, 100, 200, 500, 1000, 5000, 20000} {
		if step = s; (high-low)/s <= 8 {
			break
		}
	}
	var out []plot.Tick
	for v := 0.0; v <= high; v += step {
		out = append(out, plot.Tick{Value: v, Label: fmt.Sprintf("%.0f", v)})
	}
	return out
}

// RolloutReport writes the report of a rollout as a page for A4.
func RolloutReport(r wire.RolloutReport) ([]byte, error) {
	drawing, err := Progress(r.Rollout, r.Units, r.At, time.UTC)
	if err != nil {
		return nil, err
	}
	if i := bytes.Index(drawing, []byte("<svg")); i >= 0 {
		drawing = drawing[i:] // it stands in a page
	}
	at := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return t.UTC().Format("2 Jan 2006, 15:04:05")
	}
	var wrong, open []wire.RolloutUnit
	for _, u := range r.Units {
		switch u.Stands {
		case "failed", "reverted", "lost":
			wrong = append(wrong, u)
		case "ahead", "starting", "under way":
			open = append(open, u)
		}
	}
	return print("rollout.tmpl", map[string]any{"R": r, "Wrong": wrong, "Open": open, "Drawing": template.HTML(drawing), "At": at, "Took": func(u wire.RolloutUnit) string {
		if u.Began == nil || u.Ended == nil {
			return ""
		}
		return u.Ended.Sub(*u.Began).Round(time.Second).String()
	}})
}
