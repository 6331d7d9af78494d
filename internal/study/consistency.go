package study

import (
	"context"
	"fmt"
	"math"
	"slices"
	"time"

	"tinbell/core/consistency"
	"tinbell/core/forecast"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/watch"
	"tinbell/internal/wire"
	"tinbell/internal/words"
)

// Placed is a series' span beside what the series was in the spans before.
type Placed struct {
	SeriesID int64         `json:"series_id"`
	Dataset  string        `json:"dataset"`
	Metric   string        `json:"metric"`
	Segment  string        `json:"segment"`
	Kind     timeline.Kind `json:"kind"`
	Unit     string        `json:"unit"`
	Days     int           `json:"days" doc:"of the span that count"`
	Spans    int           `json:"spans" doc:"before it that count: known faults and planned stretches are left out of them"`
	Now      *float64      `json:"now" doc:"mean of its days"`
	Usual    *float64      `json:"usual" doc:"mean that the same weekdays had in the spans before"`
	Change   *float64      `json:"change" doc:"a share of usual for counts and durations, else a difference"`
	Low      *float64      `json:"low" doc:"of now, from where on it lies outside"`
	High     *float64      `json:"high"`
	Wanders  *float64      `json:"wanders" doc:"by how much it strays by itself, once in a hundred; null where fewer than three spans tell"`
	Off      float64       `json:"off" doc:"in widths of the corridor; over 1 lies outside"`
	Verdict  string        `json:"verdict" enum:"inside,above,below,too little"`
	LastYear *float64      `json:"year_before" doc:"change to the same span of the year before, day by day; null where there is none"`
	Faults   int           `json:"days_of_known_faults" doc:"in the span itself, which count in it"`
}

// Sheet says of many series how a span lies beside those before.
type Sheet struct {
	By        string   `json:"by" enum:"week,month,year"`
	From      string   `json:"from" format:"date" doc:"first day"`
	To        string   `json:"to" format:"date" doc:"last day"`
	Name      string   `json:"name" doc:"of the span"`
	Back      int      `json:"back" doc:"spans before it that it is held against"`
	Tolerance float64  `json:"tolerance"`
	Series    []Placed `json:"series" doc:"farthest outside first"`
	Outside   int      `json:"outside"`
	Judged    int      `json:"judged"`
	Skipped   int      `json:"skipped" doc:"series beyond those that a sheet holds"`
	Sentence  string   `json:"sentence"`
}

// Asked says which series a sheet is of, and when.
type Asked struct {
	Dataset, Owner, Tag string
	Metrics             []string
	By                  string    // week, month or year
	Day                 time.Time // a day of the span; zero: the newest span that is over
	Back                int
	Tolerance           float64
}

// mostSheet is how many series a sheet holds.
const mostSheet = 5000

// Sheet holds a span of many series against the spans before.
func (r *Reader) Sheet(ctx context.Context, q Asked) (Sheet, error) {
	metrics, err := r.asked(ctx, q)
	if err != nil {
		return Sheet{}, err
	}
	var span consistency.Span
	s := Sheet{By: q.By, Back: q.Back, Tolerance: q.Tolerance, Series: []Placed{}}
	for _, m := range metrics {
		b, err := r.behind(ctx, m, q.By, q.Day)
		if err != nil {
			return Sheet{}, err
		}
		if len(b.subject.Series) > mostSheet-len(s.Series) {
			s.Skipped += len(b.subject.Series) - (mostSheet - len(s.Series))
			b.subject.Series = b.subject.Series[:mostSheet-len(s.Series)]
		}
		span = b.span
		before := consistency.Before(q.By, b.span, q.Back)
		from := consistency.Around(q.By, b.span.From).From
		if len(before) > 0 {
			from = before[len(before)-1].From
		}
		recent, err := b.read(ctx, r, from, span.To, span.From)
		if err != nil {
			return Sheet{}, err
		}
		// A year ago is read apart, so that nothing between is.
		year, err := b.read(ctx, r, span.From-375, min(span.To-355, from), span.To)
		if err != nil {
			return Sheet{}, err
		}
		for _, one := range b.subject.Series {
			h, there := recent[one.ID]
			if !there {
				continue
			}
			p := h.Corridor(span, before, q.Tolerance)
			if m.Kind != timeline.Value {
				p.Low = max(p.Low, 0)
			}
			x := Placed{SeriesID: one.ID, Dataset: m.Dataset, Metric: m.Name, Segment: one.Segment, Kind: m.Kind, Unit: m.Unit,
				Days: p.Days, Spans: p.Spans, Now: wire.Finite(p.Now), Usual: wire.Finite(p.Usual),
				Change: wire.Finite(p.Change), Low: wire.Finite(p.Low), High: wire.Finite(p.High), Wanders: wire.Finite(p.Wanders),
				Off: min(p.Off(), 1e6), Verdict: p.Verdict, Faults: b.faults(one.ID)}
			if old, known := year[one.ID]; known {
				if c := h.With(old).YearsBack(span, 1); 2*c.Pairs >= span.To-span.From {
					x.LastYear = wire.Finite(c.Change)
				}
			}
			if p.Verdict != consistency.Little {
				s.Judged++
			}
			if p.Verdict == consistency.Above || p.Verdict == consistency.Below {
				s.Outside++
			}
			s.Series = append(s.Series, x)
		}
	}
	slices.SortStableFunc(s.Series, func(a, b Placed) int {
		switch {
		case a.Off > b.Off:
			return -1
		case a.Off < b.Off:
			return 1
		}
		return 0
	})
	s.say(span)
	return s, nil
}

