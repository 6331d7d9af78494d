package study

import (
	"context"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"tinbell/core/forecast"
	"tinbell/core/timeline"
	"tinbell/core/trend"
	"tinbell/internal/record"
	"tinbell/internal/wire"
	"tinbell/internal/words"
)

// TrendTest is one test of "nothing changes but by chance".
type TrendTest struct {
	Name      string   `json:"name" enum:"linear trend,Mann-Kendall,Spearman,Pettitt,CUSUM,sup-F"`
	Of        string   `json:"of" enum:"trend,change"`
	Statistic float64  `json:"statistic" doc:"as the literature has it"`
	P         float64  `json:"p" doc:"analytic, with what a day owes to the day before allowed for"`
	Bootstrap *float64 `json:"p_bootstrap" doc:"share of series that change by chance alone and owe as much to their past which surprise the test as much"`
}

// TrendStudy says whether a series grows and whether its level changed.
type TrendStudy struct {
	Subject
	From      time.Time   `json:"from"`
	To        time.Time   `json:"to"`
	Days      int         `json:"days" doc:"local days tested; known faults and planned stretches are left out, the week's shape is taken out"`
	Rho       float64     `json:"autocorrelation" doc:"what a day owes to the day before"`
	Slope     float64     `json:"slope_a_day" doc:"median of the slopes between all pairs of days (Theil and Sen)"`
	SlopeLow  float64     `json:"slope_low" doc:"95 %"`
	SlopeHigh float64     `json:"slope_high"`
	Share     *float64    `json:"slope_over_stretch" doc:"the slope over the whole stretch, as a share of the median day; null of what can be below 0"`
	ChangeAt  time.Time   `json:"change_at" doc:"first day after the best single change of level, be it one or not"`
	ChangeLow time.Time   `json:"change_low" doc:"95 %, if it is one"`
	ChangeTo  time.Time   `json:"change_high"`
	Before    float64     `json:"before" doc:"mean level before it"`
	After     float64     `json:"after"`
	Better    string      `json:"better" enum:"trend,step," doc:"which of the two describes the days better"`
	Tests     []TrendTest `json:"tests"`
	Sentence  string      `json:"sentence" doc:"what follows"`
	Caution   string      `json:"caution" doc:"what does not"`
	At        []time.Time `json:"at"`
	Value     []*float64  `json:"value" doc:"of each day: the sum of a count, the mean of anything else"`
}

// bySignificance is from which p on a test is taken to have found something.
const bySignificance = 0.05

// Trends tests a series' local days since an instant, the week's shape taken out.
func (r *Reader) Trends(ctx context.Context, id int64, since time.Time, draws int) (TrendStudy, error) {
	subject, named, err := Load(ctx, r.store, id)
	if err != nil {
		return TrendStudy{}, err
	}
	history, err := subject.History(ctx, r.store, id, time.Time{}, subject.SettledTo(r.now()))
	if err != nil {
		return TrendStudy{}, err
	}
	mask, err := r.known(ctx, subject, id)
	if err != nil {
		return TrendStudy{}, err
	}
	days := forecast.Days(subject.Config, history, mask)
	first := 0
	for first < len(days.At) && days.At[first] < since.Unix() {
		first++
	}
	days.At, days.Value = days.At[first:min(len(days.At), len(days.Value))], days.Value[min(first, len(days.Value)):]
	if more := len(days.Value) - trend.Most; more > 0 {
		days.At, days.Value = days.At[more:], days.Value[more:]
	}
	found, err := trend.Look(days.Value, trend.Options{Season: seasons[subject.Grid.Day()], Draws: draws, Seed: uint64(id)})
	var short trend.TooShort
	if errors.As(err, &short) || errors.Is(err, trend.ErrConstant) {
		return TrendStudy{}, record.Invalid{Field: "series", Given: fmt.Sprint(id), Allowed: "one with enough whole days: " + err.Error()}
	}
	if err != nil {
		return TrendStudy{}, err
	}
	s := TrendStudy{Subject: named, Days: found.N, Rho: found.Rho, Slope: found.Slope, SlopeLow: found.Low, SlopeHigh: found.High, Better: found.Better,
		At: instants(days.At), Tests: []TrendTest{}}
	s.From, s.To = s.At[0], s.At[len(s.At)-1]
	s.ChangeAt, s.ChangeLow, s.ChangeTo = s.At[found.Step.At], s.At[found.Step.Low], s.At[found.Step.High]
	s.Before, s.After = found.Step.Before, found.Step.After
	for _, x := range days.Value {
		s.Value = append(s.Value, wire.Finite(x))
	}
	if middle := (found.Step.Before + found.Step.After) / 2; middle > 0 && named.Kind != timeline.Value {
		share := found.Slope * float64(len(s.At)-1) / middle
		s.Share = &share
	}
	for _, t := range found.Tests {
		of := "change"
		if t.Name == trend.Linear || t.Name == trend.Kendall || t.Name == trend.Spearman {
			of = "trend"
		}
		s.Tests = append(s.Tests, TrendTest{t.Name, of, t.Statistic, t.P, wire.Finite(t.Bootstrap)})
	}
	s.say(subject.Grid)
	return s, nil
}

