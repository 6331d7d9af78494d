package demo

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"sync/atomic"
	"testing"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/fault"
	"tinbell/core/timeline"
)

// counted is a metric of the demo as hours of rows.
type counted struct {
	table, split, hollow string // hollow: the column whose nulls are counted
	kind                 fault.Kind
}

// hours counts a table's rows of sixteen weeks by segment and hour, and of a column
// the nulls.
func hours(w *World, c counted) map[string][]timeline.Sample {
	t := TableNamed(c.table)
	from := w.AsOf.AddDate(0, 0, -112)
	n := int(w.AsOf.Sub(from).Hours())
	at, column := slices.Index(t.Columns, c.split), slices.Index(t.Columns, c.hollow)
	found := map[string][]timeline.Sample{}
	for h := range n {
		begin := from.Add(time.Duration(h) * time.Hour)
		for _, row := range w.Rows(t, begin) {
			if row.Loaded.After(w.AsOf) {
				continue
			}
			segment := ""
			if at >= 0 {
				segment = fmt.Sprint(row.Values[at])
			}
			if found[segment] == nil {
				list := make([]timeline.Sample, n)
				for k := range list {
					list[k].At = from.Unix() + int64(k)*3600
				}
				found[segment] = list
			}
			x := &found[segment][h]
			x.Rows++
			if column < 0 || row.Values[column] == nil {
				x.Value++
			}
		}
	}
	for _, list := range found {
		for k := range list {
			if c.hollow != "" {
				list[k].Value /= list[k].Rows // not a number without rows
			}
		}
	}
	return found
}

// As the demo starts, four things are wrong: rows of one port are lost between two
// tables, web orders leak, a kiosk leaves passenger types out, a roster is late.
// Those that rows show are three faults, each from where it began, whatever the
// dice of the world.
func TestLiveFaultsAreFaultsOfTheirOwn(t *testing.T) {
	var silent atomic.Int32
	t.Cleanup(func() { // whether a fault rings at all is for other tests to hold
		if silent.Load() > 2 {
			t.Errorf("%d of 12 faults did not ring", silent.Load())
		}
	})
	for seed := range uint64(4) {
		t.Run(fmt.Sprint("seed ", seed+1), func(t *testing.T) {
			t.Parallel()
			w := world(t, seed+1)
			l := &fault.Lineage{}
			for to, list := range upstream {
				for _, from := range list {
					l.Step(from, to, fault.Unknown(3600), 0)
				}
			}
			var alerts []fault.Alert
			for _, c := range []counted{
				{"raw.gate_events", "port", "", fault.Rows}, {"ops.boarding_scans", "port", "", fault.Rows},
				{"raw.web_orders", "", "", fault.Rows},
				{"ops.ticket_sales", "channel", "", fault.Rows}, {"ops.ticket_sales", "channel", "passenger_type", fault.Nulls},
				{"ops.refunds", "", "", fault.Rows},
			} {
				alerts = append(alerts, judged(t, w, l, c, hours(w, c), int64(len(alerts)+1))...)
			}
			slices.SortFunc(alerts, func(a, b fault.Alert) int { return cmp.Compare(a.Raised, b.Raised) })
			in := fault.NewInference(l)
			for _, a := range alerts {
				in.Place(a)
				in.Settle()
			}
			of := map[string]*fault.Fault{}
			for _, f := range in.Settle() {
				for _, id := range f.Members() {
					a := alerts[slices.IndexFunc(alerts, func(a fault.Alert) bool { return a.ID == id })]
					key := a.Place
					for _, p := range a.Segment {
						key += " " + p.Value
					}
					if a.Kind == fault.Nulls {
						key += " nulls"
					}
					if a.Ended == 0 {
						of[key] = f
					}
				}
			}
			for key, origin := range map[string]string{"raw.gate_events Gullstone": "raw.gate_events",
				"raw.web_orders": "raw.web_orders", "ops.ticket_sales kiosk nulls": "ops.ticket_sales"} {
				f := of[key]
				if f == nil {
					silent.Add(1)
					continue
				}
				if f.Origin.Place != origin {
					t.Errorf("%s is put down to %s %v", key, f.Origin.Place, f.Origin.Segment)
				}
				for other, g := range of {
					if other != key && g == f && (other == "raw.web_orders" || other == "ops.ticket_sales kiosk nulls" ||
						other == "raw.gate_events Gullstone" || other == "ops.refunds") {
						t.Errorf("%s and %s are one fault", key, other)
					}
				}
			}
			if f, g := of["ops.boarding_scans Gullstone"], of["raw.gate_events Gullstone"]; f != nil && g != nil && f != g {
				t.Errorf("scans of Gullstone are lost for the same reason as its gate events, and told apart")
			}
		})
	}
}

// judged gives the alerts of the last two days of a metric's series.
func judged(t *testing.T, w *World, l *fault.Lineage, c counted, series map[string][]timeline.Sample, id int64) (alerts []fault.Alert) {
	kind := map[fault.Kind]timeline.Kind{fault.Rows: timeline.Count, fault.Nulls: timeline.Share}[c.kind]
	total := 0.0
	for _, list := range series {
		for _, x := range list {
			total += x.Rows
		}
	}
	for segment, list := range series {
		s := fault.SegmentOf([]string{c.split}, segment, []string{segment})
		l.Judge(c.table, c.kind, c.hollow, s)
		sum := 0.0
		for _, x := range list {
			sum += x.Rows
		}
		if segment != "" {
			l.Share(c.table, fault.Pair{Column: c.split, Value: segment}, sum/total)
		}
		rule := detect.Rule{Warn: detect.Year, Series: len(series)}
		var known []timeline.Span // the catalogue, and what was announced
		for _, f := range w.Faults {
			if f.Dataset == c.table && (f.Segment == "" || f.Segment == segment) {
				known = append(known, timeline.Span{From: f.From.Unix(), To: f.To.Unix()})
			}
		}
		for _, e := range w.Events {
			known = append(known, timeline.Span{From: e.From.Unix(), To: e.To.Unix()})
		}
		e, err := detect.Fit(baseline.Config{Kind: kind, Grid: timeline.Grid{Period: time.Hour, Zone: w.Zone}}, rule,
			list[:len(list)-72], timeline.NewMask(known...))
		if err != nil {
			t.Fatal(err)
		}
		take := func() {
			a, _ := e.OpenAlert()
			one := fault.Alert{ID: id*100 + int64(len(alerts)), Series: id*100 + int64(len(segment)), Place: c.table,
				Kind: c.kind, Column: c.hollow, Segment: s, Sign: int8(a.Direction),
				Onset: float64(a.Onset.At), Spread: a.Onset.Spread, Raised: a.Raised, Ended: a.End, Effect: a.Onset.Effect,
				Error: a.Onset.Error, Rate: 3e-4}
			if n := len(alerts); n > 0 && alerts[n-1].Raised == one.Raised && slices.Equal(alerts[n-1].Segment, s) {
				alerts[n-1].Ended = one.Ended
				return
			}
			alerts = append(alerts, one)
			if math.IsNaN(a.Rang.Observed) {
				t.Errorf("%s %s rang for no figure: %+v", c.table, segment, a.Rang)
			}
		}
		for _, x := range list[len(list)-72:] {
			switch e.Step(x, timeline.Judged).Change {
			case detect.Opened, detect.Closed:
				take()
			}
		}
	}
	return alerts
}