// asked gives the metrics that a sheet is of; what is named and not there is said.
func (r *Reader) asked(ctx context.Context, q Asked) ([]record.Metric, error) {
	all, err := r.store.Metrics(ctx)
	if err != nil {
		return nil, err
	}
	named := map[string]bool{}
	for _, name := range q.Metrics {
		named[name] = false
	}
	var list []record.Metric
	for _, m := range all {
		_, one := named[m.Name]
		switch {
		case one && m.Long():
			return nil, record.Invalid{Field: "metric", Given: m.Name, Allowed: "metrics with periods of a day or less: days are compared"}
		case one:
			named[m.Name] = true
		case m.Long():
			continue
		}
		if m.Comparison != "" || len(named) > 0 && !one || q.Dataset != "" && m.Dataset != q.Dataset || q.Owner != "" &&
			m.Owner != q.Owner ||
			q.Tag != "" && !slices.Contains(m.Tags, q.Tag) && !slices.Contains(m.DatasetTags, q.Tag) {
			continue
		}
		list = append(list, m)
	}
	for _, name := range q.Metrics {
		if !named[name] {
			return nil, record.NotFound{Kind: "metric", Name: name}
		}
	}
	if q.Dataset != "" && !slices.ContainsFunc(all, func(m record.Metric) bool { return m.Dataset == q.Dataset }) {
		if _, err := r.store.Dataset(ctx, q.Dataset); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// behind is a metric with the span that is asked about, in its own local days.
type behind struct {
	subject *watch.Subject
	zone    *time.Location
	span    consistency.Span
	holiday map[int]string
}

// dayIn counts the local day of an instant.
func dayIn(zone *time.Location, at time.Time) int {
	y, m, d := at.In(zone).Date()
	return consistency.DayOf(y, m, d)
}

func (r *Reader) behind(ctx context.Context, m record.Metric, by string, day time.Time) (*behind, error) {
	subject, err := watch.Load(ctx, r.store, record.Monitor{MetricID: m.ID, Settings: record.DefaultSettings()})
	if err != nil {
		return nil, err
	}
	b := &behind{subject: subject, zone: subject.Grid.Zone, holiday: map[int]string{}}
	if day.IsZero() {
		b.span = consistency.Before(by, consistency.Around(by, dayIn(b.zone, r.now())), 1)[0]
	} else {
		b.span = consistency.Around(by, dayIn(time.UTC, day))
	}
	events, err := r.store.PlannedEvents(ctx, m.Dataset)
	if err != nil {
		return nil, err
	}
	for _, e := range events {
		for at := e.StartedAt; e.Holiday && at.Before(e.EndedAt); at = at.AddDate(0, 0, 1) {
			b.holiday[dayIn(b.zone, at)] = e.Summary
		}
	}
	return b, nil
}

// read gives the local days [from, to) of each series. Planned stretches are left out of
// all of them; known faults out of those before a day.
func (b *behind) read(ctx context.Context, r *Reader, from, to, faultsTo int) (map[int64]consistency.History, error) {
	histories := map[int64]consistency.History{}
	if from >= to {
		return histories, nil
	}
	local := func(day int) time.Time {
		d := consistency.Date(day)
		return time.Date(d.Year(), d.Month(), d.Day(), 0, 0, 0, 0, b.zone)
	}
	start, end := local(from), local(to)
	if settled := b.subject.SettledTo(r.now()); settled.Before(end) {
		end = settled
	}
	if !start.Before(end) {
		return histories, nil
	}
	ids := make([]int64, len(b.subject.Series))
	for i, s := range b.subject.Series {
		ids[i] = s.ID
	}
	cfg := b.subject.Config
	cfg.Holidays = nil // they are held against each other
	until := local(faultsTo).Unix()
	err := r.store.EachSeries(ctx, ids, start, end, func(id int64, list []timeline.Sample) error {
		var spans []timeline.Span
		for _, x := range b.subject.Exclusions[id] {
			switch {
			case x.Ordinary, x.Lasts:
			case x.Planned:
				spans = append(spans, x.Span)
			case x.Span.From < until:
				spans = append(spans, timeline.Span{From: x.Span.From, To: min(x.Span.To, until)})
			}
		}
		days := forecast.Days(cfg, timeline.DenseFrom(b.subject.Grid, b.subject.Grid.Floor(start), list, end), timeline.NewMask(spans...))
		h := consistency.History{First: from, Holiday: b.holiday, Ratio: cfg.Kind == timeline.Count ||
			cfg.Kind == timeline.Duration, Value: make([]float64, to-from)}
		for i := range h.Value {
			h.Value[i] = math.NaN()
		}
		for i, at := range days.At[:len(days.Value)] {
			if k := dayIn(b.zone, time.Unix(at, 0)) - from; k >= 0 && k < len(h.Value) {
				h.Value[k] = days.Value[i]
			}
		}
		histories[id] = h
		return nil
	})
	return histories, err
}

// faults counts the days of the span on which a known fault lay.
func (b *behind) faults(id int64) int {
	var spans []timeline.Span
	for _, x := range b.subject.Exclusions[id] {
		if !x.Planned && !x.Ordinary && !x.Lasts {
			spans = append(spans, x.Span)
		}
	}
	mask := timeline.NewMask(spans...)
	n := 0
	for day := b.span.From; day < b.span.To; day++ {
		d := consistency.Date(day)
		at := time.Date(d.Year(), d.Month(), d.Day(), 0, 0, 0, 0, b.zone)
		if mask.Touches(at.Unix(), at.AddDate(0, 0, 1).Unix()) {
			n++
		}
	}
	return n
}

// spanName says a span as people do.
func spanName(by string, s consistency.Span) string {
	d := consistency.Date(s.From)
	switch by {
	case consistency.Month:
		return d.Format("January 2006")
	case consistency.Year:
		return d.Format("2006")
	}
	year, week := d.ISOWeek()
	return fmt.Sprintf("week %d of %d", week, year)
}

func (s *Sheet) say(span consistency.Span) {
	if len(s.Series) == 0 {
		s.Sentence = "No series has samples there."
		return
	}
	s.From, s.To, s.Name = consistency.Date(span.From).Format(time.DateOnly), consistency.Date(span.To-1).Format(time.DateOnly),
		spanName(s.By, span)
	held := fmt.Sprintf("%s beside the %s before", capital(s.Name), words.Plural(s.Back, s.By))
	known := 0
	for _, b := range s.Series {
		known = max(known, b.Spans)
	}
	if known < s.Back && known > 0 {
		held = fmt.Sprintf("%s beside the %d of %s before that are known", capital(s.Name), known, words.Plural(s.Back, s.By))
	}
	first := s.Series[0]
	switch {
	case s.Judged == 0:
		s.Sentence = fmt.Sprintf("%s: none of %d series has two of them with half of their days, which it takes.", held, len(s.Series))
	case s.Outside == 0:
		s.Sentence = fmt.Sprintf("%s: all %d series lie inside.", held, s.Judged)
	default:
		s.Sentence = fmt.Sprintf("%s: of %d series %s outside, %s farthest (%s a day, usually %s).", held, s.Judged,
			words.Agree(s.Outside, "lies", "lie"), first.Called(), value(*first.Now, first.Kind), value(*first.Usual, first.Kind))
	}
}

// Called names a series.
func (b Placed) Called() string {
	if b.Segment == "" {
		return b.Metric
	}
	return b.Metric + " at " + b.Segment
}

// value writes a value of a kind.
func value(x float64, kind timeline.Kind) string {
	switch kind {
	case timeline.Share:
		return words.Percent(x)
	case timeline.Duration:
		return words.Seconds(x)
	}
	return words.Number(x)
}
