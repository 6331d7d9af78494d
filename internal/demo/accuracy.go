package demo

import (
	"fmt"
	"math"
	"sort"
	"time"

	"tinbell/core/arrival"
	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/learn"
	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/httpapi"
	"tinbell/internal/record"
)

// Accuracy is how one way of alerting did on one world, against the catalogue.
type Accuracy struct {
	Seed      uint64
	Way       string
	Alerts    int
	Hits      int
	False     int
	Incidents int
	Found     int
	Delays    []int64
	Weeks     float64
	Series    int
}

// Precision and Recall are NaN where nothing was counted.
func (a Accuracy) Precision() float64 { return float64(a.Hits) / float64(a.Hits+a.False) }
func (a Accuracy) Recall() float64    { return float64(a.Found) / float64(a.Incidents) }

// Delay is the median delay in hours.
func (a Accuracy) Delay() float64 { return score.MedianDelay(a.Delays).Estimate / 3600 }

// subject is one metric's series of a world.
type subject struct {
	metric  httpapi.NewMetric
	kind    timeline.Kind
	grid    timeline.Grid
	names   []string
	history [][]timeline.Sample
	loads   []int64
	rule    detect.Rule
}

// judged is a catalogue's view of one alert.
type judged struct {
	detect.Alert
	dataset, measure, segment string
	period                    int64
}

// MeasureAccuracy judges a world's past, from five weeks on, with Tin Bell's
// default settings and with the simple rivals, and scores each against the
// catalogue of incidents that its monitors could see. Nothing is labelled;
// planned events are known as the calendar had them.
func MeasureAccuracy(w *World) ([]Accuracy, error) {
	subjects, err := w.measure()
	if err != nil {
		return nil, err
	}
	from := w.Start().Add(35 * 24 * time.Hour).Unix()
	ways := map[string][]judged{}
	order := []string{"Tin Bell, warn once in 1 y per monitor"}
	var exclusions []learn.Exclusion
	holidays := map[int]bool{}
	for _, e := range w.Events {
		if e.Holiday {
			holidays[dateOf(e.From.In(w.Zone))] = true
			continue
		}
		exclusions = append(exclusions, learn.Exclusion{Span: timeline.Span{From: e.From.Unix(), To: e.To.Unix()}, Known: e.Known.Unix(), Planned: true})
	}
	for _, s := range subjects {
		found, err := s.ours(w, from, exclusions, holidays)
		if err != nil {
			return nil, err
		}
		ways[order[0]] = append(ways[order[0]], found...)
	}
	for _, r := range learn.Rivals() {
		order = append(order, r.Name)
		for _, s := range subjects {
			ways[r.Name] = append(ways[r.Name], s.rival(r, from)...)
		}
	}
	n := 0
	for _, s := range subjects {
		n += len(s.names)
	}
	var list []Accuracy
	for _, way := range order {
		a := w.against(way, ways[way], from)
		a.Series = n
		list = append(list, a)
	}
	return list, nil
}

func (s *subject) ours(w *World, from int64, exclusions []learn.Exclusion, holidays map[int]bool) ([]judged, error) {
	var found []judged
	if s.metric.Measure == record.MeasureFreshness {
		muted := func(at int64) bool {
			return holidays[dateOf(time.Unix(at, 0).In(w.Zone))] || learn.Muted(exclusions, at, at+1)
		}
		for _, a := range arrival.Walk(s.loads, w.Zone, s.rule, from, w.AsOf.Unix(), learn.RefitEvery, muted) {
			found = append(found, s.judged(a, ""))
		}
		return found, nil
	}
	for i, history := range s.history {
		alerts, err := learn.Walk(learn.Job{Config: baseline.Config{Kind: s.kind, Grid: s.grid, Holidays: holidays}, Rule: s.rule,
			History: history, Exclusions: exclusions, From: from})
		if err != nil {
			return nil, fmt.Errorf("%s %s: %w", s.metric.Name, s.names[i], err)
		}
		for _, a := range alerts {
			found = append(found, s.judged(a, s.names[i]))
		}
	}
	return found, nil
}

func (s *subject) judged(a detect.Alert, segment string) judged {
	return judged{a, s.metric.Dataset, s.metric.Measure, segment, s.metric.PeriodSeconds}
}

// rival runs a simple rule on the metric's series; freshness is judged as its
// hourly age.
func (s *subject) rival(r learn.Rival, from int64) []judged {
	var found []judged
	for i, history := range s.history {
		for _, a := range r.Walk(s.grid, history, from) {
			found = append(found, s.judged(a, s.names[i]))
		}
	}
	return found
}

func (w *World) against(way string, alerts []judged, from int64) Accuracy {
	a := Accuracy{Seed: w.Seed, Way: way, Alerts: len(alerts), Weeks: float64(w.AsOf.Unix()-from) / (7 * 86400)}
	list := make([]score.Alert, len(alerts))
	for i, x := range alerts {
		list[i] = score.Alert{Series: int64(i), Start: x.Raised, End: x.End, Slack: 3 * x.period}
		for _, e := range w.Events {
			if !e.Holiday && x.Since < e.To.Unix()+3*x.period && x.Raised > e.From.Unix() {
				list[i].Planned = true
			}
		}
	}
	seen := map[string]bool{}
	for _, m := range metrics() {
		seen[m.Dataset+" "+m.Measure] = true
	}
	var cases []score.Incident
	for _, f := range append(w.Faults, w.current()...) {
		if f.From.Unix() < from || !seen[f.Dataset+" "+f.Measure] {
			continue
		}
		cases = append(cases, score.Incident{Start: f.From.Unix(), End: f.To.Unix(), Covers: func(i int64) bool {
			x := alerts[i]
			return x.dataset == f.Dataset && x.measure == f.Measure && (f.Segment == "" || x.segment == "" || x.segment == f.Segment)
		}})
	}
	m := score.Match(list, cases, w.AsOf.Unix())
	for _, o := range m.Outcomes {
		switch o {
		case score.Hit:
			a.Hits++
		case score.FalseAlarm:
			a.False++
		}
	}
	a.Incidents, a.Delays = len(cases), m.Delay
	for _, f := range m.Found {
		if f {
			a.Found++
		}
	}
	return a
}

