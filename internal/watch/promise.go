package watch

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/arrival"
	"tinbell/core/timeline"
	"tinbell/internal/duty"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/words"
)

const (
	promiseMemory = 60 * 24 * time.Hour  // that the pace of a day is learned from
	promisePast   = 400 * 24 * time.Hour // that a new promise is looked at over
)

// Promise is an SLA as it can be judged.
type Promise struct {
	record.SLA
	rule       arrival.Promise
	deliveries []arrival.Delivered
}

// PromiseOf reads what an SLA says into a rule; days off come from calendars.
func PromiseOf(v record.SLA, events []record.PlannedEvent) (arrival.Promise, error) {
	zone, err := time.LoadLocation(v.Zone)
	if err != nil {
		return arrival.Promise{}, record.Invalid{Field: "zone", Given: v.Zone,
			Allowed: "a name of the tz database, such as America/Halifax"}
	}
	days, err := timeline.ParseDays(v.Days)
	if err != nil {
		return arrival.Promise{}, record.Invalid{Field: "days", Given: v.Days, Allowed: err.Error()}
	}
	p := arrival.Promise{AtLeast: v.AtLeast, Days: days, From: v.FromMinute, To: v.ToMinute, Zone: zone}
	p.Off = func(day time.Time) bool {
		begin := day.Add(time.Duration(v.FromMinute) * time.Minute)
		return slices.ContainsFunc(events, func(e record.PlannedEvent) bool {
			if len(v.Calendars) > 0 && !slices.Contains(v.Calendars, e.Calendar) || !e.Holiday && e.Effect != record.EffectMute {
				return false
			}
			return begin.Before(e.EndedAt) && !begin.Before(e.StartedAt)
		})
	}
	if err := p.Check(); err != nil {
		return p, record.Invalid{Field: "sla", Given: v.Name, Allowed: err.Error()}
	}
	return p, nil
}

// Promise reads an SLA with the deliveries of a stretch up to now.
func (w *Watcher) Promise(ctx context.Context, v record.SLA, memory time.Duration) (Promise, error) {
	events, err := w.store.PlannedEvents(ctx, v.Dataset)
	if err != nil {
		return Promise{}, err
	}
	p := Promise{SLA: v}
	if p.rule, err = PromiseOf(v, events); err != nil {
		return p, err
	}
	now := w.now()
	list, err := w.store.Delivered(ctx, v, now.Add(-memory), now.Add(time.Second))
	for _, d := range list {
		p.deliveries = append(p.deliveries, arrival.Delivered{At: d.At.Unix(), Amount: d.Amount})
	}
	return p, err
}

// Pace is how the promise stands.
func (p Promise) Pace(now time.Time) arrival.Pace {
	return p.rule.Now(now.Unix(), time.Duration(p.LeadSeconds)*time.Second, p.deliveries)
}

// Next is the window that is open or comes next.
func (p Promise) Next(now time.Time) (from, to time.Time, ok bool) {
	a, b, ok := p.rule.Next(now.Unix())
	return time.Unix(a, 0).UTC(), time.Unix(b, 0).UTC(), ok
}

// late is when a missed window's amount had come all the same; zero if it has
// not.
func (p Promise) late(pace arrival.Pace) time.Time {
	have := 0.0
	for _, d := range p.deliveries {
		if d.At >= pace.From {
			if have += d.Amount; have >= p.AtLeast {
				return time.Unix(d.At, 0).UTC()
			}
		}
	}
	return time.Time{}
}

// Promises judges all promises: opens and closes the alerts about those that are
// behind or missed, and keeps how windows ended.
func (w *Watcher) Promises(ctx context.Context) error {
	list, err := w.store.SLAs(ctx)
	if err != nil {
		return err
	}
	named := func(v record.SLA) string { return "SLA " + v.Name }
	return duty.Each(ctx, list, named, func(v record.SLA) error {
		if v.Paused {
			return nil
		}
		p, err := w.Promise(ctx, v, promiseMemory)
		if err != nil {
			return err
		}
		return w.promise(ctx, p)
	})
}

func (w *Watcher) promise(ctx context.Context, p Promise) error {
	now := w.now().UTC()
	pace := p.Pace(now)
	about := store.About{Dataset: p.DatasetID, SLA: p.ID}
	return w.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.PutSLADays(ctx, tx, p.ID, p.days(now.AddDate(0, 0, -3), now)); err != nil {
			return err
		}
		switch late := p.late(pace); {
		case pace.Standing == arrival.Behind, pace.Standing == arrival.Missed && late.IsZero() && now.Unix()-pace.To < 7*86400:
			a := record.Alert{Cause: record.CausePromise, Direction: "low", Severity: "warning",
				Since: time.Unix(pace.From, 0).UTC(), RaisedAt: now.Truncate(time.Second), Sentence: p.Sentence(pace)}
			if pace.Standing == arrival.Missed {
				a.Severity = "critical"
			}
			return store.Trouble(ctx, tx, about, a)
		case pace.Standing == arrival.Met:
			return store.Mended(ctx, tx, about, record.CausePromise, time.Unix(pace.MetAt, 0).UTC())
		case pace.Standing == arrival.Missed && !late.IsZero():
			return store.Mended(ctx, tx, about, record.CausePromise, late)
		}
		return store.Mended(ctx, tx, about, record.CausePromise, now)
	})
}

