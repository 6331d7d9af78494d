package study

import (
	"context"
	"errors"
	"fmt"
	"math"
	"time"

	"tinbell/core/baseline"
	"tinbell/core/forecast"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/watch"
	"tinbell/internal/wire"
	"tinbell/internal/words"
)

// Forecast is what a series is expected to do in days to come.
type Forecast struct {
	Subject
	Whole       bool        `json:"whole" doc:"of all segments of its metric together"`
	Model       string      `json:"model" enum:"level,damped,linear"`
	Days        int         `json:"history_days"`
	FullYear    bool        `json:"full_year_seen"`
	Error       *float64    `json:"error" doc:"mean absolute error at the horizon below: a share of the value for counts and durations, else in units"`
	Horizon     int         `json:"error_at_days"`
	PastAt      []time.Time `json:"past_at"`
	Past        []*float64  `json:"past" doc:"local days, or longer periods of the metric: sums of counts, means of anything else"`
	At          []time.Time `json:"at"`
	Expected    []float64   `json:"expected"`
	Low         []float64   `json:"low"`
	High        []float64   `json:"high"`
	Coverage    float64     `json:"coverage"`
	Total       []float64   `json:"total" doc:"of counts: what the days to come amount to, up to each; empty for anything else"`
	TotalLow    []float64   `json:"total_low"`
	TotalHigh   []float64   `json:"total_high"`
	Growth      *float64    `json:"growth" doc:"of the last week forecast over the last four weeks seen, as a share; null of what can be below 0"`
	Limit       *float64    `json:"limit"`
	Probability float64     `json:"probability" doc:"that is asked about"`
	CrossesAt   *time.Time  `json:"crosses_at" doc:"first day on which the expectation passes the limit"`
	ReachesAt   *time.Time  `json:"reaches_at" doc:"first day on which the typical day has passed the limit with that probability"`
	Chance      []float64   `json:"chance" doc:"that the limit has been passed, per day"`
	Sentence    string      `json:"sentence"`
}

// Ahead says what is asked of days to come.
type Ahead struct {
	Days        int
	Coverage    float64
	Limit       *float64
	Probability float64
}

// Forecast forecasts a series' days to come.
func (r *Reader) Forecast(ctx context.Context, id int64, q Ahead) (Forecast, error) {
	subject, named, err := Load(ctx, r.store, id)
	if err != nil {
		return Forecast{}, err
	}
	past, err := r.past(ctx, subject, id)
	if err != nil {
		return Forecast{}, err
	}
	return foretell(subject, named, past, q)
}

// past is a series by local days, without what is not its own doing.
func (r *Reader) past(ctx context.Context, subject *watch.Subject, id int64) (forecast.Daily, error) {
	history, err := r.sinceItBegan(ctx, subject, id)
	if err != nil {
		return forecast.Daily{}, err
	}
	mask, err := r.known(ctx, subject, id)
	if err != nil {
		return forecast.Daily{}, err
	}
	return forecast.Days(subject.Config, history, mask), nil
}

// mostOutlook is how many series are forecast at once.
const mostOutlook = 50

