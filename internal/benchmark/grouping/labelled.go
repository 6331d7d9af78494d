package grouping

import (
	"cmp"
	"math"
	"slices"

	"tinbell/core/detect"
	"tinbell/core/fault"
	"tinbell/core/timeline"
	"tinbell/internal/benchmark/corpus"
)

// Labelled judges the alerts of a labelled history with a lineage: an alert is of
// the incident that its series lies in, or of the one whose impact reaches it.
func Labelled(c *corpus.Corpus, o corpus.Order) (inferred, nearby Score, err error) {
	inferred.Rule, nearby.Rule = "inferred", "nearness"
	rang, err := corpus.Judge(c, o)
	if err != nil {
		return inferred, nearby, err
	}
	p := past{lineage: lineageOf(c), up: map[string][]string{}, origin: func(cause int) fault.Origin {
		i := &c.Incidents[cause]
		return fault.Origin{Place: i.Dataset, Segment: sliceOf(i.Slice)}
	}}
	for _, s := range c.Lineage {
		p.up[s.Downstream] = append(p.up[s.Downstream], s.Upstream)
	}
	count := map[[2]string]int{}
	number := map[string]int64{}
	for i, s := range c.Series {
		count[[2]string{s.Dataset, s.Metric}]++
		number[s.ID] = int64(i) + 1
	}
	for _, r := range rang {
		kind, column := kindOf(r.Series)
		sign, effect := int8(r.Alert.Direction), r.Alert.Onset.Effect
		if r.Alert.Cause == detect.Silence || r.Alert.Cause == detect.Missing {
			kind, sign, effect = fault.Rows, -1, -1
		}
		p.rings = append(p.rings, ring{alert: fault.Alert{Series: number[r.Series.ID], Place: r.Series.Dataset, Kind: kind,
			Column: column, Segment: sliceOf(r.Series.Slice), Sign: sign,
			Onset: float64(r.Alert.Onset.At), Spread: r.Alert.Onset.Spread, Raised: r.Alert.Raised, Effect: effect,
			Error:    r.Alert.Onset.Error,
			Critical: r.Alert.Severity == detect.Critical, Rate: o.BudgetOf(c)/720/float64(count[[2]string{r.Series.Dataset,
				r.Series.Metric}]) + 0.5/(90*24)},
			end: r.Alert.Closed, cause: c.Cause(r)})
	}
	slices.SortStableFunc(p.rings, func(a, b ring) int { return cmp.Compare(a.alert.Raised, b.alert.Raised) })
	for i := range p.rings {
		p.rings[i].alert.ID = int64(i) + 1
	}
	inferred.add(p, infer(p))
	nearby.add(p, near(p))
	inferred.finish()
	nearby.finish()
	return inferred, nearby, nil
}

func sliceOf(slice string) fault.Segment {
	if slice == "" {
		return nil
	}
	return fault.Segment{{Column: "slice", Value: slice}}
}

func kindOf(s *corpus.Series) (fault.Kind, string) {
	switch s.Kind {
	case timeline.Count:
		return fault.Rows, ""
	case timeline.Share:
		return fault.Nulls, s.Metric
	case timeline.Duration:
		return fault.Late, s.Metric
	}
	return fault.Mean, s.Metric
}

// lineageOf learns what the inference knows from the past before the split.
func lineageOf(c *corpus.Corpus) *fault.Lineage {
	l := &fault.Lineage{}
	whole := map[string]*corpus.Series{}
	for i := range c.Series {
		s := &c.Series[i]
		kind, column := kindOf(s)
		l.Judge(s.Dataset, kind, column, sliceOf(s.Slice))
		if kind == fault.Rows && s.Slice == "" {
			whole[s.Dataset] = s
		}
	}
	for i := range c.Series {
		if s := &c.Series[i]; s.Slice != "" && s.Kind == timeline.Count && whole[s.Dataset] != nil {
			part, all := 0.0, 0.0
			for k, x := range s.History {
				if w := whole[s.Dataset].History; x.At < s.Split && k < len(w) && !math.IsNaN(x.Value) && !math.IsNaN(w[k].Value) {
					part, all = part+x.Value, all+w[k].Value
				}
			}
			l.Share(s.Dataset, fault.Pair{Column: "slice", Value: s.Slice}, part/max(all, 1))
		}
	}
	for _, s := range c.Lineage {
		lag, pass := fault.Unknown(3600), 0.0
		if up, down := whole[s.Upstream], whole[s.Downstream]; up != nil && down != nil && up.Step() == down.Step() {
			if learned, ok := fault.Learn(before(up), before(down), up.Step(), 3*86400); ok {
				lag, pass = learned.Lag, learned.Pass
			} else if s.Lag > 0 { // as runs would tell
				lag = fault.Lag{Low: float64(s.Lag), High: float64(s.Lag) + 3600, Spread: 3600}
			}
		}
		l.Step(s.Upstream, s.Downstream, lag, pass)
	}
	return l
}

// before are a series' values until its split.
func before(s *corpus.Series) []float64 {
	var values []float64
	for _, x := range s.History {
		if x.At < s.Split {
			values = append(values, x.Value)
		}
	}
	return values
}
