package corpus

import (
	"slices"

	"tinbell/core/filter"
	"tinbell/core/replay"
	"tinbell/core/timeline"
)

// Answered is what answers are worth: the later half of what is judged, without the answers
// to the alerts of the earlier half, with limits that know them, and with a filter besides that
// learned from them.
type Answered struct {
	Corpus                  string
	Answers                 int // alerts of the earlier half
	Faults, Noise           int // what people called them
	Without, With, Filtered Result
}

// Answer judges the earlier half of a corpus, answers its alerts as people who know the
// incidents would have by its end, at most so many (the first first), and judges the later half
// as it is from then on. lost is the share of faults that the filter may hold back.
func Answer(c *Corpus, o Order, most int, lost float64) (Answered, error) {
	rang, err := Judge(c, o)
	if err != nil {
		return Answered{}, err
	}
	early, late := c.until(half), c.from(half)
	budget := o.BudgetOf(c)
	all := early.Score(early.on(rang), budget).Alerts
	slices.SortStableFunc(all, func(a, b Verdict) int { return int(a.Alert.Raised - b.Alert.Raised) })
	given := all[:min(most, len(all))]
	a := Answered{Corpus: c.Name, Answers: len(given)}
	answers := map[string][]replay.Exclusion{}
	for _, v := range given {
		end := min(max(v.Alert.End, v.Alert.Raised)+v.Series.Step(), v.Series.End)
		x := replay.Exclusion{Span: timeline.Span{From: v.Alert.Since, To: end}, Known: v.Series.End}
		switch {
		case v.True:
			a.Faults++
		case v.Neutral:
			x.Lasts = true
		default:
			a.Noise++
			x.Ordinary = true
		}
		answers[v.Series.ID] = append(answers[v.Series.ID], x)
	}
	if rang, err = Judge(&late, o); err != nil {
		return a, err
	}
	a.Without = late.Score(rang, budget)
	o.answers = answers
	if rang, err = Judge(&late, o); err != nil {
		return a, err
	}
	a.With = late.Score(rang, budget)
	through, err := filtered(all, given, rang, budget, lost)
	a.Filtered = late.Score(through, budget)
	return a, err
}

// filtered gives the alerts that a filter lets through which learned from answers: those it
// held back at first when it lets go of them.
func filtered(all, given []Verdict, later []Rang, budget, lost float64) ([]Rang, error) {
	said := said{}
	for _, v := range given {
		if !v.Neutral {
			said.take(v)
		}
	}
	before := make([]Rang, len(all))
	for i := range all {
		before[i] = all[i].Rang
	}
	var labelled []filter.Labelled
	var everyone []filter.Case
	for i, v := range all {
		c := said.caseOf(v.Rang, before, budget)
		everyone = append(everyone, c)
		if i < len(given) && !v.Neutral {
			c.Series.Less(c, v.True)
			c.Monitor.Less(c, v.True)
			labelled = append(labelled, filter.Labelled{Case: c, Fault: v.True})
		}
	}
	f, err := filter.FitFilter(labelled, everyone, filter.ShippedPrior, lost)
	if err != nil {
		return nil, err
	}
	var through []Rang
	around := append(before, later...)
	for _, r := range later {
		c := said.caseOf(r, around, budget)
		if after := f.Waits(c); after >= 0 {
			r.Alert.Raised += int64(after) * r.Series.Step()
			r.Alert.End = max(r.Alert.End, r.Alert.Raised)
			through = append(through, r)
		}
	}
	return through, nil
}

// said is what people said, by series and by monitor.
type said map[string]filter.Surprise

func (m said) take(v Verdict) {
	c := filter.Case{Kind: v.Series.Kind, Cause: v.Alert.Cause, Direction: v.Alert.Direction, Looks: v.Alert.Looks}
	for _, key := range v.Series.names() {
		s := m[key]
		s.Add(c, v.True)
		m[key] = s
	}
}

// names are the series and its monitor.
func (s *Series) names() [2]string { return [2]string{"series " + s.ID, s.Dataset + " " + s.Metric} }

// caseOf is an alert as a filter sees it among others.
func (m said) caseOf(r Rang, among []Rang, budget float64) filter.Case {
	names := r.Series.names()
	c := filter.Case{Budget: budget, Kind: r.Series.Kind, Cause: r.Alert.Cause, Direction: r.Alert.Direction, Looks: r.Alert.Looks,
		Series: m[names[0]], Monitor: m[names[1]]}
	for _, o := range among {
		ago := r.Alert.Raised - o.Alert.Raised
		switch {
		case o.Series.ID == r.Series.ID && ago > 0 && ago < filter.RecentSpan:
			c.Recent++
		case o.Series.ID != r.Series.ID && o.Series.Dataset == r.Series.Dataset && ago >= 0 && ago <= filter.CompanySpan:
			c.Company++
		}
	}
	return c
}

// half is the middle of what is judged of a series.
func half(s *Series) int64 {
	step := s.Step()
	return s.Split + (s.End-s.Split)/2/step*step
}

// until and from give the corpus with what is judged cut at an instant of each series; what
// was labelled before stays so.
func (c *Corpus) until(at func(*Series) int64) Corpus {
	return c.cut(func(s *Series) { s.End = at(s) })
}

func (c *Corpus) from(at func(*Series) int64) Corpus {
	return c.cut(func(s *Series) { s.Split = at(s) })
}

func (c *Corpus) cut(change func(*Series)) Corpus {
	part := *c
	part.Series = slices.Clone(c.Series)
	for i := range part.Series {
		change(&part.Series[i])
	}
	return part
}

// on gives the alerts that were raised before the end of what the corpus judges, as alerts on
// its own series.
func (c *Corpus) on(rang []Rang) (list []Rang) {
	at := make(map[string]*Series, len(c.Series))
	for i := range c.Series {
		at[c.Series[i].ID] = &c.Series[i]
	}
	for _, r := range rang {
		if r.Series = at[r.Series.ID]; r.Alert.Raised < r.Series.End {
			list = append(list, r)
		}
	}
	return list
}