// Outlook forecasts the segments of metrics, one of each, or all segments of each
// together. Series too young for it are left out where others are not.
func (r *Reader) Outlook(ctx context.Context, metrics []string, segment string, whole bool, q Ahead) ([]Forecast, error) {
	list := []Forecast{}
	var refused error
	segmented := false
	for _, name := range metrics {
		metric, err := r.store.Metric(ctx, name)
		if err != nil {
			return nil, err
		}
		if whole && metric.Kind != timeline.Count {
			return nil, record.Invalid{Field: "whole", Given: name,
				Allowed: fmt.Sprintf("counts, which can be summed: this is a %s", metric.Kind)}
		}
		series, err := r.store.SeriesOf(ctx, metric.ID)
		if err != nil {
			return nil, err
		}
		if len(series) == 0 {
			refused = record.Invalid{Field: "metric", Given: name, Allowed: "one that was measured: it has no series yet"}
			continue
		}
		subject, named, err := Load(ctx, r.store, series[0].ID)
		if err != nil {
			return nil, err
		}
		var days []forecast.Daily
		for _, one := range series {
			if segment != "" && one.Segment != segment {
				continue
			}
			segmented = true
			if !whole && len(list) == mostOutlook {
				return nil, record.Invalid{Field: "metric", Given: name,
					Allowed: fmt.Sprintf("%d series at once: name a segment, or take all segments together", mostOutlook)}
			}
			past, err := r.past(ctx, subject, one.ID)
			if err != nil {
				return nil, err
			}
			if whole {
				days = append(days, past)
				continue
			}
			named.Series = one
			f, err := foretell(subject, named, past, q)
			if wrong := (record.Invalid{}); errors.As(err, &wrong) {
				refused = err
				continue
			}
			if err != nil {
				return nil, err
			}
			list = append(list, f)
		}
		if !whole || len(days) == 0 {
			continue
		}
		named.Series = record.Series{MetricID: metric.ID}
		f, err := foretell(subject, named, forecast.Together(days), q)
		if wrong := (record.Invalid{}); errors.As(err, &wrong) {
			refused = err
			continue
		}
		if err != nil {
			return nil, err
		}
		f.Whole = true
		list = append(list, f)
	}
	switch {
	case segment != "" && !segmented:
		return nil, record.NotFound{Kind: "segment", Name: segment}
	case len(list) == 0 && refused != nil:
		return nil, refused
	}
	return list, nil
}

// foretell forecasts and puts it into words.
func foretell(subject *watch.Subject, named Subject, past forecast.Daily, q Ahead) (Forecast, error) {
	g := subject.Grid
	periods := max(int(math.Round(float64(q.Days)*24/g.Day().Hours())), 1)
	f, err := forecast.Ahead(subject.Config, past, periods, q.Coverage)
	var short baseline.TooShort
	if errors.As(err, &short) {
		return Forecast{}, record.Invalid{Field: "series", Given: named.called(),
			Allowed: fmt.Sprintf("one with %d whole %ss since it began; this one has %d", short.Need, g.Unit(), short.Have)}
	}
	if err != nil {
		return Forecast{}, record.Invalid{Field: "days", Given: fmt.Sprint(q.Days), Allowed: err.Error()}
	}
	days := int(g.Day().Hours() / 24) // of each of its own
	x := Forecast{Subject: named, Model: f.Model, Days: days * f.Days, FullYear: f.FullYear, Error: wire.Finite(f.Error), Horizon: days * f.Horizon,
		Coverage: q.Coverage, Probability: q.Probability,
		At: instants(f.At), Expected: f.Expected, Low: f.Low, High: f.High, PastAt: instants(past.At[:len(past.Value)]),
		Past: []*float64{}, Limit: q.Limit, Chance: []float64{},
		Total: []float64{}, TotalLow: []float64{}, TotalHigh: []float64{}}
	for _, p := range past.Value {
		x.Past = append(x.Past, wire.Finite(p))
	}
	if named.Kind == timeline.Count {
		x.Total, x.TotalLow, x.TotalHigh = f.Totals()
	}
	if !g.Long() {
		x.grow()
	}
	last := len(f.At) - 1
	x.Sentence = fmt.Sprintf("In %s %s are expected a %s (%s to %s)", words.Plural(periods, g.Unit()), x.amount(f.Expected[last]),
		g.Unit(), x.amount(f.Low[last]), x.amount(f.High[last]))
	if x.Growth != nil && math.Abs(*x.Growth) >= 0.005 {
		x.Sentence += fmt.Sprintf(", %s beside the last four weeks", signed(*x.Growth))
	}
	if len(x.Total) > 0 {
		x.Sentence += fmt.Sprintf("; together %s (%s to %s)", x.amount(x.Total[last]), x.amount(x.TotalLow[last]),
			x.amount(x.TotalHigh[last]))
	}
	if q.Limit != nil {
		x.crosses(f, g)
	}
	if !f.FullYear {
		x.Sentence += "; no full year seen"
	}
	x.Sentence += "."
	return x, nil
}

