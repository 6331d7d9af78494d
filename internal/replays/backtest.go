package replays

import (
	"context"
	"errors"
	"runtime"
	"sort"
	"time"

	"golang.org/x/sync/errgroup"

	"tinbell/core/arrival"
	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/score"
	"tinbell/core/timeline"
	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/watch"
)

// BacktestAlert is an alert a configuration would have raised.
type BacktestAlert struct {
	Monitor   string          `json:"monitor"`
	Dataset   string          `json:"dataset"`
	Measure   string          `json:"measure"`
	Segment   string          `json:"segment"`
	SeriesID  int64           `json:"series_id"`
	Since     time.Time       `json:"since"`
	RaisedAt  time.Time       `json:"raised_at"`
	ClosedAt  *time.Time      `json:"closed_at"`
	Severity  detect.Severity `json:"severity"`
	Direction string          `json:"direction"`
	Rule      detect.Cause    `json:"rule"`
	Outcome   score.Outcome   `json:"outcome" enum:"hit,repeat,false,planned" doc:"against the incident catalogue"`
	Incident  string          `json:"incident" doc:"reference of the incident it belongs to"`
	end       int64
	slack     int64
	planned   bool
	looks     record.Looks
}

// Backtest is a configuration replayed over the past.
type Backtest struct {
	From     time.Time        `json:"from"`
	To       time.Time        `json:"to"`
	Series   int              `json:"series"`
	Alerts   []BacktestAlert  `json:"alerts"`
	Overall  scorecard.Card   `json:"overall" doc:"every figure against the catalogue; nothing here is labelled"`
	Monitors []scorecard.Card `json:"monitors"`
	Short    []string         `json:"too_little_history" doc:"monitors some of whose series could not be judged"`

	incidents []string // that these monitors could have found
}

// Backtest replays monitors over [from, to): history before is only learned
// from, and labels and planned events count only from when they were known.
// override, if given, replaces the settings of every monitor.
func (b *Bench) Backtest(ctx context.Context, monitors []record.Monitor, from, to time.Time, tried record.Tried) (Backtest, error) {
	return b.backtest(ctx, monitors, from, to, tried, func(int) error { return nil })
}

// backtest is Backtest that says how many monitors are done; done may stop it.
func (b *Bench) backtest(ctx context.Context, monitors []record.Monitor, from, to time.Time, tried record.Tried,
	done func(n int) error) (Backtest, error) {
	if to.IsZero() || to.After(b.now()) {
		to = b.now()
	}
	result := Backtest{From: from, To: to, Alerts: []BacktestAlert{}, Monitors: []scorecard.Card{}, Short: []string{}}
	if !from.Before(to) {
		return result, record.Invalid{Field: "since", Given: from.Format(time.RFC3339), Allowed: "a time before the end, " +
			to.Format(time.RFC3339)}
	}
	for i, m := range monitors {
		var err error
		if m.Settings, err = tried.On(m.Settings); err != nil {
			return result, err
		}
		subject, err := watch.Load(ctx, b.store, m)
		if err != nil {
			return result, err
		}
		alerts, short, err := b.replay(ctx, subject, from, to, nil)
		if err != nil {
			return result, err
		}
		if short {
			result.Short = append(result.Short, m.Name)
		}
		result.Series += len(subject.Series)
		result.Alerts = append(result.Alerts, alerts...)
		if err := done(i + 1); err != nil {
			return result, err
		}
	}
	return result, b.scoreReplay(ctx, &result, monitors)
}

// replay walks all series of a subject. shown, if given, is told of each
// series, its evaluator at the end (nil if it never had enough history) and all
// its readings, one series at a time.
func (b *Bench) replay(ctx context.Context, v *watch.Subject, from, to time.Time, shown func(record.Series, *detect.Evaluator,
	[]detect.Reading)) ([]BacktestAlert, bool, error) {
	arrivals := v.Monitor.Settings.Method == record.MethodArrival
	if arrivals && shown == nil {
		alerts, err := b.replayArrivals(ctx, v, from, to)
		return alerts, false, err
	}
	type walked struct {
		alerts   []BacktestAlert
		e        *detect.Evaluator
		readings []detect.Reading
		short    bool
	}
	all := make([]walked, len(v.Series))
	place := map[int64]int{}
	for i, series := range v.Series {
		place[series.ID] = i
	}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	err := v.EachHistory(within, b.store, time.Time{}, timeline.Earlier(to, v.SettledTo(b.now())),
		func(id int64, history []timeline.Sample) error {
			i := place[id]
			contain.Go(group, func() error {
				w, series := &all[i], v.Series[i]
				alerts, e, readings, err := walkOne(v, series, cut(history, to), from, shown != nil)
				w.e, w.readings = e, readings
				var few baseline.TooShort
				if errors.As(err, &few) {
					w.short, err = true, nil
				}
				for _, a := range alerts {
					w.alerts = append(w.alerts, replayed(v, series, a))
				}
				return err
			})
			return nil
		})
	if walkErr := group.Wait(); walkErr != nil {
		err = walkErr
	}
	if err != nil {
		return nil, false, err
	}
	var list []BacktestAlert
	short := false
	for i, series := range v.Series {
		list = append(list, all[i].alerts...)
		short = short || all[i].short
		if shown != nil {
			show, err := v.Waits(ctx, b.store, from, to)
			if err != nil {
				return nil, false, err
			}
			for k := range all[i].readings {
				show(&all[i].readings[k])
			}
			shown(series, all[i].e, all[i].readings)
		}
	}
	if arrivals {
		list, err = b.replayArrivals(ctx, v, from, to)
	}
	return list, short, err
}

