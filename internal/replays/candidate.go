package replays

import (
	"cmp"
	"context"
	"slices"
	"sort"
	"time"

	"tinbell/core/filter"
	"tinbell/core/score"
	"tinbell/core/tune"
	"tinbell/internal/lessons"
	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/watch"
)

// candidate is a monitor with what each option would have told.
type candidate struct {
	monitor record.Monitor
	subject *watch.Subject
	options []option
	told    [][]BacktestAlert
	known   []verdict // of today's alerts
	search  tune.Candidate
}

// verdict is what is known of a replayed alert.
type verdict struct {
	tune.Known
	alert    int64 // that was labelled; 0 if an incident says it
	sentence string
}

// tryOptions replays every option of a monitor and finds out what is known of
// the alerts that today's settings tell.
func (b *Bench) tryOptions(ctx context.Context, a *lessons.Archive, m record.Monitor, incidents []record.Incident, from, to time.Time,
	next func() error) (*candidate, error) {
	subject, err := watch.Load(ctx, b.store, m)
	if err != nil {
		return nil, err
	}
	subject = subject.Answered()
	c := &candidate{monitor: m, subject: subject, options: optionsFor(m.Settings)}
	if settled := subject.SettledTo(b.now()); to.After(settled) {
		to = settled
	}
	start := from
	if oldest, err := b.oldest(ctx, subject); err != nil {
		return nil, err
	} else if warm := oldest.Add(subject.WarmUp()); warm.After(start) {
		start = warm
	}
	for _, o := range c.options {
		alerts, _, err := b.replay(ctx, subject.Try(o.settings), start, to, nil)
		if err != nil {
			return nil, err
		}
		sort.SliceStable(alerts, func(i, j int) bool { return alerts[i].RaisedAt.Before(alerts[j].RaisedAt) })
		c.told = append(c.told, alerts)
		if err := next(); err != nil {
			return nil, err
		}
	}
	stored, err := b.store.Alerts(ctx, store.AlertFilter{Monitor: m.Name})
	if err != nil {
		return nil, err
	}
	var own []record.Incident
	for _, i := range incidents {
		if i.On(m.Dataset) && (i.Measure == "" || i.Measure == subject.Metric.Measure) {
			own = append(own, i)
		}
	}
	for k := range c.told {
		c.match(k, own, to)
	}
	for i := range c.told[0] {
		alert := &c.told[0][i]
		v := verdict{Known: tune.Known{Incident: alert.Incident, Skip: alert.Outcome == score.Expected}}
		v.Chance, _ = a.Model.Chance(c.caseOf(i), alert.SeriesID, m.ID)
		if alert.Incident != "" {
			v.Answered, v.Fault = true, true
		}
		for _, s := range stored {
			if s.SeriesID == alert.SeriesID && s.Verdict != "" && overlap(alert, s, to) {
				v.Skip = s.Verdict == record.Planned
				v.Answered, v.Fault = true, s.Verdict == record.Fault
				v.alert, v.sentence = s.ID, s.Sentence
			}
		}
		c.known = append(c.known, v)
	}
	c.ready()
	return c, nil
}

// ready lays out what is searched.
func (c *candidate) ready() {
	c.search = tune.Candidate{}
	for _, alerts := range c.told {
		list := make([]tune.Told, len(alerts))
		for i, a := range alerts {
			list[i] = tune.Told{Series: a.SeriesID, Since: a.Since.Unix(), Raised: a.RaisedAt.Unix(), Incident: a.Incident,
				Expected: a.Outcome == score.Expected}
			if a.ClosedAt != nil {
				list[i].Closed = a.ClosedAt.Unix()
			}
		}
		c.search.Told = append(c.search.Told, list)
	}
	for _, v := range c.known {
		c.search.Known = append(c.search.Known, v.Known)
	}
}

func (b *Bench) oldest(ctx context.Context, v *watch.Subject) (time.Time, error) {
	oldest, err := b.store.OldestTraining(ctx, v.Monitor.ID)
	if oldest.IsZero() {
		oldest = b.now()
	}
	return oldest, err
}

// match says of an option's alerts which incident each belongs to.
func (c *candidate) match(k int, incidents []record.Incident, to time.Time) {
	r := Backtest{To: to}
	m := r.match(c.told[k], incidents)
	for i := range c.told[k] {
		c.told[k][i].Outcome = m.Outcomes[i]
		if at := m.Incident[i]; at >= 0 {
			c.told[k][i].Incident = incidents[at].Reference
		}
	}
}

// caseOf is a replayed alert of today's settings as the filter sees it.
func (c *candidate) caseOf(i int) filter.Case {
	alert := &c.told[0][i]
	a := record.Alert{Cause: alert.Rule, Direction: alert.Direction, Looks: alert.looks}
	for k := i - 1; k >= 0; k-- {
		other := &c.told[0][k]
		apart := alert.RaisedAt.Sub(other.RaisedAt).Seconds()
		if apart > filter.RecentSpan {
			break
		}
		if other.SeriesID == alert.SeriesID {
			a.Recent++
		} else if apart <= filter.CompanySpan {
			a.Company++
		}
	}
	return a.Case(c.subject.Metric.Kind, c.options[0].settings, len(c.subject.Series))
}

func overlap(a *BacktestAlert, s record.Alert, now time.Time) bool {
	end := now
	if s.EndedAt != nil {
		end = *s.EndedAt
	}
	return a.Since.Before(end.Add(time.Second)) && s.Since.Before(a.until(now).Add(time.Second))
}

// stops lists the faults that people know of and that each option better than the chosen
// one would lose, the options that spare most first.
func (c *candidate) stops(chosen int, outlooks []tune.Outlook, from, to time.Time) []Stopped {
	list := []Stopped{}
	for k, o := range outlooks {
		if k == chosen || o.Spared < outlooks[chosen].Spared+1 {
			continue
		}
		s := Stopped{Changes: c.options[k].changes, Spared: o.Spared, Lost: max(o.Lost, 0), Faults: []LostFault{}}
		for _, i := range c.search.Missing(k, from.Unix(), to.Unix()) {
			if v := c.known[i]; v.Answered && v.Fault {
				a := &c.told[0][i]
				s.Faults = append(s.Faults, LostFault{v.alert, v.Incident, a.Segment, a.Since, v.sentence})
			}
		}
		if len(s.Faults) > 0 {
			list = append(list, s)
		}
	}
	slices.SortStableFunc(list, func(a, b Stopped) int { return cmp.Compare(b.Spared, a.Spared) })
	return list[:min(len(list), 5)]
}
