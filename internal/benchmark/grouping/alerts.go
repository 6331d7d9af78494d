package grouping

import (
	"math"
	"slices"
	"sort"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/fault"
	"tinbell/core/timeline"
)

// series is a metric of a table, whole or of a segment.
type series struct {
	table     int
	dimension int // −1: the whole
	value     int
	kind      fault.Kind
}

// ring is an alert with its true cause: the number of a fault, −1 if none.
type ring struct {
	alert fault.Alert
	end   int64 // when it was closed; 0 if it was not
	cause int
}

func (w *World) series() []series {
	var list []series
	for i := range w.Tables {
		t := &w.Tables[i]
		if !t.watched {
			continue
		}
		kinds := []fault.Kind{fault.Rows}
		if t.metrics.nulls {
			kinds = append(kinds, fault.Nulls)
		}
		if t.metrics.mean {
			kinds = append(kinds, fault.Mean)
		}
		for _, k := range kinds {
			list = append(list, series{i, -1, 0, k})
			for _, d := range t.split {
				for v := range dimensions[d].Values {
					list = append(list, series{i, d, v, k})
				}
			}
		}
	}
	return list
}

// values are a series' samples.
func (s series) values(flows [][][]flow) []timeline.Sample {
	out := make([]timeline.Sample, hours)
	for h := range out {
		var x flow
		for c := range cells {
			if s.dimension < 0 || valueOf(c, s.dimension) == s.value {
				f := flows[s.table][c][h]
				x = flow{x.rows + f.rows, x.nulls + f.nulls, x.sum + f.sum}
			}
		}
		v := x.rows
		switch s.kind {
		case fault.Nulls:
			v = x.nulls / x.rows
		case fault.Mean:
			v = x.sum / x.rows
		}
		if x.rows == 0 && s.kind != fault.Rows {
			v = math.NaN()
		}
		out[h] = timeline.Sample{At: begin + int64(h)*3600, Value: v, Rows: x.rows}
	}
	return out
}

var begin = time.Date(2026, 1, 5, 0, 0, 0, 0, time.UTC).Unix()

func (s series) segment() fault.Segment {
	if s.dimension < 0 {
		return nil
	}
	d := dimensions[s.dimension]
	return fault.SegmentOf([]string{d.Column}, d.Values[s.value], []string{d.Values[s.value]})
}

// rings judges all series of a world and gives their alerts in the order in which
// they were raised.
func (w *World) rings() ([]ring, [][][]flow, error) {
	flows := w.Flows(-1)
	without := make([][][][]flow, len(w.Faults))
	for k := range w.Faults {
		without[k] = w.Flows(k)
	}
	list := w.series()
	count := map[[2]int]int{}
	for _, s := range list {
		count[[2]int{s.table, int(s.kind)}]++
	}
	grid := timeline.Grid{Period: time.Hour, Zone: time.UTC}
	var rings []ring
	for id, s := range list {
		samples := s.values(flows)
		kind := map[fault.Kind]timeline.Kind{fault.Rows: timeline.Count, fault.Nulls: timeline.Share, fault.Mean: timeline.Value}[s.kind]
		monitored := count[[2]int{s.table, int(s.kind)}]
		rule := detect.Rule{Warn: detect.Year, Series: monitored}
		e, err := detect.Fit(baseline.Config{Kind: kind, Grid: grid, Coverage: 0.99}, rule, samples[:trained], timeline.Mask{})
		if err != nil {
			return nil, nil, err
		}
		put := func(a detect.Alert) {
			r := ring{alert: alertOf(a, s, int64(id)+1), end: a.Closed, cause: w.cause(s, a, samples, without)}
			r.alert.Rate = 1/(detect.Year.Hours()*float64(monitored)) + 0.5/(90*24)
			rings = append(rings, r)
		}
		open := false
		for _, x := range samples[trained:] {
			switch e.Step(x, timeline.Judged).Change {
			case detect.Opened:
				open = true
			case detect.Closed:
				a, _ := e.OpenAlert()
				put(a)
				open = false
			case detect.Reopened: // what was closed goes on
				rings, open = rings[:len(rings)-1], true
			}
		}
		if a, on := e.OpenAlert(); on && open {
			put(a)
		}
	}
	sort.SliceStable(rings, func(i, j int) bool { return rings[i].alert.Raised < rings[j].alert.Raised })
	for i := range rings {
		rings[i].alert.ID = int64(i) + 1
	}
	return rings, flows, nil
}

