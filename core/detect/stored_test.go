package detect

import (
	"bytes"
	"encoding/gob"
	"reflect"
	"sync"
	"testing"

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
		if a, b := again.Step(next, timeline.Judged), e.Step(next, timeline.Judged); a.Deviation != b.Deviation || a.Change != b.Change || a.Expected != b.Expected {
			t.Errorf("%s: reads %+v, was %+v", e.cfg.Method.Name, a, b)
		}
	}
}

func TestAStateOfAnotherProcessIsReadToo(t *testing.T) {
	e := evaluators(t)[0]
	var plain bytes.Buffer // a whole stream, as any process writes it
	if err := gob.NewEncoder(&plain).Encode(&e.state); err != nil {
		t.Fatal(err)
	}
	again, err := Load(e.cfg, e.rule, plain.Bytes())
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
	for _, bad := range [][]byte{nil, blob[:len(blob)/2], blob[:len(kinds())+3], append(bytes.Clone(blob), 1, 2, 3), bytes.Repeat([]byte{7}, 400)} {
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
