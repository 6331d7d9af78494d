package watch

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"slices"
	"sort"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"tinbell/core/baseline"
	"tinbell/core/detect"
	"tinbell/core/replay"
	"tinbell/core/timeline"
	"tinbell/internal/contain"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Watcher judges samples and keeps baselines fitted.
type Watcher struct {
	store *store.Store
	now   func() time.Time
	log   *slog.Logger

	patterns *patterns
}

// in gives the watcher as a transaction sees it.
func (w *Watcher) in(tx pgx.Tx) *Watcher { return &Watcher{w.store.In(tx), w.now, w.log, w.patterns} }

func New(s *store.Store, now func() time.Time, log *slog.Logger) *Watcher {
	return &Watcher{s, now, log, &patterns{}}
}

// fitted is what learning one series gave.
type fitted struct {
	series   record.Series
	baseline record.Baseline
	alerts   []detect.Alert
	open     bool      // the last alert is still open
	walked   time.Time // from when the past was walked through; zero: not at all
	first    time.Time // its first sample
	short    *baseline.TooShort
	stays    *store.Judged // it is not fitted yet, and goes on as it is
	broke    error         // it panicked
}

// Order asks for baselines to be fitted.
type Order struct {
	Monitor int64
	// History asks for the alerts of the past too, as the live service would have
	// raised them: so a new monitor shows at once what it would have told.
	History bool
	// Changed says that the monitor's settings are others than those its open
	// alerts were raised under: they are judged again.
	Changed bool
}

// atOnce is how many hourly series are fitted or judged in one transaction. What
// is kept of a series grows with its periods a day, and with it the memory that
// they take together.
const (
	atOnce    = 200
	fewAtOnce = 24
)

// Learn fits the baselines of all of a monitor's series, some at a time: what was
// fitted stays when a later part is cut off.
// It gives from when on samples came before the first fit, which may have come too
// late for it and are to be judged; zero if none did.
func (w *Watcher) Learn(ctx context.Context, o Order, progress func(done, total int)) (came time.Time, err error) {
	m, err := w.store.MonitorByID(ctx, o.Monitor)
	if err != nil {
		return came, err
	}
	subject, err := Load(ctx, w.store, m)
	if err != nil {
		return came, err
	}
	now := w.now()
	if err := w.hold(ctx, subject); err != nil {
		return came, err
	}
	past := walk{from: func(record.Series) time.Time { return time.Time{} }}
	each := o
	if o.History {
		past.from = func(record.Series) time.Time { return theBeginning }
		each.History = !carriedOut(m, now)
	}
	done := 0
	for part := range slices.Chunk(subject.Series, subject.together()) {
		if err := w.learnSome(ctx, subject, part, each, past); err != nil {
			return came, err
		}
		done += len(part)
		progress(done, len(subject.Series))
	}
	return came, w.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.LockMonitor(ctx, tx, m.ID); err != nil {
			return err
		}
		if m.Settings.Method != record.MethodArrival {
			if err := store.CloseOverdue(ctx, tx, m.ID, now); err != nil {
				return err
			}
		} else if o.History {
			if err := w.walkArrivals(ctx, tx, subject, now); err != nil {
				return err
			}
		}
		if o.History {
			if err := store.Surround(ctx, tx, m.ID, nil); err != nil {
				return err
			}
		}
		if err := store.Notify(ctx, tx, store.TopicAlerts); err != nil {
			return err
		}
		came, err = store.Learned(ctx, tx, m.ID, now)
		return err
	})
}

// carriedOut tells whether a monitor's past was walked through just now, by a process that
// ended before it could say so, and is walked through again: what came since the first time is
// no history, and what rang since is there already.
func carriedOut(m record.Monitor, now time.Time) bool {
	return m.LearnedAt != nil && now.Sub(*m.LearnedAt) < dayBefore
}

// theBeginning asks for a walk through all of the past.
var theBeginning = time.Unix(0, 0).UTC()

// together is how many of a monitor's series are worked on at once: all where each
// is compared with the others.
func (v *Subject) together() int {
	if v.Config.Method.Name == baseline.Siblings {
		return max(len(v.Series), 1)
	}
	return max(atOnce*24/max(v.Grid.PerDay(), 24), fewAtOnce)
}

// walk says from when on a series' past is walked through, zero for one that goes
// on from where it is; and from when on what that shows is news. A zero time
// stands for when the monitor was first in force.
type walk struct {
	from func(record.Series) time.Time
	news time.Time
}

