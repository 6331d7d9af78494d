package compare

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

const (
	referenceDays = 28 // of a reference that nobody named
	readAtOnce    = 14 // days that are counted in one pass over a table
	settle        = time.Hour
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
	done      int
	steps     int
}

// Run counts the days that are new, judges the periods that are over, and keeps
// their figures and series. All reads and judges everything anew.
func (c *Comparer) Run(ctx context.Context, name string, all bool, progress func(done, total int)) error {
	v, err := c.store.Comparison(ctx, name)
	if err != nil {
		return err
	}
	if all {
		if err := c.store.InTx(ctx, func(tx pgx.Tx) error { return store.ForgetComputed(ctx, tx, v.ID) }); err != nil {
			return err
		}
		if v, err = c.store.Comparison(ctx, name); err != nil {
			return err
		}
	}
	now := c.now().UTC()
	v.RunAt = &now
	r := run{Comparer: c, v: v, progress: progress}
	failed := r.run(ctx)
	next := r.next(now)
	r.v.State, r.v.Message, r.v.NextAt = "ready", "", &next
	if failed != nil {
		again := now.Add(time.Hour)
		r.v.State, r.v.Message, r.v.NextAt = "failed", failed.Error(), &again
		if errors.Is(failed, errNoRows) {
			r.v.State = "new"
		}
	}
	if err := c.store.Ran(context.WithoutCancel(ctx), r.v); err != nil {
		return err
	}
	if errors.Is(failed, errNoRows) {
		return nil
	}
	return failed
}

// next is when the run after this one is due: once a day has settled.
func (r *run) next(now time.Time) time.Time {
	zone := r.zone
	if zone == nil {
		zone = time.UTC
	}
	y, m, d := now.In(zone).Date()
	return time.Date(y, m, d+1, 0, 0, 0, 0, zone).Add(settle).UTC()
}

func (r *run) run(ctx context.Context) (err error) {
	if r.period, r.reference, r.zone, err = r.inputs(ctx, r.v); err != nil {
		return err
	}
	r.w = Wants(r.v.Settings, r.v.Features, r.zone)
	r.until = PeriodOf(r.v.Settings.Period, r.now().Add(-settle).Unix(), r.zone).From
	r.tell(0, 10)
	fresh := len(r.v.Layouts) == 0
	if fresh {
		if err := r.begin(ctx); err != nil {
			return err
		}
	}
	for _, l := range r.v.Layouts {
		if !l.Kind.Numeric() {
			l.Ready()
		}
	}
	from, days, err := r.count(ctx, fresh)
	if err != nil {
		return err
	}
	before, err := r.referenceDays(ctx, days)
	if err != nil {
		return err
	}
	return r.judgeAll(ctx, from, days, before)
}

func (r *run) tell(done, total int) {
	r.done, r.steps = done, total
	r.progress(done, total)
}

// begin finds the reference and makes the layouts of the features.
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
		days := referenceDays
		if s.ReferenceDays > 0 {
			days = s.ReferenceDays
		}
		from := PeriodOf("day", first, r.zone).From
		span = timeline.Span{From: from, To: PeriodOf("day", from+int64(days)*86400+43200, r.zone).From}
		// A fixed reference ends where a period begins, so that none is cut.
		if p := PeriodOf(s.Period, span.To, r.zone); s.ReferenceDays == 0 && p.From != span.To {
			span.To = p.To
		}
	}
	if r.v.Layouts, err = r.reference.Layouts(ctx, r.w, span); err != nil {
		return err
	}
	r.v.Referred = record.Referred{From: time.Unix(max(span.From, -6e10), 0).UTC(), To: time.Unix(min(span.To, 2.5e11), 0).UTC(), Limits: map[int]float64{}}
	usable := false
	for _, l := range r.v.Layouts {
		usable = usable || l.Usable()
	}
	if !usable {
		r.v.Layouts = nil
		return record.Invalid{Field: "reference", Given: r.told(), Allowed: "a stretch with rows in it: no column has a value there"}
	}
	return r.store.InTx(ctx, func(tx pgx.Tx) error { return store.KeepLayouts(ctx, tx, r.v) })
}

func (r *run) told() string {
	if r.v.Referred.From.Year() < 1000 {
		return "all rows"
	}
	return timeOf(r.v.Referred.From, r.v.Referred.To, r.zone)
}

// count counts the days that are new and keeps them, and gives all there are,
// and from when on they were read. The period before the last is read again: rows
// come late.
func (r *run) count(ctx context.Context, fresh bool) (from int64, days []Day, err error) {
	if r.v.ComputedTo != nil && !fresh {
		from = PeriodOf(r.v.Settings.Period, r.v.ComputedTo.Unix()-1, r.zone).From
	} else {
		first, there, err := r.period.First(ctx, r.w)
		if err != nil {
			return 0, nil, err
		}
		if !there {
			return 0, nil, errNoRows
		}
		from = PeriodOf("day", first, r.zone).From
	}
	total := max(1, int((r.until-from)/86400/readAtOnce)+1)
	for at, n := from, 0; at < r.until; n++ {
		to := min(r.until, PeriodOf("day", at+readAtOnce*86400+43200, r.zone).From)
		if _, files := r.period.(Files); files {
			to = r.until // each pass reads every file
		}
		read, err := r.period.Days(ctx, r.w, r.v.Layouts, timeline.Span{From: at, To: to})
		if err != nil {
			return from, nil, err
		}
		if err := r.keep(ctx, false, at, to, read); err != nil {
			return from, nil, err
		}
		at = to
		r.tell(n+1, 3*total)
	}
	kept, err := r.store.DriftDays(ctx, r.v.ID, false, time.Unix(0, 0), time.Unix(r.until, 0))
	if err != nil {
		return from, nil, err
	}
	days, err = unpacked(kept)
	return from, days, err
}

