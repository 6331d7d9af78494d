package cli

import (
	"fmt"
	"strings"

	"tinbell/core/drift"
	"tinbell/internal/compare"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

var measureNames = map[string]string{drift.MeasurePSI: "PSI", drift.MeasureJS: "Jensen-Shannon distance",
	drift.MeasureKS: "Kolmogorov-Smirnov", drift.MeasureChiSquare: "chi-square",
	drift.MeasureCramer: "Cramér's V", drift.MeasureRank: "mean rank", drift.MeasureDepth: "spread of ranks",
	drift.MeasureShare:       "share of a value",
	drift.MeasureWasserstein: "Wasserstein distance", drift.MeasureMissing: "missing share",
	drift.MeasurePresent: "present share", drift.MeasureNew: "share of new values",
	drift.MeasureOutside: "share outside the range", drift.MeasureVanished: "vanished values"}

// measuresListing are a feature's measures beside their limits.
func measuresListing(v drift.Verdict) listing {
	l := listing{head: []string{"measure", "period", "limit", "verdict"}, right: []int{2, 3}, raw: v, none: v.Why}
	for _, m := range v.Measures {
		limit, state := "–", "–"
		if m.Limit > 0 {
			limit, state = fmt.Sprintf("%.4g", m.Limit), "as expected"
			if m.Over() {
				state = "over"
			}
			if !m.Decides {
				state += ", does not decide"
			}
		}
		name := measureNames[m.Name]
		if m.Of != "" {
			name += " (" + m.Of + ")"
		}
		l.rows = append(l.rows, []string{name, fmt.Sprintf("%.4g", m.Value), limit, state})
	}
	return l
}

func (a *app) showFeature(v compare.Distributions) error {
	if done, err := a.data(v); done {
		return err
	}
	period, reference := stretch(v.From, v.To, v.Zone), stretch(v.Against.From, v.Against.To, v.Zone)
	if v.From.Unix() == 0 { // rows without time
		period, reference = "the period", "the reference"
	}
	a.say("%s: %s against %s.\n%s.\n", v.Result.Feature, period, reference, v.Sentence)
	if err := a.show(measuresListing(v.Result.Verdict)); err != nil || a.output != "table" {
		return err
	}
	l := listing{head: []string{"", "rows", "mean", "sd", "min", "median", "max"}, right: []int{2, 3, 4, 5, 6, 7}}
	for _, side := range []struct {
		name string
		m    drift.Moments
	}{{"reference", v.Result.Reference}, {"period", v.Result.Period}} {
		row := []string{side.name, words.Number(float64(side.m.Rows))}
		for _, x := range []float64{side.m.Mean, side.m.SD, side.m.Min, side.m.Median, side.m.Max} {
			row = append(row, fmt.Sprintf("%.4g", x))
		}
		l.rows = append(l.rows, row)
	}
	if v.Kind.Numeric() {
		a.say("")
		if err := a.show(l); err != nil {
			return err
		}
	}
	a.say("")
	return a.show(barsListing(v.Bars))
}

// barsListing draws two distributions over each other in the terminal.
func barsListing(bars []drift.Bar) listing {
	most := 0.0
	for _, b := range bars {
		most = max(most, b.Reference, b.Period)
	}
	l := listing{head: []string{"value", "reference", "period", "reference ░ period █"}, right: []int{2, 3}}
	for _, b := range bars {
		label := b.Label
		if label == "" {
			label = fmt.Sprintf("%.4g to %.4g", b.From, b.To)
		}
		draw := func(share float64, mark string) string {
			return strings.Repeat(mark, int(share/max(most, 1e-9)*24+0.5))
		}
		l.rows = append(l.rows, []string{label, words.Percent(b.Reference), words.Percent(b.Period),
			draw(b.Reference, "░") + "\n" + draw(b.Period, "█")})
	}
	return l
}

func pairsListing(p record.DriftPeriod) listing {
	l := listing{head: []string{"first", "second", "rows", "changed together", "limit", "verdict"}, right: []int{3, 4, 5},
		raw: p.Found.Pairs, none: "No pairs: " + p.Found.Message}
	for _, one := range p.Found.Pairs {
		state := "as expected"
		if one.Beyond > one.Limit {
			state = "over"
		}
		l.rows = append(l.rows, []string{one.First, one.Second, fmt.Sprint(one.Rows), fmt.Sprintf("%.3f", one.Beyond),
			fmt.Sprintf("%.3f", one.Limit), state})
	}
	return l
}

// showPair writes two features together as shares of rows, the period's beside the
// reference's.
func (a *app) showPair(v compare.PairView) error {
	if done, err := a.data(v); done {
		return err
	}
	p, how := v.Found, "as before"
	if p.Beyond > p.Limit {
		how = "in another way"
	}
	a.say("%s and %s go together %s: %.3f, limit %.3f.\nShares of rows, reference / period of %s, of samples of %d and %d rows.\n", p.First, p.Second, how, p.Beyond, p.Limit, stretch(v.From, v.To, v.Zone), p.ReferenceN, p.Rows)
	l := listing{head: append([]string{p.First + " \\ " + p.Second}, p.SecondBins...), raw: v}
	for i, line := range p.Period {
		row := []string{p.FirstBins[i]}
		for k, share := range line {
			row = append(row, fmt.Sprintf("%.1f / %.1f %%", 100*p.Reference[i][k], 100*share))
			if i == 0 {
				l.right = append(l.right, k+2)
			}
		}
		l.rows = append(l.rows, row)
	}
	return a.show(l)
}

// showModels tells of the versions of a model in a period, of one against another,
// and how each has ranked and been calibrated over the periods.
func (a *app) showModels(v compare.ModelView) error {
	if done, err := a.data(v); done {
		return err
	}
	if v.Score == "" {
		a.say("No model is named: tinbell drift set %s %s --score COLUMN --version COLUMN", v.Comparison, v.Dataset)
		return nil
	}
	a.say("%s\n", stretch(v.From, v.To, v.Zone))
	l := listing{head: []string{"version", "rows", "mean score", "at or above", "lacking an input", "scores", "AUC",
		"AUC less reference", "came true / said"}, right: []int{2, 3, 4, 5, 7, 8, 9}, none: "No row of a model in this period."}
	for _, m := range v.Versions {
		row := []string{orNone(m.Version), words.Number(float64(m.Rows)), "–", words.Percent(m.Above),
			words.Percent(m.MissingInput), "–", "–", "–", "–"}
		if s := m.Scores; s != nil {
			row[2], row[5] = fmt.Sprintf("%.3f", s.Period.Mean), s.State
			if !m.Same {
				row[5] += ", new version"
			}
		}
		if q := m.Quality; q != nil {
			row[6], row[8] = fmt.Sprintf("%.2f (%.2f–%.2f)", q.AUC, q.AUCLow, q.AUCHigh), fmt.Sprintf("%.2f (%.2f–%.2f)", q.Ratio,
				q.RatioLow, q.RatioHigh)
		}
		if d := m.Concept; d != nil {
			row[7] = fmt.Sprintf("%+.2f (%+.2f to %+.2f)", d.Value, d.Low, d.High)
		}
		l.rows = append(l.rows, row)
	}
	if err := a.show(l); err != nil || a.output != "table" {
		return err
	}
	a.say("")
	if err := a.show(modelHistory(v)); err != nil || len(v.Compared) == 0 {
		return err
	}
	a.say("")
	versions := listing{head: []string{"version", "against", "on", "rows", "mean", "mean before", "difference",
		"other side of the threshold"}, right: []int{4, 5, 6, 7, 8}}
	for _, v := range v.Compared {
		on, apart := "like inputs", "–"
		if v.Same {
			on, apart = "the same rows", words.Percent(v.Apart)
		}
		versions.rows = append(versions.rows, []string{v.B, v.A, on, fmt.Sprint(v.Rows), fmt.Sprintf("%.3f", v.MeanB),
			fmt.Sprintf("%.3f", v.MeanA),
			fmt.Sprintf("%+.3f (%+.3f to %+.3f)", v.Difference.Value, v.Difference.Low, v.Difference.High), apart})
	}
	return a.show(versions)
}

// modelHistory is the quality of each version by period.
func modelHistory(v compare.ModelView) listing {
	l := listing{head: []string{"period", "version", "rows", "mean score", "lacking an input", "AUC", "came true / said"},
		right: []int{3, 4, 5, 6, 7}, raw: v.Periods}
	for _, p := range v.Periods {
		for _, m := range p.Models {
			row := []string{stretch(p.From, p.To, v.Zone), orNone(m.Version), words.Number(float64(m.Rows)), "–",
				words.Percent(m.MissingInput), "–", "–"}
			if s := m.Scores; s != nil && len(m.Classes) == 0 {
				row[3] = fmt.Sprintf("%.3f", s.Period.Mean)
			}
			if q := m.Quality; q != nil {
				row[5], row[6] = fmt.Sprintf("%.2f (%.2f–%.2f)", q.AUC, q.AUCLow, q.AUCHigh), fmt.Sprintf("%.2f (%.2f–%.2f)",
					q.Ratio, q.RatioLow, q.RatioHigh)
			}
			l.rows = append(l.rows, row)
		}
	}
	return l
}