// current are the faults that last at the world's end: true, though in no
// catalogue yet.
func (w *World) current() []Fault {
	var list []Fault
	measures := map[EffectKind]string{Drop: record.MeasureRows, Leak: record.MeasureRows, Double: record.MeasureRows,
		Stall: record.MeasureFreshness, Nulls: record.MeasureNullShare}
	for _, e := range w.Effects {
		if e.To.After(w.AsOf) && measures[e.Kind] != "" {
			f := Fault{Dataset: e.Table, Measure: measures[e.Kind], From: e.From, To: w.AsOf}
			if e.Kind == Stall {
				list = append(list, Fault{Dataset: e.Table, Measure: record.MeasureRows, From: e.From, To: w.AsOf})
			}
			if t := TableNamed(e.Table); e.Segment >= 0 && len(t.Segments) > 0 && f.Measure != record.MeasureFreshness {
				f.Segment = t.Segments[e.Segment]
			}
			list = append(list, f)
		}
	}
	return list
}

// measure makes the demo's series straight from the generated rows, as the
// probes would from the warehouse.
func (w *World) measure() ([]*subject, error) {
	byTable := map[string][]*subject{}
	var all []*subject
	for _, m := range metrics() {
		grid, err := timeline.NewGrid(time.Duration(m.PeriodSeconds)*time.Second, w.Zone)
		if err != nil {
			return nil, err
		}
		s := &subject{metric: m, grid: grid, kind: timeline.Count, names: []string{""}}
		switch m.Measure {
		case record.MeasureNullShare:
			s.kind, s.rule.Direction = timeline.Share, detect.High
		case record.MeasureFreshness:
			s.kind, s.rule.Direction = timeline.Duration, detect.High
		}
		if t := TableNamed(m.Dataset); len(m.SegmentBy) > 0 {
			s.names = t.Segments
		}
		s.rule.Series = len(s.names)
		byTable[m.Dataset] = append(byTable[m.Dataset], s)
		all = append(all, s)
	}
	for i := range Tables {
		w.measureTable(&Tables[i], byTable[Tables[i].Name])
	}
	return all, nil
}

func (w *World) measureTable(t *Table, subjects []*subject) {
	type cell struct{ rows, nulls float64 }
	cells := make([]map[int64][]cell, len(subjects))
	for i := range cells {
		cells[i] = map[int64][]cell{}
	}
	newest := map[int64]int64{} // by load time
	segment := map[string]int{}
	for i, name := range t.Segments {
		segment[name] = i
	}
	for at := w.Start(); at.Before(w.AsOf); at = at.Add(time.Hour) {
		for _, r := range w.Rows(t, at) {
			if r.Loaded.After(w.AsOf) {
				continue
			}
			event := r.Values[len(r.Values)-2].(time.Time)
			newest[r.Loaded.Unix()] = max(newest[r.Loaded.Unix()], event.Unix())
			for i, s := range subjects {
				if s.metric.Measure == record.MeasureFreshness {
					continue
				}
				period := s.grid.Floor(event).Unix()
				row := cells[i][period]
				if row == nil {
					row = make([]cell, len(s.names))
					cells[i][period] = row
				}
				k := 0
				if len(s.names) > 1 {
					k = segment[r.Values[1].(string)]
				}
				row[k].rows++
				if s.metric.Column != "" && r.Values[t.column(s.metric.Column)] == nil {
					row[k].nulls++
				}
			}
		}
	}
	loads := make([]int64, 0, len(newest))
	for at := range newest {
		loads = append(loads, at)
	}
	sort.Slice(loads, func(i, j int) bool { return loads[i] < loads[j] })
	for i, s := range subjects {
		s.loads = loads
		s.history = make([][]timeline.Sample, len(s.names))
		last, k := int64(0), 0
		end := s.grid.Floor(w.AsOf.Add(-time.Duration(s.metric.SettleSeconds) * time.Second))
		for at := s.grid.Next(s.grid.Floor(w.Start())); at.Before(end); at = s.grid.Next(at) {
			for k < len(loads) && loads[k] <= s.grid.Next(at).Unix() {
				last = max(last, newest[loads[k]])
				k++
			}
			for n := range s.names {
				c := cell{}
				if row := cells[i][at.Unix()]; row != nil {
					c = row[n]
				}
				v := timeline.Sample{At: at.Unix(), Value: c.rows}
				switch s.metric.Measure {
				case record.MeasureNullShare:
					v.Rows, v.Value = timeline.NoRows, math.NaN()
					if c.rows > 0 {
						v.Rows, v.Value = c.rows, c.nulls/c.rows
					}
				case record.MeasureFreshness:
					v.Value = float64(s.grid.Next(at).Unix() - last)
				}
				s.history[n] = append(s.history[n], v)
			}
		}
	}
}
