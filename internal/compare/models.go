package compare

import (
	"context"
	"time"

	"tinbell/core/drift"
	"tinbell/internal/record"
)

// ModelView is what the versions of a model did over the periods, and in one of
// them more closely.
type ModelView struct {
	Comparison string                 `json:"comparison"`
	Dataset    string                 `json:"dataset"`
	Zone       string                 `json:"zone"`
	Score      string                 `json:"score" doc:"the column of its answers; empty: no model is named"`
	Outcome    string                 `json:"outcome" doc:"the column of what came true; empty: not known"`
	Threshold  float64                `json:"threshold"`
	Periods    []ModelPeriod          `json:"periods" doc:"oldest first"`
	From       time.Time              `json:"from" doc:"of the period looked at"`
	To         time.Time              `json:"to"`
	Versions   []VersionView          `json:"versions"`
	Compared   []record.VersionResult `json:"compared" doc:"each version against the one before"`
}

// ModelPeriod is the versions of a model in one period.
type ModelPeriod struct {
	From   time.Time            `json:"from"`
	To     time.Time            `json:"to"`
	Models []record.ModelResult `json:"models"`
}

// VersionView is one version of a model in a period.
type VersionView struct {
	record.ModelResult
	Bars        []drift.Bar              `json:"bars" doc:"its scores over those of the reference"`
	Calibration []drift.CalibrationPoint `json:"calibration" doc:"by tenths of the rows whose outcome is known"`
}

// Models gives what a comparison's model did in the periods that begin in
// [from, to), and closely in the one that an instant lies in; zero times are the
// last.
func (c *Comparer) Models(ctx context.Context, name string, at, from, to time.Time) (ModelView, error) {
	v, p, err := c.period(ctx, name, at)
	if err != nil {
		return ModelView{}, err
	}
	view := ModelView{Comparison: v.Name, Dataset: v.Dataset, Zone: v.Zone, Score: v.Settings.Score, Outcome: v.Settings.Outcome,
		Threshold: thresholdOf(v.Settings),
		From:      p.From, To: p.To, Periods: []ModelPeriod{}, Versions: []VersionView{}, Compared: append([]record.VersionResult{},
			p.Found.Versions...)}
	if v.Settings.Score == "" {
		return view, nil
	}
	periods, err := c.shown(ctx, v, from, to)
	if err != nil {
		return view, err
	}
	for _, one := range periods {
		view.Periods = append(view.Periods, ModelPeriod{one.From, one.To, append([]record.ModelResult{}, one.Found.Models...)})
	}
	before, after, err := c.sides(ctx, v, p)
	if err != nil {
		return view, err
	}
	place, err := placeOf(v, "score", v.Settings.Score)
	if err != nil {
		return view, err
	}
	l := v.Layouts[place]
	was, is := modelled(l, before), modelled(l, after)
	all := drift.AllVersions(l, was)
	for _, m := range p.Found.Models {
		now := is[m.Version]
		if now == nil {
			continue
		}
		then := was[m.Version]
		if then == nil {
			then = all
		}
		view.Versions = append(view.Versions, VersionView{m, drift.Histogram(l, &then.Scores, &now.Scores),
			drift.Calibration(now.Outcomes)})
	}
	return view, nil
}
