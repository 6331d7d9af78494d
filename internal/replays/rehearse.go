package replays

import (
	"context"
	"fmt"
	"math"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/scorecard"
	"tinbell/internal/store"
	"tinbell/internal/study"
	"tinbell/internal/watch"
	"tinbell/internal/wire"
)

// Replay is one configuration on the past of a monitor, with the band it would
// have drawn for one of the series.
type Replay struct {
	Settings record.Settings  `json:"settings"`
	Card     scorecard.Card   `json:"card"`
	Alerts   []BacktestAlert  `json:"alerts"`
	Expected []*float64       `json:"expected" doc:"of the series drawn, one per period"`
	Low      []*float64       `json:"low"`
	High     []*float64       `json:"high"`
	Losses   study.Detectable `json:"detectable"`

	incidents []string // that could have been found
}

// Rehearsal is a proposal beside what is in force, on the same past.
type Rehearsal struct {
	Monitor  record.Monitor  `json:"monitor"`
	Kind     timeline.Kind   `json:"kind"`
	Unit     string          `json:"unit"`
	Zone     string          `json:"zone"`
	Period   int64           `json:"period_seconds"`
	From     time.Time       `json:"from"`
	To       time.Time       `json:"to"`
	Series   []record.Series `json:"series"`
	Drawn    record.Series   `json:"drawn"`
	At       []time.Time     `json:"at"`
	Observed []*float64      `json:"observed"`
	Today    Replay          `json:"today"`
	Proposed Replay          `json:"proposed"`
	Compared
	Incidents []record.Incident     `json:"incidents" doc:"of the series drawn"`
	Planned   []record.PlannedEvent `json:"planned"`
	Sentence  string                `json:"sentence"`
}

// memory keeps the replays of settings in force, which every change of a
// proposal is compared with.
type memory struct {
	sync.Mutex
	kept map[string]*Replay
}

const remembered = 64

func (m *memory) get(key string) (*Replay, bool) {
	m.Lock()
	defer m.Unlock()
	r, there := m.kept[key]
	return r, there
}

func (m *memory) put(key string, r *Replay) {
	m.Lock()
	defer m.Unlock()
	if m.kept == nil || len(m.kept) >= remembered {
		m.kept = map[string]*Replay{}
	}
	m.kept[key] = r
}

// Rehearse replays a monitor's series over the past under its own settings and
// under proposed ones, and draws one series of them. Of periods longer than a day it
// replays as many as there are days in since.
func (b *Bench) Rehearse(ctx context.Context, m record.Monitor, proposed record.Settings, series int64,
	since time.Duration) (Rehearsal, error) {
	subject, err := watch.Load(ctx, b.store, m)
	if err != nil {
		return Rehearsal{}, err
	}
	to := subject.SettledTo(b.now())
	from := subject.Grid.Floor(to.Add(-since))
	if subject.Grid.Long() {
		from = subject.Grid.Back(to, int(since.Hours()/24))
	}
	r := Rehearsal{Monitor: m, Kind: subject.Metric.Kind, Unit: subject.Metric.Unit, Zone: subject.Metric.Zone,
		Period: subject.Metric.PeriodSeconds,
		From:   from, To: to, Series: subject.Series}
	if len(subject.Series) == 0 {
		return r, record.Invalid{Field: "monitor", Given: m.Name, Allowed: "a monitor whose metric has samples"}
	}
	if r.Drawn, err = b.worthDrawing(ctx, subject, series, from); err != nil {
		return r, err
	}
	group, within := errgroup.WithContext(ctx)
	contain.Go(group, func() error {
		key := fmt.Sprint(m.ID, m.Version, m.LearnedAt, r.Drawn.ID, from.Unix(), to.Unix())
		if kept, there := b.rehearsed.get(key); there {
			r.Today = *kept
			return nil
		}
		var err error
		if r.Today, err = b.replayHeld(within, subject, r.Drawn.ID, from, to); err == nil {
			kept := r.Today // what is drawn on it below stays with this answer
			b.rehearsed.put(key, &kept)
		}
		return err
	})
	contain.Go(group, func() error {
		var err error
		r.Proposed, err = b.replayHeld(within, subject.Try(proposed), r.Drawn.ID, from, to)
		return err
	})
	if err := group.Wait(); err != nil {
		return r, err
	}
	if err := b.draw(ctx, subject, &r); err != nil {
		return r, err
	}
	r.Compared = compared(r.Today.Alerts, r.Proposed.Alerts, r.Today.incidents, len(r.Series), r.To)
	r.Sentence = changeSentence(r.Today.Alerts, r.Proposed.Alerts, r.Compared, r.To.Sub(r.From))
	return r, nil
}

// worthDrawing is the series asked for or, if none was, the one that alerted
// most since an instant.
func (b *Bench) worthDrawing(ctx context.Context, v *watch.Subject, asked int64, since time.Time) (record.Series, error) {
	alerts, err := b.store.Alerts(ctx, store.AlertFilter{Monitor: v.Monitor.Name, From: since})
	if err != nil {
		return record.Series{}, err
	}
	told := map[int64]int{}
	for _, a := range alerts {
		told[a.SeriesID]++
	}
	best := v.Series[0]
	for _, s := range v.Series {
		if s.ID == asked {
			return s, nil
		}
		if told[s.ID] > told[best.ID] {
			best = s
		}
	}
	return best, nil
}

