package compare

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

const (
	referenceDays = 28 // of a reference that nobody named
	readAtOnce    = 14 // days that are counted in one pass over a table, if it has the time
	judgedAtOnce  = 16 // periods whose rows are sampled together
	settle        = time.Hour
	stale         = 0.25 // of a feature's values beyond the layout's range: a moving reference left it
	lease         = time.Minute
)

// run is one run of a comparison.
type run struct {
	*Comparer
	v         record.Comparison
	period    Input
	reference Input
	zone      *time.Location
	w         Wanted
	until     int64 // periods that end by then are judged
	progress  func(done, total int)
}

// Order has a comparison run now, of the new periods or of all anew, and gives
// the task that tells how far it is; one that is under way serves the order too.
func (c *Comparer) Order(ctx context.Context, name string, all bool) (task int64, err error) {
	v, err := c.store.Comparison(ctx, name)
	if err != nil {
		return 0, err
	}
	err = c.store.InTx(ctx, func(tx pgx.Tx) error {
		if all {
			if err := store.ForgetComputed(ctx, tx, v.ID); err != nil {
				return err
			}
		}
		if task, err = store.OrderComparison(ctx, tx, v, c.now().UTC()); err != nil {
			return err
		}
		return c.queue.Put(ctx, tx, work.Drift{Name: name})
	})
	return task, err
}

// Due queues the comparisons that should run by now. Each is asked for again
// after a while, until a run has ended: that of a process that died is gone on
// with by another.
func (c *Comparer) Due(ctx context.Context) error {
	now := c.now().UTC()
	due, err := c.store.DueComparisons(ctx, now, now.Add(lease))
	if err != nil {
		return err
	}
	for _, name := range due {
		if err := c.queue.Add(ctx, work.Drift{Name: name}); err != nil {
			return err
		}
	}
	return nil
}

// Run counts the days that are new, judges the periods that are over, and keeps
// their figures and series; if it is due and nobody else is at it. What it has
// counted and judged stays when it is cut off, and the next run goes on from
// there.
func (c *Comparer) Run(ctx context.Context, name string) error {
	v, err := c.store.Comparison(ctx, name)
	if missing := (record.NotFound{}); errors.As(err, &missing) {
		return nil // removed meanwhile
	}
	if err != nil {
		return err
	}
	release, held, err := c.store.HoldComparison(ctx, v.ID)
	if err != nil || !held {
		return err
	}
	defer release()
	if v, err = c.store.Comparison(ctx, name); err != nil {
		return err
	}
	now := c.now().UTC()
	if v.NextAt == nil || v.NextAt.After(now.Add(lease)) {
		return nil // it has run since it was queued
	}
	r := run{Comparer: c, v: v, progress: func(done, total int) { c.store.ComparisonProgress(ctx, v.ID, done, total) }}
	failed := r.run(ctx)
	if ctx.Err() != nil || errors.Is(failed, store.ErrReplaced) {
		return ctx.Err() // gone on with by the next run, or begun anew
	}
	next := r.next(now)
	r.v.RunAt, r.v.State, r.v.Message, r.v.NextAt = &now, "ready", "", &next
	if failed != nil {
		again := now.Add(retryAfter)
		r.v.State, r.v.Message, r.v.NextAt = "failed", reason(failed), &again
	}
	if errors.Is(failed, errNoRows) {
		r.v.State, failed = "new", nil
	}
	if err := c.trouble(context.WithoutCancel(ctx), &r.v, now.Truncate(time.Second), failed); err != nil {
		return err
	}
	task, err := c.store.Ran(context.WithoutCancel(ctx), r.v)
	if errors.Is(err, store.ErrReplaced) {
		return nil
	}
	if err == nil && task != 0 {
		err = c.store.EndTask(context.WithoutCancel(ctx), task, failed)
	}
	return err
}

// reason is why a run failed; of a refusal by the warehouse, its words.
func reason(failed error) string {
	if refused := (record.Invalid{}); errors.As(failed, &refused) && refused.Field == refusedRows {
		return refused.Allowed
	}
	return failed.Error()
}

// retryAfter is when a comparison that failed is tried again.
const retryAfter = time.Hour