// crosses says when a limit is passed.
func (x *Forecast) crosses(f *forecast.Forecast, g timeline.Grid) {
	limit := *x.Limit
	first, chance := f.Crosses(limit)
	x.Chance = chance
	if first >= 0 {
		x.CrossesAt = &x.At[first]
	}
	day := func(at time.Time) string { return at.In(g.Zone).Format("2 January 2006") }
	switch sure := f.Reaches(limit, x.Probability); {
	case sure >= 0:
		x.ReachesAt = &x.At[sure]
		x.Sentence += fmt.Sprintf("; the typical %s reaches %s with probability %s by %s", g.Unit(), x.amount(limit),
			words.Percent(x.Probability), day(x.At[sure]))
	case first >= 0:
		x.Sentence += fmt.Sprintf("; the typical %s passes %s about %s, but not with probability %s", g.Unit(), x.amount(limit),
			day(x.At[first]), words.Percent(x.Probability))
	default:
		x.Sentence += fmt.Sprintf("; the typical %s does not reach %s (chance %s by then)", g.Unit(), x.amount(limit),
			words.Odds(chance[len(chance)-1]))
	}
}

// grow measures growth: the last week forecast over the last four weeks seen.
func (x *Forecast) grow() {
	if x.Kind == timeline.Value || len(x.Expected) < 7 {
		return
	}
	mean := func(list []float64) float64 {
		sum := 0.0
		for _, v := range list {
			sum += v
		}
		return sum / float64(len(list))
	}
	var seen []float64
	for _, p := range x.Past[max(len(x.Past)-28, 0):] {
		if p != nil {
			seen = append(seen, *p)
		}
	}
	if len(seen) < 14 || mean(seen) <= 0 {
		return
	}
	growth := mean(x.Expected[len(x.Expected)-7:])/mean(seen) - 1
	x.Growth = &growth
}

// amount writes a value of the series.
func (x *Forecast) amount(v float64) string { return value(v, x.Kind) }

// called names the series.
func (s Subject) called() string {
	if s.Series.Segment == "" {
		return s.Metric
	}
	return s.Metric + " at " + s.Series.Segment
}

// ForecastDay is one day of a forecast, for files.
type ForecastDay struct {
	Dataset   string    `json:"dataset"`
	Metric    string    `json:"metric"`
	Segment   string    `json:"segment"`
	Whole     bool      `json:"whole"`
	At        time.Time `json:"at" doc:"start of the local day"`
	Observed  *float64  `json:"observed" doc:"of days that are over"`
	Expected  *float64  `json:"expected" doc:"of days to come"`
	Low       *float64  `json:"low"`
	High      *float64  `json:"high"`
	Total     *float64  `json:"total"`
	TotalLow  *float64  `json:"total_low"`
	TotalHigh *float64  `json:"total_high"`
	Chance    *float64  `json:"chance" doc:"that the limit has been passed by then"`
}

// EachDay gives the days that a forecast was made from and those to come, one by one.
func (x *Forecast) EachDay(put func(ForecastDay) error) error {
	day := ForecastDay{Dataset: x.Dataset, Metric: x.Metric, Segment: x.Series.Segment, Whole: x.Whole}
	for i, at := range x.PastAt {
		day.At, day.Observed = at, x.Past[i]
		if err := put(day); err != nil {
			return err
		}
	}
	day.Observed = nil
	of := func(list []float64, i int) *float64 {
		if i >= len(list) {
			return nil
		}
		return wire.Finite(list[i])
	}
	for i, at := range x.At {
		day.At, day.Expected, day.Low, day.High = at, of(x.Expected, i), of(x.Low, i), of(x.High, i)
		day.Total, day.TotalLow, day.TotalHigh, day.Chance = of(x.Total, i), of(x.TotalLow, i), of(x.TotalHigh, i), of(x.Chance, i)
		if err := put(day); err != nil {
			return err
		}
	}
	return nil
}
