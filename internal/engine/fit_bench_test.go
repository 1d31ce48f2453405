package engine

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"fado/internal/core/rollout"
	"fado/internal/store"
)

// BenchmarkFitMany plans a rollout for a hundred thousand devices, with its forecast,
// which is promised within two seconds, and judges one image, with its routes, for a hundred thousand devices:
// reading them from the records, and judging, which is promised within two seconds.
func BenchmarkFitMany(b *testing.B) {
	e := bench(b)
	var img store.Image
	for v := range 20 {
		var err error
		if img, err = e.AddImage(b.Context(), "test", bytes.NewReader(bytes.Repeat([]byte{byte(v)}, 400<<10)), ImageFacts{Firmware: "junco", Version: fmt.Sprintf("3.%d.0", v), Channel: "stable", Part: "program", Models: []string{"junco"}, OldestFrom: fmt.Sprintf("3.%d.0", max(v-4, 0))}); err != nil {
			b.Fatal(err)
		}
	}
	site, err := e.FindSite(b.Context(), "lagar")
	if err != nil {
		b.Fatal(err)
	}
	const many = 100_000
	list := make([]store.Device, many)
	for i := range list {
		list[i] = store.Device{ID: store.NewID(), SiteID: site.ID, Name: fmt.Sprint("Nível ", i), Model: "junco", HardwareID: fmt.Sprintf("02:5A:13:%02X:%02X:%02X", i>>16, i>>8&255, i&255), Hostname: fmt.Sprint("nivel-", i), Topic: fmt.Sprint("lagar/nivel-", i),
			Firmware: "junco", Running: fmt.Sprintf("3.%d.%d", i%19, i%300), Stage: "adopted"}
	}
	if err := e.Store.Write(b.Context(), func(tx *store.Tx) error { return store.SaveAll(tx, list) }); err != nil {
		b.Fatal(err)
	}
	b.Run("plan", func(b *testing.B) {
		ask := RolloutAsk{Image: img.SHA256, Rules: rollout.Rules{Trial: true, Waves: []rollout.Size{{Share: 1}, {Share: 20}}, AtOnce: 100, PerSite: 10}}
		for b.Loop() {
			units, left, err := e.arrange(b.Context(), ask, "")
			if err != nil || len(units)+len(left) < many || len(units) < many/2 {
				b.Fatal(len(units), len(left), err)
			}
			if f := rollout.Expect(rollout.New(ask.Rules, nil, units), time.Now()); len(f) != 4 {
				b.Fatal(f)
			}
		}
	})
	b.Run("fit", func(b *testing.B) { fitMany(b, e, img, many) })
}

func fitMany(b *testing.B, e *Engine, img store.Image, many int) {
	for b.Loop() {
		began := time.Now()
		all, err := store.SlimDevices(e.Store.Read(b.Context()), "model = 'junco' AND name LIKE 'Nível %'")
		if err != nil || len(all) != many {
			b.Fatal(len(all), err)
		}
		b.ReportMetric(time.Since(began).Seconds(), "s/read")
		began = time.Now()
		verdicts, err := e.FitMany(b.Context(), all, img)
		if err != nil || len(verdicts) != many || !verdicts[0].Fits || len(verdicts[0].Route) < 2 {
			b.Fatal(len(verdicts), verdicts[0], err)
		}
		b.ReportMetric(time.Since(began).Seconds(), "s/judged")
	}
}
