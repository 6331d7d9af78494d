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
}

// verdict is what is known of a replayed alert.
type verdict struct {
	gone     tune.Gone
	incident string
	skip     bool  // planned
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
		v := verdict{incident: alert.Incident, skip: alert.Outcome == score.Expected}
		v.gone.Chance, _ = a.Model.Chance(c.caseOf(i), alert.SeriesID, m.ID)
		if alert.Incident != "" {
			v.gone.Answered, v.gone.Fault = true, true
		}
		for _, s := range stored {
			if s.SeriesID == alert.SeriesID && s.Verdict != "" && overlap(alert, s, to) {
				v.skip = s.Verdict == record.Planned
				v.gone.Answered, v.gone.Fault = true, s.Verdict == record.Fault
				v.alert, v.sentence = s.ID, s.Sentence
			}
		}
		c.known = append(c.known, v)
	}
	return c, nil
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

// missing numbers today's alerts in [from, to) that an option would not have told.
func (c *candidate) missing(k int, from, to time.Time) (list []int) {
	found := map[string]bool{}
	for i := range c.told[k] {
		found[c.told[k][i].Incident] = true
	}
	for i := range c.told[0] {
		a, v := &c.told[0][i], c.known[i]
		if a.RaisedAt.Before(from) || !a.RaisedAt.Before(to) || v.skip || v.incident != "" && found[v.incident] || c.tells(k, a, to) {
			continue
		}
		list = append(list, i)
	}
	return list
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
		for _, i := range c.missing(k, from, to) {
			if v := c.known[i]; v.gone.Answered && v.gone.Fault {
				a := &c.told[0][i]
				s.Faults = append(s.Faults, LostFault{v.alert, v.incident, a.Segment, a.Since, v.sentence})
			}
		}
		if len(s.Faults) > 0 {
			list = append(list, s)
		}
	}
	slices.SortStableFunc(list, func(a, b Stopped) int { return cmp.Compare(b.Spared, a.Spared) })
	return list[:min(len(list), 5)]
}

// goneUnder lists today's alerts in [from, to) that an option would not have
// told, and how the alerts it tells beside them change the balance.
func (c *candidate) goneUnder(k int, from, to time.Time) (gone []tune.Gone, more tune.Outlook) {
	within := func(a *BacktestAlert) bool { return !a.RaisedAt.Before(from) && a.RaisedAt.Before(to) }
	foundToday := map[string]bool{}
	for i := range c.told[0] {
		foundToday[c.known[i].incident] = true
	}
	for _, i := range c.missing(k, from, to) {
		gone = append(gone, c.known[i].gone)
	}
	gained := map[string]bool{}
	for i := range c.told[k] {
		a := &c.told[k][i]
		if !within(a) || a.Outcome == score.Expected || c.tells(0, a, to) {
			continue
		}
		switch {
		case a.Incident == "":
			more.Spared-- // nobody knows it; a new alert is a false one until shown
		case !foundToday[a.Incident] && !gained[a.Incident]:
			gained[a.Incident] = true
			more.Lost--
		}
	}
	return gone, more
}

// tells tells whether an option has an alert of the same series at the time.
func (c *candidate) tells(k int, a *BacktestAlert, now time.Time) bool {
	for i := range c.told[k] {
		o := &c.told[k][i]
		if o.SeriesID == a.SeriesID && o.Since.Before(a.until(now)) && a.Since.Before(o.until(now)) {
			return true
		}
	}
	return false
}

// gained names the incidents that an option finds and today's settings miss.
func (c *candidate) gained(k int) []string {
	today := map[string]bool{}
	for i := range c.told[0] {
		today[c.told[0][i].Incident] = true
	}
	list := []string{}
	for i := range c.told[k] {
		if in := c.told[k][i].Incident; in != "" && !today[in] && !slices.Contains(list, in) {
			list = append(list, in)
		}
	}
	return list
}
