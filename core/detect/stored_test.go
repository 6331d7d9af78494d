package detect

import (
	"bytes"
	"encoding/binary"
	"encoding/gob"
	"math"
	"math/rand/v2"
	"reflect"
	"sync"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/timeline"
)

// evaluators are of every kind of state: seasonal, plain, with an open alert.
func evaluators(t testing.TB) []*Evaluator {
	t.Helper()
	h := changed(5, hourly(), 120, 58*24+8, 58*24+30, 0.3)
	var list []*Evaluator
	for _, method := range []baseline.Name{baseline.Seasonal, baseline.ZScore, baseline.Rolling} {
		c := config(timeline.Count, hourly())
		c.Method.Name, c.Method.Window = method, 168
		e, err := Fit(c, Rule{}, h[:56*24], timeline.Mask{})
		if err != nil {
			t.Fatal(err)
		}
		for _, s := range h[56*24 : 59*24] {
			e.Step(s, timeline.Judged)
		}
		list = append(list, e)
	}
	return list
}

func TestAStoredStateGoesOnAsItWas(t *testing.T) {
	for _, e := range evaluators(t) {
		blob, err := e.MarshalBinary()
		if err != nil {
			t.Fatal(err)
		}
		again, err := Load(e.cfg, e.rule, blob)
		if err != nil {
			t.Fatal(err)
		}
		if a, b := again.Alert, e.Alert; !reflect.DeepEqual(a, b) {
			t.Errorf("%s: alert %+v, was %+v", e.cfg.Method.Name, a, b)
		}
		twice, err := again.MarshalBinary()
		if err != nil || !bytes.Equal(blob, twice) {
			t.Errorf("%s: written again it is other bytes (%v)", e.cfg.Method.Name, err)
		}
		next := timeline.Sample{At: e.Last + 3600, Value: 55}
		if a, b := again.Step(next, timeline.Judged), e.Step(next, timeline.Judged); a.Deviation != b.Deviation ||
			a.Change != b.Change || a.Expected != b.Expected {
			t.Errorf("%s: reads %+v, was %+v", e.cfg.Method.Name, a, b)
		}
	}
}

// Days that were never seen, gaps and zeros are met by a state that was stored just as by one
// that was not: what a state has nothing of yet is nothing when it is read again.
func TestAStoredStateMeetsWhatItNeverSaw(t *testing.T) {
	for _, period := range []time.Duration{time.Minute, 5 * time.Minute, time.Hour, 24 * time.Hour} {
		grid := timeline.Grid{Period: period, Zone: time.UTC}
		days := map[time.Duration]int{time.Minute: 4, 5 * time.Minute: 9, time.Hour: 28, 24 * time.Hour: 70}[period]
		rng := rand.New(rand.NewPCG(7, uint64(period)))
		from := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC) // a Monday: of four days none is a weekend's
		var h []timeline.Sample
		for i := range days * grid.PerDay() {
			h = append(h, timeline.Sample{At: from.Add(time.Duration(i) * period).Unix(), Value: math.Round(60 + 8*rng.NormFloat64())})
		}
		cfg := config(timeline.Count, grid)
		e, err := Fit(cfg, Rule{}, h, timeline.Mask{})
		if err != nil {
			t.Fatalf("%s: %v", period, err)
		}
		blob, err := e.MarshalBinary()
		if err != nil {
			t.Fatal(err)
		}
		again, err := Load(cfg, Rule{}, blob)
		if err != nil {
			t.Fatal(err)
		}
		at := h[len(h)-1].At
		for i := range 8 * grid.PerDay() {
			at += int64(period.Seconds())
			value := [...]float64{61, math.NaN(), 0, 55, 140}[i%5]
			a, b := again.Step(timeline.Sample{At: at, Value: value}, timeline.Judged), e.Step(timeline.Sample{At: at,
				Value: value}, timeline.Judged)
			if near := math.Abs(a.Deviation-b.Deviation) <= 1e-3*max(1, math.Abs(b.Deviation)); a.Change != b.Change ||
				!near && !(math.IsNaN(a.Deviation) && math.IsNaN(b.Deviation)) {
				t.Fatalf("%s, %d periods on: reads %+v, was %+v", period, i, a, b)
			}
		}
	}
}