// trouble says when a comparison cannot be computed, tried twice: an alert about it, that
// closes with the first run that is done.
func (c *Comparer) trouble(ctx context.Context, v *record.Comparison, now time.Time, failed error) error {
	about := store.About{Dataset: v.DatasetID, Comparison: v.ID}
	if failed == nil {
		if v.FailingSince == nil {
			return nil
		}
		v.FailingSince = nil
		return c.store.InTx(ctx, func(tx pgx.Tx) error { return store.Mended(ctx, tx, about, record.CauseComparison, now) })
	}
	if v.FailingSince == nil {
		v.FailingSince = &now
	}
	if now.Sub(*v.FailingSince) < retryAfter/2 {
		return nil
	}
	return c.store.InTx(ctx, func(tx pgx.Tx) error {
		return store.Trouble(ctx, tx, about, record.Alert{Cause: record.CauseComparison, Direction: "both", Severity: "warning",
			Since: *v.FailingSince, RaisedAt: now,
			Sentence: fmt.Sprintf("%s cannot be compared with its reference (%s): %s", v.Dataset, v.Name, v.Message)})
	})
}

// next is when the run after this one is due: once a day has settled.
func (r *run) next(now time.Time) time.Time {
	zone := r.zone
	if zone == nil {
		zone = time.UTC
	}
	y, m, d := now.In(zone).Date()
	next := time.Date(y, m, d, 0, 0, 0, 0, zone).Add(settle)
	if !next.After(now) {
		next = time.Date(y, m, d+1, 0, 0, 0, 0, zone).Add(settle)
	}
	return next.UTC()
}

func (r *run) run(ctx context.Context) (err error) {
	if r.period, r.reference, r.zone, err = r.inputs(ctx, r.v, r.Stored); err != nil {
		return err
	}
	r.w = Wants(r.v.Settings, r.v.Features, r.zone)
	r.until = PeriodOf(r.v.Settings.Period, r.now().Add(-settle).Unix(), r.zone).From
	r.progress(0, 10)
	if len(r.v.Layouts) == 0 {
		if err := r.begin(ctx); err != nil {
			return err
		}
	}
	for _, l := range r.v.Layouts {
		l.Ready()
	}
	from, err := r.count(ctx)
	if err != nil {
		return err
	}
	days, err := r.counted(ctx, from)
	if err != nil {
		return err
	}
	before, err := r.referenceDays(ctx, days)
	if err != nil {
		return err
	}
	if r.v.Settings.ReferenceDays > 0 && r.left(days) {
		return r.anew(ctx)
	}
	return r.judgeAll(ctx, from, days, before)
}

// begin finds the reference and makes the layouts of the features. Those of a
// moving reference are made from all rows there are.
func (r *run) begin(ctx context.Context) error {
	s := r.v.Settings
	span, named, err := namedSpan(s, r.zone)
	if err != nil {
		return err
	}
	if !named && r.period == r.reference {
		first, there, err := r.reference.First(ctx, r.w)
		if err != nil {
			return err
		}
		if !there {
			return errNoRows
		}
		span = timeline.Span{From: PeriodOf("day", first, r.zone).From, To: r.until}
		if s.ReferenceDays == 0 {
			// It ends where a period begins, so that none is cut.
			span.To = PeriodOf("day", span.From+referenceDays*86400+43200, r.zone).From
			if p := PeriodOf(s.Period, span.To, r.zone); p.From != span.To {
				span.To = p.To
			}
		}
	}
	if r.v.Layouts, err = r.reference.Layouts(ctx, r.w, span); err != nil {
		return err
	}
	r.v.Referred = record.Referred{From: instant(span.From), To: instant(span.To), Limits: map[int]float64{}}
	if !slices.ContainsFunc(r.v.Layouts, (*drift.Layout).Usable) {
		r.v.Layouts = nil
		return record.Invalid{Field: "reference", Given: r.told(), Allowed: "a stretch with rows in it: no column has a value there"}
	}
	return r.store.InTx(ctx, func(tx pgx.Tx) error { return store.KeepLayouts(ctx, tx, r.v) })
}

// instant is a time that can be stored, also of a span without ends.
func instant(unix int64) time.Time { return time.Unix(min(max(unix, -6e10), 2.5e11), 0).UTC() }

func (r *run) told() string {
	if r.v.Referred.From.Year() < 1000 {
		return "all rows"
	}
	return timeOf(r.v.Referred.From, r.v.Referred.To, r.zone)
}

