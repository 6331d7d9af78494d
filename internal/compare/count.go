package compare

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/timeline"
	"tinbell/internal/store"
)

// count counts the days that are new and keeps them, and gives from when on
// periods are to be judged. The period before the last is read again: rows come
// late.
func (r *run) count(ctx context.Context) (from int64, err error) {
	if r.v.ComputedTo != nil {
		from = PeriodOf(r.v.Settings.Period, r.v.ComputedTo.Unix()-1, r.zone).From
	} else {
		first, there, err := r.period.First(ctx, r.w)
		if err != nil {
			return 0, err
		}
		if !there {
			return 0, errNoRows
		}
		from = PeriodOf("day", first, r.zone).From
	}
	at := from
	if r.v.CountedTo != nil {
		at = max(at, r.v.CountedTo.Unix()) // a run that was cut off came so far
	}
	_, files := r.period.(*Files)
	for step := readAtOnce; at < r.until; {
		to := min(r.until, PeriodOf("day", at+int64(step)*86400+43200, r.zone).From)
		if files {
			to = r.until // each pass reads every file
		}
		read, err := r.period.Days(ctx, r.w, r.v.Layouts, timeline.Span{From: at, To: to})
		if slow := (tooSlow{}); errors.As(err, &slow) && step > 1 {
			step /= 2
			continue
		}
		if err != nil {
			return from, err
		}
		if err := r.keep(ctx, false, at, to, read); err != nil {
			return from, err
		}
		at = to
		r.progress(int(at-from)/86400, 2*int(r.until-from)/86400)
	}
	return from, nil
}

// counted are the days from which on periods are judged, and those of the
// reference before them.
func (r *run) counted(ctx context.Context, from int64) ([]Day, error) {
	if r.v.Settings.ReferenceDays > 0 {
		from = r.movingFrom(PeriodOf(r.v.Settings.Period, from, r.zone))
	} else {
		from = PeriodOf(r.v.Settings.Period, from, r.zone).From
	}
	kept, err := r.store.DriftDays(ctx, r.v.ID, false, time.Unix(from, 0), time.Unix(r.until, 0))
	if err != nil {
		return nil, err
	}
	return unpacked(kept)
}

// left tells whether the rows of a moving reference have left the range that
// their layouts were made for.
func (r *run) left(days []Day) bool {
	last := within(days, timeline.Span{From: r.movingFrom(timeline.Span{From: r.until}), To: r.until})
	for i, l := range r.v.Layouts {
		sum := counted(l, last, i)
		if beyond := sum.Bins[0] + sum.Bins[len(sum.Bins)-1]; l.Kind.Numeric() && l.Usable() &&
			float64(beyond) > stale*float64(sum.Values()) {
			return true
		}
	}
	return false
}

// anew drops what was computed and has it computed once more.
func (r *run) anew(ctx context.Context) error {
	err := r.store.InTx(ctx, func(tx pgx.Tx) error { return store.ForgetComputed(ctx, tx, r.v.ID) })
	if err != nil {
		return err
	}
	return store.ErrReplaced
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
		return store.PutDriftDays(ctx, tx, r.v, reference, instant(from), instant(to), list)
	})
}

// referenceDays are the days of a fixed reference: of the same rows, or counted
// once from others.
func (r *run) referenceDays(ctx context.Context, days []Day) ([]Day, error) {
	if r.v.Settings.ReferenceDays > 0 {
		return nil, nil
	}
	elsewhere := r.period != r.reference
	kept, err := r.store.DriftDays(ctx, r.v.ID, elsewhere, r.v.Referred.From, r.v.Referred.To)
	if err != nil {
		return nil, err
	}
	if len(kept) > 0 || !elsewhere {
		return unpacked(kept)
	}
	span := timeline.Span{From: r.v.Referred.From.Unix(), To: r.v.Referred.To.Unix()}
	read, err := r.reference.Days(ctx, r.w, r.v.Layouts, span)
	if err != nil {
		return nil, err
	}
	return read, r.keep(ctx, true, span.From, span.To, read)
}
