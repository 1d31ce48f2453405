package engine

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"
)

// BenchmarkImport takes ten thousand new devices in, names them by the scheme,
// and takes the same file in again. The promise is five seconds for each.
func BenchmarkImport(b *testing.B) {
	var file strings.Builder
	file.WriteString("name;room;model;hardware_id;tags;report.interval_seconds\n")
	for i := range 10_000 {
		fmt.Fprintf(&file, "Relé %d;Sala %d;sobro-quatro;02:5A:12:00:%02X:%02X;rega;45,0\n", i, i%100, i/256, i%256)
	}
	for b.Loop() {
		b.StopTimer()
		e := bench(b)
		for i := range 100 {
			if _, err := e.AddRoom(b.Context(), "test", "lagar", fmt.Sprintf("Sala %d", i)); err != nil {
				b.Fatal(err)
			}
		}
		b.StartTimer()
		began := time.Now()
		out, err := e.Import(b.Context(), "test", "lagar", []byte(file.String()), false)
		if err != nil || out.Added != 10_000 {
			b.Fatal(out.Added, err)
		}
		b.ReportMetric(time.Since(began).Seconds(), "s/added")
		began = time.Now()
		if out, err = e.Import(b.Context(), "test", "lagar", []byte(file.String()), false); err != nil || out.Same != 10_000 {
			b.Fatal(out.Same, err)
		}
		b.ReportMetric(time.Since(began).Seconds(), "s/same")
		began = time.Now()
		var back bytes.Buffer
		if err := e.Export(b.Context(), "lagar", &back); err != nil {
			b.Fatal(err)
		}
		b.ReportMetric(time.Since(began).Seconds(), "s/out")
	}
}
