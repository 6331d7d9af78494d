package watch

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"sort"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"tinbell/core/arrival"
	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/learn"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Watcher judges samples and keeps baselines fitted.
type Watcher struct {
	store *store.Store
	now   func() time.Time
	log   *slog.Logger
}

// in gives the watcher as a transaction sees it.
func (w *Watcher) in(tx pgx.Tx) *Watcher { return &Watcher{w.store.In(tx), w.now, w.log} }

func New(s *store.Store, now func() time.Time, log *slog.Logger) *Watcher {
	return &Watcher{s, now, log}
}

// fitted is what learning one series gave.
type fitted struct {
	series   record.Series
	baseline record.Baseline
	alerts   []detect.Alert
	open     bool // the last alert is still open
	history  bool // the past was walked through
	short    error
}

// Learn fits the baselines of all of a monitor's series. With history, the past
// is walked through first as the live service would have, and its alerts kept:
// so a new monitor shows at once what it would have told.
func (w *Watcher) Learn(ctx context.Context, monitor int64, history bool, progress func(done, total int)) error {
	m, err := w.store.MonitorByID(ctx, monitor)
	if err != nil {
		return err
	}
	subject, err := Load(ctx, w.store, m)
	if err != nil {
		return err
	}
	now := w.now()
	histories, err := subject.Histories(ctx, w.store, time.Time{}, subject.SettledTo(now))
	if err != nil {
		return err
	}
	judged, err := w.store.Baselines(ctx, m.ID)
	if err != nil {
		return err
	}
	results := make([]fitted, len(subject.Series))
	group, _ := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	done := make(chan struct{}, len(subject.Series))
	for i, series := range subject.Series {
		group.Go(func() error {
			var err error
			results[i], err = w.learnSeries(subject, series, histories[series.ID], judged[series.ID], history)
			done <- struct{}{}
			return err
		})
	}
	for i := range subject.Series {
		<-done
		progress(i+1, len(subject.Series))
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return w.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.LockMonitor(ctx, tx, m.ID); err != nil {
			return err
		}
		for _, r := range results {
			if err := w.keepFit(ctx, tx, subject, r); err != nil {
				return err
			}
		}
		if history && m.Settings.Method == "arrival" {
			if err := w.walkArrivals(ctx, tx, subject, now); err != nil {
				return err
			}
		}
		if history {
			if err := store.Surround(ctx, tx, m.ID, nil); err != nil {
				return err
			}
		}
		if err := store.Notify(ctx, tx, "alerts"); err != nil {
			return err
		}
		return store.Learned(ctx, tx, m.ID, now)
	})
}

func (w *Watcher) learnSeries(v *Subject, series record.Series, history []timeline.Sample, last record.Baseline, walk bool) (fitted, error) {
	r := fitted{series: series}
	if len(history) == 0 {
		return r, nil
	}
	now := w.now()
	rule := v.Monitor.Settings.Rule(len(v.Series))
	exclusions := v.Exclusions[series.ID]
	// The fit ends where corrections may still come; from there on samples are
	// stepped through, and can be stepped through again.
	learned := history[:v.settledPart(history)]
	e, err := detect.Fit(v.Config, rule, learned, learn.Mask(exclusions, now.Unix()))
	var short baseline.TooShort
	if errors.As(err, &short) {
		r.short = short
		return r, nil
	}
	if err != nil {
		return r, fmt.Errorf("fit %s of %s: %w", series.Segment, v.Monitor.Name, err)
	}
	switch {
	case walk && !rule.BandOnly:
		from := time.Unix(history[0].At, 0).Add(v.WarmUp())
		alerts, walked, err := learn.WalkOn(learn.Job{Config: v.Config, Rule: rule, History: learned, Exclusions: exclusions, From: from.Unix()})
		if err != nil && !errors.As(err, &short) {
			return r, err
		}
		r.alerts, r.history = alerts, true
		if walked != nil {
			e.Carry(walked)
		}
	case len(last.Judged) > 0:
		if old, err := detect.Load(v.Config, rule, last.Judged); err == nil {
			learn.Settle(old, exclusions, now.Unix())
			e.Carry(old)
		}
	}
	fit, err := e.MarshalBinary()
	if err != nil {
		return r, err
	}
	for _, s := range history[len(learned):] {
		reading := e.Step(s, learn.MarkOf(exclusions, s.At, s.At+int64(v.Grid.Period.Seconds())))
		r.alerts = learn.Note(r.alerts, e, reading.Change)
	}
	_, r.open = e.OpenAlert()
	judged, err := e.MarshalBinary()
	if err != nil {
		return r, err
	}
	from, trained := time.Unix(history[0].At, 0).UTC(), v.Grid.Next(time.Unix(learned[len(learned)-1].At, 0))
	r.baseline = record.Baseline{
		MonitorID: v.Monitor.ID, SeriesID: series.ID, FittedAt: now, TrainedFrom: from, TrainedTo: trained,
		Excluded: v.Excluded(series.ID, from, trained), Fitted: fit, Judged: judged,
		JudgedTo: v.Grid.Next(time.Unix(history[len(history)-1].At, 0)),
	}
	return r, nil
}