// seasons are after how many days, or longer periods, a shape is taken to come again.
var seasons = map[time.Duration]int{24 * time.Hour: 7, timeline.Month: 12}

// Chance is the p of a test that counts: the bootstrap's where there is one.
func (t TrendTest) Chance() float64 {
	if t.Bootstrap != nil {
		return *t.Bootstrap
	}
	return t.P
}

// of gives a test by its name.
func (s *TrendStudy) of(name string) TrendTest {
	for _, t := range s.Tests {
		if t.Name == name {
			return t
		}
	}
	return TrendTest{P: 1}
}

// say writes what follows and what does not. Ranks decide, so that no odd day does.
func (s *TrendStudy) say(g timeline.Grid) {
	grows, changed := s.of(trend.Kendall).Chance(), s.of(trend.Pettitt).Chance()
	form, unit := "2 January", g.Unit()
	if g.Long() {
		form = "2 January 2006"
	}
	day := func(at time.Time) string { return at.In(g.Zone).Format(form) }
	trended := fmt.Sprintf("a trend of %s a %s (%s to %s)", s.amount(s.Slope), unit, s.amount(s.SlopeLow), s.amount(s.SlopeHigh))
	if s.Share != nil {
		trended += fmt.Sprintf(", %s over these %d %ss", signed(*s.Share), len(s.At), unit)
	}
	stepped := fmt.Sprintf("a change of level about %s (%s to %s), from %s to %s", day(s.ChangeAt), day(s.ChangeLow),
		day(s.ChangeTo), s.amount(s.Before), s.amount(s.After))
	switch found, step := grows <= bySignificance, changed <= bySignificance; {
	case found && (!step || s.Better == "trend"):
		s.Sentence = fmt.Sprintf("There is %s: by chance alone as clear a one comes with probability %s (Mann-Kendall).", trended,
			chance(grows))
		if step {
			s.Sentence += " A single change of level is found too, as in every trend, and describes it worse."
		}
	case step:
		s.Sentence = fmt.Sprintf("There is %s: by chance alone as clear a one comes with probability %s (Pettitt).", stepped,
			chance(changed))
		if found {
			s.Sentence += " A trend is found too, as in every series with a step, and describes it worse."
		}
	default:
		s.Sentence = fmt.Sprintf("Neither trend nor change of level is clearer than chance makes them (%s and %s).",
			chance(grows), chance(changed))
		if sums, means := s.of(trend.CUSUM).Chance(), s.of(trend.SupF).Chance(); max(sums, means) <= bySignificance {
			s.Sentence = fmt.Sprintf("By ranks there is neither trend nor change of level (%s and %s), but by means %s (CUSUM %s, sup-F %s): "+
				"a few days that are far off can make it, as can a short stretch at one end.", chance(grows), chance(changed), stepped,
				chance(sums), chance(means))
		}
	}
	s.Caution = "It does not follow that it goes on, nor why."
	if grows > bySignificance && changed > bySignificance {
		s.Caution = fmt.Sprintf("It does not follow that nothing changes: a slope from %s to %s a %s would look like this.",
			s.amount(s.SlopeLow), s.amount(s.SlopeHigh), unit)
	}
	if s.Rho >= 0.2 {
		s.Caution += fmt.Sprintf(" A %s owes %.1f to the one before, so %d %ss tell as much as some %.0f.", unit, s.Rho, s.Days, unit,
			math.Max(float64(s.Days)*(1-s.Rho)/(1+s.Rho), 1))
	}
}

// amount writes a value of the series with three digits that count.
func (s *TrendStudy) amount(x float64) string {
	unit := ""
	switch s.Kind {
	case timeline.Share:
		x, unit = 100*x, " %"
	case timeline.Duration:
		if math.Abs(x) >= 120 {
			return strings.Replace(words.Seconds(math.Abs(x)), "", minus(x), 1)
		}
		unit = " s"
	}
	if math.Abs(x) >= 1000 {
		return words.Number(x) + unit
	}
	return minus(x) + strconv.FormatFloat(math.Abs(x), 'g', 3, 64) + unit
}

func minus(x float64) string {
	if x < 0 {
		return "−"
	}
	return ""
}

// signed writes a share as a change.
func signed(share float64) string {
	if share < 0 {
		return "−" + words.Percent(-share)
	}
	return "+" + words.Percent(share)
}

// chance writes a probability as people read it.
func chance(p float64) string {
	if p < 0.001 {
		return "under .001"
	}
	return fmt.Sprintf("%.3f", p)[1:]
}
