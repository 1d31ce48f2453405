package health

import (
	"math"
	"math/rand/v2"
	"reflect"
	"testing"
	"time"

	"fado/internal/core/dialect"
)

func TestRoll(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 1))
	for range 200 {
		var whole Roll
		low, high, sum, last := math.Inf(1), math.Inf(-1), 0.0, 0.0
		for range 1 + r.IntN(50) {
			v := math.Round(r.NormFloat64()*1000) / 4
			whole.Add(v)
			low, high, sum, last = min(low, v), max(high, v), sum+v, v
		}
		if whole.Low != low || whole.High != high || whole.Sum != sum || whole.End != last || math.Abs(whole.Mean()*float64(whole.Count)-sum) > 1e-6 {
			t.Fatalf("%+v, want %v %v %v %v", whole, low, high, sum, last)
		}
	}
	var none Roll
	none.Add(math.NaN())
	none.Add(math.Inf(1))
	if none.Count != 0 || none.Mean() != 0 {
		t.Errorf("%+v", none)
	}
}

func TestStart(t *testing.T) {
	at := time.Date(2026, 10, 25, 2, 59, 59, 0, time.FixedZone("", 5*1800)) // half hours do not matter
	if got := Start(at, Coarse); !got.Equal(time.Date(2026, 10, 25, 0, 0, 0, 0, time.UTC)) {
		t.Error(got)
	}
	if got := Start(at, Fine); !got.Equal(time.Date(2026, 10, 25, 0, 25, 0, 0, time.UTC)) {
		t.Error(got)
	}
}

func TestRead(t *testing.T) {
	var l Last
	at := time.Date(2026, 3, 1, 10, 0, 0, 0, time.UTC)
	for i, c := range []struct {
		after time.Duration
		kind  dialect.MessageKind
		facts dialect.Facts
		want  map[What]float64
	}{
		{0, dialect.State, dialect.Facts{"value": "1"}, map[What]float64{}},
		{5 * time.Millisecond, dialect.State, dialect.Facts{"value": "1"}, map[What]float64{}},
		{5 * time.Millisecond, dialect.Health, dialect.Facts{"signal": "-61", "free_memory": 81000.0, "uptime": 5.0}, map[What]float64{Signal: -61, Memory: 81000}},
		{time.Minute, dialect.State, dialect.Facts{}, map[What]float64{Interval: 60.01}},
		{time.Millisecond, dialect.State, dialect.Facts{}, map[What]float64{}},
		{time.Minute, dialect.State, dialect.Facts{}, map[What]float64{Interval: 60.001}},
		{25 * time.Hour, dialect.State, dialect.Facts{}, map[What]float64{}},
		{time.Minute, dialect.Wake, dialect.Facts{"battery": 87.0}, map[What]float64{Battery: 87}},
		{0, dialect.Presence, dialect.Facts{"presence": "online"}, map[What]float64{Returns: 1}},
		{0, dialect.Presence, dialect.Facts{"presence": "offline"}, map[What]float64{}},
		{0, dialect.Health, dialect.Facts{"signal": "none"}, map[What]float64{}},
	} {
		at = at.Add(c.after)
		if got := l.Read(c.kind, c.facts, at); !reflect.DeepEqual(got, c.want) {
			t.Errorf("%d: %v, want %v", i, got, c.want)
		}
	}
}