// days are the windows of a stretch as they ended.
func (p Promise) days(from, to time.Time) []record.SLADay {
	var list []record.SLADay
	for _, v := range p.rule.Past(from.Unix(), to.Unix(), p.deliveries) {
		y, m, d := v.Day.Date()
		one := record.SLADay{Day: time.Date(y, m, d, 0, 0, 0, 0, time.UTC), Standing: string(v.Standing), Have: v.Have,
			AtLeast: p.AtLeast, DueAt: time.Unix(v.To, 0).UTC()}
		if v.MetAt != 0 {
			at := time.Unix(v.MetAt, 0).UTC()
			one.MetAt = &at
		}
		list = append(list, one)
	}
	return list
}

// Amount says how much is promised: 5 files, 1 load.
func Amount(atLeast float64, counts string) string {
	if atLeast == 1 {
		counts = strings.TrimSuffix(counts, "s")
	}
	return words.Number(atLeast) + " " + counts
}

// Sentence says in one line how a promise stands.
func (p Promise) Sentence(pace arrival.Pace) string {
	have := words.Number(pace.Have) + " of " + Amount(p.AtLeast, p.Counts)
	by := time.Unix(pace.To, 0).In(p.rule.Zone).Format("15:04")
	switch pace.Standing {
	case arrival.Behind:
		return fmt.Sprintf("%s is behind: %s so far, due by %s; it makes it with a chance of %s", p.Name, have, by,
			words.Percent(pace.Probability))
	case arrival.Missed:
		return fmt.Sprintf("%s is missed: %s had come by %s", p.Name, have, by)
	case arrival.Met:
		return fmt.Sprintf("%s is met: %s by %s", p.Name, have, time.Unix(pace.MetAt, 0).In(p.rule.Zone).Format("15:04"))
	}
	return fmt.Sprintf("%s is on pace: %s, due by %s", p.Name, have, by)
}

// SetSLA adds a promise or replaces the one of that name, and looks at how it
// would have been kept in the past.
func (w *Watcher) SetSLA(ctx context.Context, v record.SLA) (record.SLA, error) {
	d, err := w.store.Dataset(ctx, v.Dataset)
	if err != nil {
		return v, err
	}
	if err := CheckSLA(&v, d); err != nil {
		return v, err
	}
	if err := w.store.InTx(ctx, func(tx pgx.Tx) error { return w.PutSLA(ctx, tx, v) }); err != nil {
		return v, err
	}
	return w.store.SLA(ctx, v.Name)
}

// PutSLA keeps a promise that was checked, in the caller's transaction.
func (w *Watcher) PutSLA(ctx context.Context, tx pgx.Tx, v record.SLA) error {
	var err error
	if v.ID, v.DatasetID, err = store.SetSLA(ctx, tx, v); err != nil {
		return err
	}
	p, err := w.in(tx).Promise(ctx, v, promisePast)
	if err != nil || len(p.deliveries) == 0 {
		return err
	}
	if err := store.ForgetSLADays(ctx, tx, v.ID); err != nil {
		return err
	}
	return store.PutSLADays(ctx, tx, v.ID, p.days(time.Unix(p.deliveries[0].At, 0), w.now()))
}

// CheckSLA fills in what is usual and refuses what cannot be judged of a dataset.
func CheckSLA(v *record.SLA, d record.Dataset) error {
	if v.Zone == "" {
		v.Zone = d.Zone
	}
	if v.Days == "" {
		v.Days = "mon-sun"
	}
	if v.LeadSeconds == 0 {
		v.LeadSeconds = 3600
	}
	switch {
	case v.Name == "":
		return record.Invalid{Field: "name", Given: "", Allowed: "a name that people know the promise by"}
	case v.Counts != "rows" && v.Counts != "loads" && v.Counts != "files":
		return record.Invalid{Field: "counts", Given: v.Counts, Allowed: "rows, loads or files"}
	case v.Counts == "files" && d.Pattern == "":
		return record.Invalid{Field: "counts", Given: "files of " + d.Name, Allowed: "rows or loads: the dataset is no folder of files"}
	case v.Counts == "loads" && d.Pattern != "":
		return record.Invalid{Field: "counts", Given: "loads of " + d.Name, Allowed: "rows or files: the dataset is a folder of files"}
	case v.Segment != "" && d.Pattern == "":
		return record.Invalid{Field: "segment", Given: v.Segment, Allowed: "nothing: only files are told apart by their paths"}
	case v.LeadSeconds < 0:
		return record.Invalid{Field: "lead", Given: fmt.Sprint(v.LeadSeconds), Allowed: "a time before the window's end"}
	}
	_, err := PromiseOf(*v, nil)
	return err
}