func TestAStateOfAnotherProcessIsReadToo(t *testing.T) {
	e := evaluators(t)[0]
	blob, err := e.MarshalBinary()
	if err != nil {
		t.Fatal(err)
	}
	// The profiles, then a whole stream with types as another process numbers them.
	other := bytes.NewBuffer(blob[: lengthBytes+binary.LittleEndian.Uint32(blob) : lengthBytes+binary.LittleEndian.Uint32(blob)])
	if err := gob.NewEncoder(other).Encode(&e.state); err != nil {
		t.Fatal(err)
	}
	again, err := Load(e.cfg, e.rule, other.Bytes())
	if err != nil || again.Last != e.Last {
		t.Errorf("%v", err)
	}
}

func TestADamagedStateIsRefusedAndHarmsNoOther(t *testing.T) {
	e := evaluators(t)[0]
	blob, err := e.MarshalBinary()
	if err != nil {
		t.Fatal(err)
	}
	for _, bad := range [][]byte{nil, blob[:len(blob)/2], blob[:len(kinds())+3], append(bytes.Clone(blob), 1, 2, 3),
		bytes.Repeat([]byte{7}, 400)} {
		if _, err := Load(e.cfg, e.rule, bad); err == nil {
			t.Errorf("%d bytes of %d are taken", len(bad), len(blob))
		}
	}
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for range 50 {
				if again, err := Load(e.cfg, e.rule, blob); err != nil || again.Last != e.Last {
					t.Errorf("after damaged ones a good one: %v", err)
					return
				}
			}
		})
	}
	all.Wait()
}

func BenchmarkStored(b *testing.B) {
	e := evaluators(b)[0]
	blob, err := e.MarshalBinary()
	if err != nil {
		b.Fatal(err)
	}
	b.Run("load", func(b *testing.B) {
		for b.Loop() {
			Load(e.cfg, e.rule, blob)
		}
	})
	b.Run("save", func(b *testing.B) {
		for b.Loop() {
			e.MarshalBinary()
		}
	})
}

// A state of minutes is the largest: what keeping up with many of them takes is reading them,
// stepping a few samples, and writing one in fifteen.
func BenchmarkStoredMinutes(b *testing.B) {
	grid := timeline.Grid{Period: time.Minute, Zone: time.UTC}
	rng := rand.New(rand.NewPCG(1, 1))
	start := time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)
	var h []timeline.Sample
	for i := range 4*1440 + 15 {
		mu := 60 * (1.1 + math.Sin(2*math.Pi*float64(i)/1440))
		h = append(h, timeline.Sample{At: start.Add(time.Duration(i) * time.Minute).Unix(),
			Value: math.Round(max(mu+math.Sqrt(mu)*rng.NormFloat64(), 0))})
	}
	cfg := config(timeline.Count, grid)
	e, err := Fit(cfg, Rule{}, h[:4*1440], timeline.Mask{})
	if err != nil {
		b.Fatal(err)
	}
	blob, err := e.MarshalBinary()
	if err != nil {
		b.Fatal(err)
	}
	b.Run("load", func(b *testing.B) {
		b.ReportMetric(float64(len(blob)), "bytes")
		b.ReportAllocs()
		for b.Loop() {
			Load(cfg, Rule{}, blob)
		}
	})
	b.Run("save", func(b *testing.B) {
		for b.Loop() {
			e.MarshalBinary()
		}
	})
	b.Run("step 15", func(b *testing.B) {
		for b.Loop() {
			again, _ := Load(cfg, Rule{}, blob)
			for _, s := range h[4*1440:] {
				again.Step(s, 0)
			}
		}
	})
}