func cut(history []timeline.Sample, to time.Time) []timeline.Sample {
	return history[:sort.Search(len(history), func(i int) bool { return history[i].At >= to.Unix() })]
}

func (b *Bench) replayArrivals(ctx context.Context, v *watch.Subject, from, to time.Time) ([]BacktestAlert, error) {
	loads, err := b.store.Loads(ctx, v.Metric.DatasetID, time.Time{}, to)
	if err != nil || len(v.Series) == 0 {
		return nil, err
	}
	times := make([]int64, len(loads))
	for i, l := range loads {
		times[i] = l.At.Unix()
	}
	alerts := arrival.Walk(times, v.Grid.Zone, v.Monitor.ArrivalRule(), from.Unix(), to.Unix(), replay.RefitEvery, v.Muted)
	var list []BacktestAlert
	for _, a := range alerts {
		list = append(list, replayed(v, v.Series[0], a))
	}
	return list, nil
}

func (b *Bench) scoreReplay(ctx context.Context, result *Backtest, monitors []record.Monitor) error {
	incidents, err := b.store.Incidents(ctx, "", result.From, result.To)
	if err != nil {
		return err
	}
	sort.SliceStable(result.Alerts, func(i, j int) bool { return result.Alerts[i].RaisedAt.Before(result.Alerts[j].RaisedAt) })
	weeks := result.To.Sub(result.From).Hours() / (7 * 24)
	var measured []record.Incident
	measures := map[string]string{}
	for _, m := range monitors {
		metric, err := b.store.MetricByID(ctx, m.MetricID)
		if err != nil {
			return err
		}
		measures[m.Name] = metric.Measure
	}
	for _, i := range incidents {
		if !i.StartedAt.Before(result.From) && scorecard.Watched(i, monitors, measures) {
			measured = append(measured, i)
			result.incidents = append(result.incidents, i.Reference)
		}
	}
	all := result.match(result.Alerts, measured)
	for i := range result.Alerts {
		result.Alerts[i].Outcome = all.Outcomes[i]
		if k := all.Incident[i]; k >= 0 {
			result.Alerts[i].Incident = measured[k].Reference
		}
	}
	result.Overall = scorecard.All(score.Sum(scores(result.Alerts), all, weeks, true))
	for _, m := range monitors {
		var own []BacktestAlert
		for _, a := range result.Alerts {
			if a.Monitor == m.Name {
				own = append(own, a)
			}
		}
		var cases []record.Incident
		for _, i := range measured {
			if i.On(m.Dataset) && (i.Measure == "" || i.Measure == measures[m.Name]) {
				cases = append(cases, i)
			}
		}
		result.Monitors = append(result.Monitors, scorecard.CardOf(m, measures[m.Name],
			score.Sum(scores(own), result.match(own, cases), weeks, true)))
	}
	return nil
}

// scores are replayed alerts as they are scored.
func scores(alerts []BacktestAlert) []score.Alert {
	list := make([]score.Alert, len(alerts))
	for i, a := range alerts {
		list[i] = score.Alert{Series: a.SeriesID, Since: a.Since.Unix(), Start: a.RaisedAt.Unix(), End: a.end, Slack: a.slack,
			Planned: a.planned}
	}
	return list
}

func (r *Backtest) match(alerts []BacktestAlert, incidents []record.Incident) score.Matched {
	series := map[int64]*BacktestAlert{}
	for i := range alerts {
		series[alerts[i].SeriesID] = &alerts[i]
	}
	cases := make([]score.Incident, len(incidents))
	for i := range incidents {
		cases[i] = scorecard.CaseOf(incidents[i], nil, func(id int64) (string, string, string) {
			a := series[id]
			return a.Dataset, a.Measure, a.Segment
		})
	}
	return score.Match(scores(alerts), cases, r.To.Unix())
}

func replayed(v *watch.Subject, series record.Series, a detect.Alert) BacktestAlert {
	row := v.AlertOf(series, a)
	r := BacktestAlert{
		Monitor: row.Monitor, Dataset: row.Dataset, Measure: row.Measure, Segment: row.Segment, SeriesID: series.ID,
		Since: row.Since, RaisedAt: row.RaisedAt, ClosedAt: row.ClosedAt, Severity: row.Severity, Direction: row.Direction,
		Rule: row.Cause, end: a.End, slack: 3 * row.PeriodSeconds, planned: row.Planned, looks: row.Looks,
	}
	return r
}