// draw reads what the drawn series was and what is known to have happened.
func (b *Bench) draw(ctx context.Context, v *watch.Subject, r *Rehearsal) error {
	history, err := v.History(ctx, b.store, r.Drawn.ID, r.From, r.To)
	if err != nil {
		return err
	}
	values := map[int64]float64{}
	for _, s := range history {
		values[s.At] = s.Value
	}
	for at := r.From; at.Before(r.To); at = v.Grid.Next(at) {
		r.At = append(r.At, at)
		var observed *float64
		if x, there := values[at.Unix()]; there && !math.IsNaN(x) {
			observed = &x
		}
		r.Observed = append(r.Observed, observed)
	}
	for _, side := range []*Replay{&r.Today, &r.Proposed} {
		side.pad(len(r.At))
	}
	incidents, err := b.store.Incidents(ctx, v.Metric.Dataset, r.From, r.To)
	if err != nil {
		return err
	}
	r.Incidents = []record.Incident{}
	for _, i := range incidents {
		if watch.Covers(i, v.Metric.Measure, r.Drawn.Segment) {
			r.Incidents = append(r.Incidents, i)
		}
	}
	events, err := b.store.PlannedEvents(ctx, v.Metric.Dataset)
	if err != nil {
		return err
	}
	r.Planned = []record.PlannedEvent{}
	for _, e := range events {
		if e.StartedAt.Before(r.To) && e.EndedAt.After(r.From) {
			r.Planned = append(r.Planned, e)
		}
	}
	return nil
}

// pad puts periods without a band in front: too little history, or no band at
// all.
func (p *Replay) pad(n int) {
	for _, column := range []*[]*float64{&p.Expected, &p.Low, &p.High} {
		if missing := n - len(*column); missing > 0 {
			*column = append(make([]*float64, missing), *column...)
		}
	}
}

// replayHeld is replayOf with limits that keep the budget on the past as it is now.
func (b *Bench) replayHeld(ctx context.Context, v *watch.Subject, drawn int64, from, to time.Time) (Replay, error) {
	budget, err := v.HoldOut(ctx, b.store, b.now().UTC())
	if err != nil {
		return Replay{}, err
	}
	held := *v
	held.Monitor.Budget = &budget
	return b.replayOf(ctx, &held, drawn, from, to)
}

// replayOf walks a subject's series, keeps the band of one of them, and scores.
func (b *Bench) replayOf(ctx context.Context, v *watch.Subject, drawn int64, from, to time.Time) (Replay, error) {
	p := Replay{Settings: v.Monitor.Settings}
	result := Backtest{From: from, To: to, Alerts: []BacktestAlert{}, Monitors: []scorecard.Card{}, Short: []string{}}
	alerts, _, err := b.replay(ctx, v, from, to, func(series record.Series, e *detect.Evaluator, readings []detect.Reading) {
		if series.ID != drawn {
			return
		}
		for _, r := range readings {
			p.Expected, p.Low, p.High = append(p.Expected, wire.Finite(r.Expected)), append(p.Low, wire.Finite(r.Low)), append(p.High, wire.Finite(r.High))
		}
		if e != nil {
			p.Losses.Kind, p.Losses.Series, p.Losses.Losses = v.Metric.Kind, series, []detect.Loss{}
			p.Losses.Tell(e, len(v.Metric.SegmentBy) > 0)
		}
	})
	if err != nil {
		return p, err
	}
	result.Alerts = append(result.Alerts, alerts...)
	if err := b.scoreReplay(ctx, &result, []record.Monitor{v.Monitor}); err != nil {
		return p, err
	}
	p.Alerts, p.Card, p.incidents = result.Alerts, result.Monitors[0], result.incidents
	return p, nil
}

func (a BacktestAlert) until(now time.Time) time.Time {
	if a.ClosedAt != nil {
		return *a.ClosedAt
	}
	return now
}

func found(alerts []BacktestAlert) map[string]bool {
	list := map[string]bool{}
	for _, a := range alerts {
		if a.Incident != "" {
			list[a.Incident] = true
		}
	}
	return list
}

// walkOne replays one series and gives its readings over the whole stretch.
func walkOne(v *watch.Subject, series record.Series, history []timeline.Sample, from time.Time, read bool) ([]detect.Alert,
	*detect.Evaluator, []detect.Reading, error) {
	job := replay.Job{Config: v.Config, Rule: v.Rule(series), History: history, Exclusions: v.Exclusions[series.ID], From: from.Unix()}
	var readings []detect.Reading
	if read {
		job.Read = func(r detect.Reading) { readings = append(readings, r) }
	}
	alerts, e, err := replay.WalkOn(job)
	return alerts, e, readings, err
}
