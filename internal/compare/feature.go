package compare

import (
	"context"
	"slices"
	"strings"
	"time"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/record"
)

// Distributions are one feature's values in the reference and in a period, over
// each other.
type Distributions struct {
	Comparison string                `json:"comparison"`
	Dataset    string                `json:"dataset"`
	Zone       string                `json:"zone"`
	Kind       drift.Kind            `json:"kind"`
	Period     string                `json:"period" enum:"day,week,month,period"`
	Accept     float64               `json:"accept" doc:"share of clean features and periods that may be flagged"`
	From       time.Time             `json:"from"`
	To         time.Time             `json:"to"`
	Against    record.DriftReference `json:"reference"`
	Result     record.FeatureResult  `json:"result"`
	Bars       []drift.Bar           `json:"bars"`
	Sentence   string                `json:"sentence"`
	Streak     int                   `json:"streak" doc:"periods in a row, this one the last, in the same state"`
}

// Feature gives a feature's distributions in the period that an instant lies in;
// in the last if that is zero.
func (c *Comparer) Feature(ctx context.Context, name, feature string, at time.Time) (Distributions, error) {
	v, p, err := c.period(ctx, name, at)
	if err != nil {
		return Distributions{}, err
	}
	place, err := placeOf(v, "feature", feature)
	if err != nil {
		return Distributions{}, err
	}
	d := Distributions{Comparison: v.Name, Dataset: v.Dataset, Zone: v.Zone, Kind: Compared(v.Features)[place].Kind,
		Period: v.Settings.Period, Accept: acceptOf(v.Settings.Accept), From: p.From, To: p.To, Against: p.Found.Reference}
	d.Result = p.Found.Features[place]
	l := v.Layouts[place]
	before, after, err := c.sides(ctx, v, p)
	if err != nil {
		return d, err
	}
	reference, period := counted(l, before, place), counted(l, after, place)
	d.Bars = drift.Histogram(l, &reference, &period)
	states, err := c.store.DriftStates(ctx, v.ID, place, p.From)
	if err != nil {
		return d, err
	}
	for d.Streak < len(states) && states[d.Streak] == d.Result.State {
		d.Streak++
	}
	d.Sentence = Stands(d.Result)
	return d, nil
}

// placeOf finds a feature among those that are compared.
func placeOf(v record.Comparison, field, feature string) (int, error) {
	var known []string
	for i, f := range Compared(v.Features) {
		if f.Name == feature {
			return i, nil
		}
		known = append(known, f.Name)
	}
	return 0, record.Invalid{Field: field, Given: feature, Allowed: strings.Join(known, ", ")}
}

// sides are the counted days of a period's reference and of the period.
func (c *Comparer) sides(ctx context.Context, v record.Comparison, p record.DriftPeriod) (before, after []Day, err error) {
	read := func(reference bool, from, to time.Time) ([]Day, error) {
		kept, err := c.store.DriftDays(ctx, v.ID, reference, from, to)
		if err != nil {
			return nil, err
		}
		return unpacked(kept)
	}
	if before, err = read(v.Settings.Elsewhere(), p.Found.Reference.From, p.Found.Reference.To); err != nil {
		return nil, nil, err
	}
	after, err = read(false, p.From, p.To)
	return before, after, err
}

// period finds the period of a comparison that an instant lies in; the last if
// that is zero.
func (c *Comparer) period(ctx context.Context, name string, at time.Time) (record.Comparison, record.DriftPeriod, error) {
	v, err := c.store.Comparison(ctx, name)
	if err != nil {
		return v, record.DriftPeriod{}, err
	}
	if !at.IsZero() {
		p, err := c.store.DriftPeriodAt(ctx, v, at)
		return v, p, err
	}
	last, err := c.store.LastDriftPeriods(ctx, v.ID, 1)
	if err != nil {
		return v, record.DriftPeriod{}, err
	}
	if len(last) == 0 {
		return v, record.DriftPeriod{}, record.NotFound{Kind: "period of comparison", Name: name + " (" + standing(v) + ")"}
	}
	return v, last[0], nil
}

// Period gives all that was found in the period that an instant lies in, the last
// if that is zero.
func (c *Comparer) Period(ctx context.Context, name string, at time.Time) (record.DriftPeriod, error) {
	_, p, err := c.period(ctx, name, at)
	return p, err
}

// PairView is two features together in a period.
type PairView struct {
	Zone  string              `json:"zone"`
	From  time.Time           `json:"from"`
	To    time.Time           `json:"to"`
	Rows  record.SampleResult `json:"sample"`
	Found record.PairResult   `json:"pair"`
}

// Pair looks at any two features together, in a period and its reference: of a
// sample of rows that is drawn for it and not kept.
func (c *Comparer) Pair(ctx context.Context, name, first, second string, at time.Time) (PairView, error) {
	v, p, err := c.period(ctx, name, at)
	if err != nil {
		return PairView{}, err
	}
	view := PairView{Zone: v.Zone, From: p.From, To: p.To}
	features := Compared(v.Features)
	var places []int
	for field, feature := range map[string]string{"first": first, "second": second} {
		place, err := placeOf(v, field, feature)
		if err != nil {
			return view, err
		}
		places = append(places, place)
	}
	slices.Sort(places)
	if places[0] == places[1] {
		return view, record.Invalid{Field: "second", Given: second, Allowed: "a feature other than the first"}
	}
	input, reference, zone, err := c.inputs(ctx, v, c.Stored)
	if err != nil {
		return view, err
	}
	w := Wants(v.Settings, features, zone)
	w.Features, w.Model = nil, Model{}
	var layouts []*drift.Layout
	for _, i := range places {
		f := features[i]
		f.Role = "" // an answer may be one of the two
		w.Features, layouts = append(w.Features, f), append(layouts, v.Layouts[i])
		if l := v.Layouts[i]; l.Many || !l.Usable() {
			return view, record.Invalid{Field: "features", Given: f.Name,
				Allowed: "a feature with values, and not more categories than can be told apart"}
		}
	}
	span := timeline.Span{From: p.From.Unix(), To: p.To.Unix()}
	against := timeline.Span{From: p.Found.Reference.From.Unix(), To: p.Found.Reference.To.Unix()}
	rows := []int{sampleRows(v.Settings)}
	before, err := reference.Samples(ctx, w, layouts, []timeline.Span{against}, rows)
	if err != nil {
		return view, err
	}
	after, err := input.Samples(ctx, w, layouts, []timeline.Span{span}, rows)
	if err != nil {
		return view, err
	}
	view.Rows = record.SampleResult{Rows: after[0].Rows(), Reference: before[0].Rows(), Seed: w.Seed}
	list := pairResults(w, layouts, drift.Pairs(before[0].Sample, after[0].Sample, acceptOf(v.Settings.Accept), nil, 1), []int{0, 1})
	if len(list) == 0 {
		return view, record.Invalid{Field: "features", Given: first + " and " + second,
			Allowed: "features of which both sides have at least 30 rows with both values, and two values or more"}
	}
	view.Found = list[0]
	return view, nil
}