var columns = map[fault.Kind]string{fault.Nulls: "sack", fault.Mean: "weight"}

func alertOf(a detect.Alert, s series, id int64) fault.Alert {
	sign := int8(a.Direction)
	kind, effect := s.kind, a.Onset.Effect
	if a.Cause == detect.Silence || a.Cause == detect.Missing {
		kind, sign, effect = fault.Rows, -1, -1 // nothing came
	}
	return fault.Alert{Series: id, Place: name(s.table), Kind: kind, Column: columns[kind],
		Segment: s.segment(), Sign: sign, Onset: float64(a.Onset.At), Spread: a.Onset.Spread, Raised: a.Raised, Effect: effect,
		Error:    a.Onset.Error,
		Critical: a.Severity == detect.Critical}
}

func name(table int) string { return "t" + string(rune('0'+table/10)) + string(rune('0'+table%10)) }

// cause is the fault without which a series would have differed most from what it
// was until its alert was raised: by a twentieth at least.
func (w *World) cause(s series, a detect.Alert, samples []timeline.Sample, without [][][][]flow) int {
	from, to := int(a.Onset.At-begin)/3600-2, int(a.Raised-begin)/3600
	best, most := -1, 0.0
	for k := range w.Faults {
		if w.Faults[k].From > to || w.Faults[k].To+48 < from {
			continue
		}
		other := s.values(without[k])
		off, size := 0.0, 0.0
		for h := max(from, 0); h < min(to, hours); h++ {
			if !math.IsNaN(samples[h].Value) && !math.IsNaN(other[h].Value) {
				off, size = off+math.Abs(samples[h].Value-other[h].Value), size+math.Abs(other[h].Value)
			}
		}
		if off > 0.05*size && off > most {
			best, most = k, off
		}
	}
	return best
}

// lineage is what the inference knows of the world: runs tell of some lags, the
// others are learned from the past if its wobbles show them.
func (w *World) lineage(flows [][][]flow) *fault.Lineage {
	l := &fault.Lineage{}
	for _, s := range w.series() {
		l.Judge(name(s.table), s.kind, columns[s.kind], s.segment())
	}
	for i := range w.Tables {
		t := &w.Tables[i]
		for _, in := range t.inputs {
			lag, pass := fault.Unknown(3600), 0.0
			up, down := rowsOf(in.table, flows), rowsOf(i, flows)
			if learned, ok := fault.Learn(up, down, 3600, 48*3600); ok {
				lag, pass = learned.Lag, learned.Pass
			} else if in.heard {
				lag = fault.Lag{Low: float64(in.lag) * 3600, High: float64(in.lag)*3600 + 1800, Spread: 1800}
			}
			l.Step(name(in.table), name(i), lag, pass)
		}
		total := 0.0
		for d := range dimensions {
			count := make([]float64, len(dimensions[d].Values))
			total = 0
			for c := range cells {
				for h := trained - 28*24; h < trained; h++ {
					count[valueOf(c, d)] += flows[i][c][h].rows
					total += flows[i][c][h].rows
				}
			}
			if slices.Contains(t.split, d) {
				for v, n := range count {
					l.Share(name(i), fault.Pair{Column: dimensions[d].Column, Value: dimensions[d].Values[v]}, n/max(total, 1))
				}
			}
		}
	}
	return l
}

// rowsOf is a table's past as a whole.
func rowsOf(table int, flows [][][]flow) []float64 {
	out := make([]float64, trained)
	for h := range out {
		for c := range cells {
			out[h] += flows[table][c][h].rows
		}
	}
	return out
}

// up gives what each table is made from.
func (w *World) up() map[string][]string {
	up := map[string][]string{}
	for i := range w.Tables {
		for _, in := range w.Tables[i].inputs {
			up[name(i)] = append(up[name(i)], name(in.table))
		}
	}
	return up
}