// learnSome fits some series and keeps the fits.
func (w *Watcher) learnSome(ctx context.Context, v *Subject, part []record.Series, o Order, past walk) error {
	ids := make([]int64, len(part))
	for i, series := range part {
		ids[i] = series.ID
	}
	open, err := w.store.OpenSince(ctx, v.Monitor.ID, ids)
	if err != nil {
		return err
	}
	counts, err := w.store.LateCounts(ctx, ids)
	if err != nil {
		return err
	}
	histories, err := v.come(ctx, w.store, ids, w.now())
	if err != nil {
		return err
	}
	judged, err := w.store.Baselines(ctx, v.Monitor.ID, ids)
	if err != nil {
		return err
	}
	states, err := w.store.SeriesStates(ctx, v.Monitor.ID, ids)
	if err != nil {
		return err
	}
	results := make([]fitted, len(part))
	group, _ := errgroup.WithContext(ctx)
	group.SetLimit(runtime.NumCPU())
	for i, series := range part {
		history := histories[series.ID]
		delete(histories, series.ID) // each is needed once
		group.Go(func() error {
			from := past.from(series)
			if began, isOpen := open[series.ID]; isOpen && from.IsZero() && (o.Changed || outdated(v, series, judged[series.ID])) {
				from = began
			}
			var err error
			results[i], err = contain.Get(func() (fitted, error) {
				return w.learnSeries(v, series, history, judged[series.ID], from)
			})
			results[i].series = series
			if broke := (*contain.Panic)(nil); errors.As(err, &broke) {
				w.log.ErrorContext(ctx, "a series could not be fitted", "monitor", v.Monitor.Name, "segment", series.Segment,
					"samples", len(history), "error", err, "stack", broke.Stack)
				results[i].broke, err = err, nil
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return w.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.LockMonitor(ctx, tx, v.Monitor.ID); err != nil {
			return err
		}
		came, err := w.store.In(tx).NewsFrom(ctx, v.Monitor.ID)
		if err != nil {
			return err
		}
		if came.IsZero() {
			came = farFuture
		}
		for _, r := range results {
			news := past.news
			if news.IsZero() {
				news = inForce(states[r.series.ID], v.Monitor).Add(-dayBefore)
			}
			if o.History {
				news = came
			}
			if err := w.keepFit(ctx, tx, v, r, news, o); err != nil {
				return err
			}
		}
		if err := store.LateSince(ctx, tx, v.Monitor.ID, counts); err != nil {
			return err
		}
		return store.Notify(ctx, tx, store.TopicAlerts)
	})
}

// outdated tells whether a stored baseline cannot be gone on from: it was made by
// another method.
func outdated(v *Subject, series record.Series, b record.Baseline) bool {
	if len(b.Judged) == 0 {
		return true
	}
	_, err := contain.Get(func() (*detect.Evaluator, error) {
		return detect.Load(v.Config, v.Rule(series), b.Judged)
	})
	return err != nil
}

func (w *Watcher) learnSeries(v *Subject, series record.Series, history []timeline.Sample, last record.Baseline,
	walk time.Time) (fitted, error) {
	r := fitted{series: series}
	if len(history) == 0 {
		return r, nil
	}
	now := w.now()
	r.first = time.Unix(history[0].At, 0).UTC()
	rule := v.Rule(series)
	exclusions := v.Exclusions[series.ID]
	// The fit ends where corrections may still come; from there on samples are
	// stepped through, and can be stepped through again.
	learned := history[:v.settledPart(history)]
	mask := replay.Mask(exclusions, now.Unix())
	var before, told *detect.Evaluator // that the fit goes on from; that judged all up to the end
	var short baseline.TooShort
	switch {
	case !walk.IsZero() && !rule.BandOnly:
		from := timeline.Later(walk, r.first.Add(v.WarmUp()))
		alerts, walked, err := replay.WalkOn(replay.Job{Config: v.Config, Rule: rule, History: learned, Exclusions: exclusions,
			From: from.Unix()})
		if err != nil && !errors.As(err, &short) {
			return r, err
		}
		r.alerts, r.walked, before = alerts, from, walked
	case !walk.IsZero():
		r.walked = walk // nothing rings under a band alone
	case len(last.Judged) > 0:
		// What it goes on from may be what broke it: then it begins anew.
		old, err := contain.Get(func() (*detect.Evaluator, error) { return detect.Load(v.Config, rule, last.Judged) })
		if err == nil {
			replay.Settle(old, exclusions, now.Unix())
			old.Disown(replay.Faults(exclusions, now.Unix()))
			before = old
			// What came since is judged, not only learned.
			if n := sort.Search(len(history), func(i int) bool { return history[i].At >= last.JudgedTo.Unix() }); n >= len(learned) {
				history, told = history[:n], old
			}
		}
	}
	e, err := detect.Refit(before, v.Config, rule, learned, mask)
	if err == nil && e == before && walk.IsZero() {
		// What it became is too short yet. It goes on as it is.
		r.stays, err = v.goOn(e, series, last, history)
		return r, err
	}
	if errors.As(err, &short) {
		r.short = &short
		return r, nil
	}
	if err != nil {
		return r, fmt.Errorf("fit %s of %s: %w", series.Segment, v.Monitor.Name, err)
	}
	fit, err := e.MarshalBinary()
	if err != nil {
		return r, err
	}
	for _, s := range history[len(learned):] {
		reading := e.Step(s, replay.MarkOf(exclusions, s.At, v.Grid.End(s.At)))
		r.alerts = replay.Note(r.alerts, e, reading.Change)
	}
	if told != nil { // a new fit neither opens nor closes anything by itself
		e.Carry(told)
	}
	_, r.open = e.OpenAlert()
	judged, err := e.MarshalBinary()
	if err != nil {
		return r, err
	}
	trained := v.Grid.Next(time.Unix(learned[len(learned)-1].At, 0))
	r.baseline = record.Baseline{
		MonitorID: v.Monitor.ID, SeriesID: series.ID, FittedAt: now, RefitAt: v.refitAt(e),
		TrainedFrom: timeline.Later(r.first, time.Unix(e.First, 0).UTC()), TrainedTo: trained,
		Excluded: v.Excluded(series.ID, r.first, trained), Fitted: fit, Judged: judged,
		JudgedTo: v.Grid.Next(time.Unix(history[len(history)-1].At, 0)),
	}
	return r, nil
}

// keepFit writes a fit, and the alerts of what was walked through. A refit that
// walked through nothing raises nothing: what it steps through again was judged
// before.
func (w *Watcher) keepFit(ctx context.Context, tx pgx.Tx, v *Subject, r fitted, news time.Time, o Order) error {
	switch {
	case r.broke != nil:
		return w.failed(ctx, tx, v, r.series, r.broke)
	case r.short != nil:
		return w.waits(ctx, tx, v, r)
	case r.stays != nil:
		return store.PutJudged(ctx, tx, v.Monitor.ID, []store.Judged{*r.stays})
	case r.baseline.Fitted == nil:
		return nil
	}
	if err := store.ClearSeriesState(ctx, tx, v.Monitor.ID, r.series.ID); err != nil {
		return err
	}
	switch {
	case r.walked.IsZero():
	case o.History:
		if err := w.keepHistory(ctx, tx, v, r, news); err != nil {
			return err
		}
	default:
		rows := make([]record.Alert, 0, len(r.alerts))
		for _, a := range r.alerts {
			row := v.AlertOf(r.series, a)
			row.FromHistory = row.RaisedAt.Before(news)
			rows = append(rows, row)
		}
		if err := w.keepAlerts(ctx, tx, v, r.series, rows, again{r.walked, true}); err != nil {
			return err
		}
	}
	return store.PutBaseline(ctx, tx, r.baseline)
}

// keepHistory writes the alerts that a first fit found in the past.
func (w *Watcher) keepHistory(ctx context.Context, tx pgx.Tx, v *Subject, r fitted, until time.Time) error {
	for i, a := range r.alerts {
		row := v.AlertOf(r.series, a)
		row.FromHistory = row.RaisedAt.Before(until)
		if a.Closed == 0 && (i < len(r.alerts)-1 || !r.open) {
			row.EndedAt, row.ClosedAt = unix(a.Raised), unix(a.Raised)
		}
		if _, err := store.PutAlert(ctx, tx, row); err != nil {
			return err
		}
	}
	return nil
}

func unix(seconds int64) *time.Time {
	if seconds == 0 {
		return nil
	}
	t := time.Unix(seconds, 0).UTC()
	return &t
}