func (r *run) keep(ctx context.Context, reference bool, from, to int64, days []Day) error {
	list := make([]store.DriftDay, len(days))
	for i, d := range days {
		var err error
		if list[i], err = packed(d); err != nil {
			return err
		}
	}
	return r.store.InTx(ctx, func(tx pgx.Tx) error {
		return store.PutDriftDays(ctx, tx, r.v.ID, reference, time.Unix(from, 0).UTC(), time.Unix(to, 0).UTC(), list)
	})
}

// referenceDays are the days of a fixed reference: of the same rows, or counted
// once from others.
func (r *run) referenceDays(ctx context.Context, days []Day) ([]Day, error) {
	span := timeline.Span{From: r.v.Referred.From.Unix(), To: r.v.Referred.To.Unix()}
	if r.period == r.reference {
		return within(days, span), nil
	}
	kept, err := r.store.DriftDays(ctx, r.v.ID, true, r.v.Referred.From, r.v.Referred.To)
	if err != nil {
		return nil, err
	}
	if len(kept) > 0 {
		return unpacked(kept)
	}
	read, err := r.reference.Days(ctx, r.w, r.v.Layouts, span)
	if err != nil {
		return nil, err
	}
	return read, r.keep(ctx, true, span.From, span.To, read)
}

// judgeAll judges the periods that are over and were read anew.
func (r *run) judgeAll(ctx context.Context, from int64, days, before []Day) error {
	s := r.v.Settings
	var spans []timeline.Span
	for at := PeriodOf(s.Period, from, r.zone); at.To <= r.until; at = PeriodOf(s.Period, at.To, r.zone) {
		if len(within(days, at)) == 0 {
			continue
		}
		if s.ReferenceDays == 0 && r.period == r.reference && at.From < r.v.Referred.To.Unix() && at.To > r.v.Referred.From.Unix() {
			continue // it is the reference itself
		}
		if s.ReferenceDays > 0 && (len(days) == 0 || days[0].At > r.movingFrom(at)) {
			continue // the reference would reach back beyond the first row
		}
		spans = append(spans, at)
	}
	var fixed *reference
	var drawn level
	if s.ReferenceDays == 0 && len(spans) > 0 {
		one := refer(r.w, r.v.Layouts, before, s.Period)
		fixed = &one
		span := timeline.Span{From: r.v.Referred.From.Unix(), To: r.v.Referred.To.Unix()}
		var err error
		if drawn, err = drawReference(ctx, r.reference, r.w, r.v.Layouts, fixed, s, span, len(r.v.Referred.Limits) == 0); err != nil {
			return err
		}
		if r.v.Referred.Limits == nil {
			r.v.Referred.Limits = map[int]float64{}
		}
		drawn.known = &r.v.Referred
	}
	done, total := r.done, r.done+2*max(1, len(spans))
	for i, span := range spans {
		against, sample := fixed, &drawn
		if fixed == nil {
			moving := refer(r.w, r.v.Layouts, within(days, timeline.Span{From: r.movingFrom(span), To: span.From}), s.Period)
			of, err := drawReference(ctx, r.reference, r.w, r.v.Layouts, &moving, s, timeline.Span{From: r.movingFrom(span), To: span.From}, true)
			if err != nil {
				return err
			}
			against, sample = &moving, &of
		}
		if err := r.judgeOne(ctx, span, within(days, span), against, sample); err != nil {
			return err
		}
		r.tell(done+2*(i+1), total)
	}
	if err := r.series(ctx, from); err != nil {
		return err
	}
	if len(days) > 0 {
		to := time.Unix(r.until, 0).UTC()
		r.v.ComputedTo = &to
	}
	return nil
}

// movingFrom is where a moving reference of a period begins.
func (r *run) movingFrom(period timeline.Span) int64 {
	return PeriodOf("day", period.From-int64(r.v.Settings.ReferenceDays)*86400+43200, r.zone).From
}

func (r *run) judgeOne(ctx context.Context, span timeline.Span, days []Day, against *reference, sample *level) error {
	s := r.v.Settings
	found := judge(r.w, r.v.Layouts, against, days, s.Accept)
	drawn, err := r.period.Samples(ctx, r.w, r.v.Layouts, []timeline.Span{span}, []int{sampleRows(s)})
	if err != nil {
		return err
	}
	sampled(r.w, r.v.Layouts, &found, sample, drawn[0], sampleRows(s), s.Accept)
	if err := r.paired(ctx, span, &found); err != nil {
		return err
	}
	p := record.DriftPeriod{ComparisonID: r.v.ID, From: time.Unix(span.From, 0).UTC(), To: time.Unix(span.To, 0).UTC(), Found: found, ComputedAt: r.now().UTC()}
	return r.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.PutDriftPeriod(ctx, tx, p); err != nil {
			return err
		}
		return store.Notify(ctx, tx, "drift")
	})
}

// paired compares two versions on the rows that both scored, where a key tells
// which they are.
func (r *run) paired(ctx context.Context, span timeline.Span, found *record.DriftResult) error {
	in, table := r.period.(*Warehouse)
	if !table || r.v.Settings.Key == "" || len(found.Models) < 2 {
		return nil
	}
	for i := 1; i < len(found.Models); i++ {
		a, b := found.Models[i-1].Version, found.Models[i].Version
		p, err := in.paired(ctx, r.w, a, b, span)
		if err != nil {
			return err
		}
		if p.Rows >= drift.MinRows {
			found.Versions = append(found.Versions, record.VersionResult{A: a, B: b, Compared: p.Compare()})
		}
	}
	return nil
}