// settledPart is how many leading samples are past correction: older than the
// metric's lookback, and than a day.
func (v *Subject) settledPart(history []timeline.Sample) int {
	hold := max(time.Duration(v.Metric.LookbackSeconds)*time.Second, 24*time.Hour) + v.Grid.Period
	end := history[len(history)-1].At - int64(hold.Seconds())
	n := sort.Search(len(history), func(i int) bool { return history[i].At > end })
	if n == 0 || n < baseline.Need(v.Config) {
		return len(history)
	}
	return n
}

// keepFit writes a fit and, on a first fit, the alerts of the past. A refit
// raises nothing by itself: what it steps through again was judged before.
func (w *Watcher) keepFit(ctx context.Context, tx pgx.Tx, v *Subject, r fitted) error {
	if r.short != nil {
		w.log.Info("baseline waits for history", "monitor", v.Monitor.Name, "segment", r.series.Segment, "reason", r.short)
		return nil
	}
	if r.baseline.Fitted == nil {
		return nil
	}
	if !r.history {
		r.alerts = nil
	}
	for i, a := range r.alerts {
		row := v.AlertOf(r.series, a)
		row.FromHistory = true
		if a.Closed == 0 && (i < len(r.alerts)-1 || !r.open) {
			row.EndedAt, row.ClosedAt = unix(a.Raised), unix(a.Raised)
		}
		if _, err := store.PutAlert(ctx, tx, row); err != nil {
			return err
		}
	}
	return store.PutBaseline(ctx, tx, r.baseline)
}

// walkArrivals keeps the overdue alerts of the past.
func (w *Watcher) walkArrivals(ctx context.Context, tx pgx.Tx, v *Subject, now time.Time) error {
	loads, err := w.store.In(tx).Loads(ctx, v.Metric.DatasetID, time.Time{}, now)
	if err != nil || len(loads) == 0 || len(v.Series) == 0 {
		return err
	}
	rule := v.Monitor.Settings.Rule(1)
	from := loads[0].At.Add(v.WarmUp())
	alerts := arrival.Walk(unixTimes(loads), v.Grid.Zone, rule, from.Unix(), now.Unix(), learn.RefitEvery, v.Muted)
	for _, a := range alerts {
		row := v.AlertOf(v.Series[0], a)
		row.FromHistory = true
		if _, err := store.PutAlert(ctx, tx, row); err != nil {
			return err
		}
	}
	return nil
}

// Muted tells whether an instant is on a holiday or under a planned event that
// was known: a load that does not come then is not overdue.
func (v *Subject) Muted(at int64) bool {
	y, m, d := time.Unix(at, 0).In(v.Grid.Zone).Date()
	if v.Config.Holidays[y*10000+int(m)*100+d] {
		return true
	}
	return len(v.Series) > 0 && learn.MarkOf(v.Exclusions[v.Series[0].ID], at, at+1) != timeline.Judged
}

func unixTimes(loads []record.Load) []int64 {
	times := make([]int64, len(loads))
	for i, l := range loads {
		times[i] = l.At.Unix()
	}
	return times
}

func unix(seconds int64) *time.Time {
	if seconds == 0 {
		return nil
	}
	t := time.Unix(seconds, 0).UTC()
	return &t
}