// judgeAll judges the periods that are over and were read anew.
func (r *run) judgeAll(ctx context.Context, from int64, days, before []Day) error {
	s := r.v.Settings
	var spans []timeline.Span
	for at := PeriodOf(s.Period, from, r.zone); at.To <= r.until; at = PeriodOf(s.Period, at.To, r.zone) {
		if len(within(days, at)) == 0 {
			continue
		}
		if s.ReferenceDays == 0 && r.period == r.reference && overlap(at, timeline.Span{From: r.v.Referred.From.Unix(),
			To: r.v.Referred.To.Unix()}) {
			continue // it is the reference itself
		}
		if s.ReferenceDays > 0 && days[0].At > r.movingFrom(at) {
			continue // the reference would reach back beyond the first row
		}
		spans = append(spans, at)
	}
	var fixed reference
	var drawn level
	if s.ReferenceDays == 0 && len(spans) > 0 {
		fixed = refer(r.w, r.v.Layouts, before, s)
		span := timeline.Span{From: r.v.Referred.From.Unix(), To: r.v.Referred.To.Unix()}
		var err error
		if drawn, err = drawReference(ctx, r.reference, r.w, r.v.Layouts, &fixed, s, span, len(r.v.Referred.Limits) == 0); err != nil {
			return err
		}
		if r.v.Referred.Limits == nil {
			r.v.Referred.Limits = map[int]float64{}
		}
		drawn.known = &r.v.Referred
	}
	done := 0
	for batch := range slices.Chunk(spans, judgedAtOnce) {
		rows := slices.Repeat([]int{sampleRows(s)}, len(batch))
		samples, err := r.period.Samples(ctx, r.w, r.v.Layouts, batch, rows)
		if err != nil {
			return err
		}
		var found []record.DriftPeriod
		for i, span := range batch {
			against, sample := fixed, drawn
			if s.ReferenceDays > 0 {
				moving := timeline.Span{From: r.movingFrom(span), To: span.From}
				against = refer(r.w, r.v.Layouts, within(days, moving), s)
				if sample, err = drawReference(ctx, r.reference, r.w, r.v.Layouts, &against, s, moving, true); err != nil {
					return err
				}
			}
			one, err := r.judgeOne(ctx, span, within(days, span), &against, &sample, samples[i])
			if err != nil {
				return err
			}
			found = append(found, one)
			done++
			r.progress(len(spans)+done, 2*len(spans))
		}
		if err := r.found(ctx, found); err != nil {
			return err
		}
	}
	return r.found(ctx, nil)
}

// found keeps what some periods came to, with their series; of none, that all
// there are have been judged.
func (r *run) found(ctx context.Context, periods []record.DriftPeriod) error {
	to := instant(r.until)
	if n := len(periods); n > 0 {
		to = periods[n-1].To
		if err := r.store.InTx(ctx, func(tx pgx.Tx) error { return store.PutDriftPeriods(ctx, tx, r.v, periods) }); err != nil {
			return err
		}
		if err := r.series(ctx, periods[0].From.Unix()); err != nil {
			return err
		}
	}
	r.v.ComputedTo = &to
	return r.store.InTx(ctx, func(tx pgx.Tx) error { return store.ComputedTo(ctx, tx, r.v, to) })
}

// movingFrom is where a moving reference of a period begins.
func (r *run) movingFrom(period timeline.Span) int64 {
	return PeriodOf("day", period.From-int64(r.v.Settings.ReferenceDays)*86400+43200, r.zone).From
}

func (r *run) judgeOne(ctx context.Context, span timeline.Span, days []Day, against *reference, sample *level,
	drawn Drawn) (record.DriftPeriod, error) {
	s := r.v.Settings
	found := judge(r.w, r.v.Layouts, against, days, s.Accept)
	sampled(r.w, r.v.Layouts, &found, sample, drawn, sampleRows(s), s.Accept)
	conclude(&found, r.v.Features, s)
	err := paired(ctx, r.period, r.w, span, &found)
	return record.DriftPeriod{ComparisonID: r.v.ID, From: instant(span.From), To: instant(span.To), Found: found,
		ComputedAt: r.now().UTC()}, err
}

// paired compares versions of a model on the rows that two of them scored, where
// a key tells which they are.
func paired(ctx context.Context, in Input, w Wanted, span timeline.Span, found *record.DriftResult) error {
	if w.Model.Key == "" || len(found.Models) < 2 {
		return nil
	}
	for i := 1; i < len(found.Models); i++ {
		a, b := found.Models[i-1].Version, found.Models[i].Version
		p, err := in.Paired(ctx, w, a, b, span)
		if err != nil {
			return err
		}
		if p.Rows >= drift.MinRows {
			found.Versions = append(found.Versions, record.VersionResult{A: a, B: b, Compared: p.Compare()})
		}
	}
	return nil
}
