package compare

import (
	"cmp"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"tinbell/core/drift"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Summary is how a comparison stands: its last period.
type Summary struct {
	record.Comparison
	Last     *record.DriftPeriod `json:"last"`
	Sentence string              `json:"sentence"`
	Periods  int                 `json:"periods"`
}

// Matrix is a comparison's features by period, the most drifted first.
type Matrix struct {
	record.Comparison
	Sentence string         `json:"sentence"`
	Detail   string         `json:"detail"`
	Periods  []MatrixColumn `json:"periods" doc:"oldest first"`
	Rows     []MatrixRow    `json:"rows"`
}

// MatrixColumn is one period of the matrix.
type MatrixColumn struct {
	From         time.Time           `json:"from"`
	To           time.Time           `json:"to"`
	Rows         int64               `json:"rows"`
	Over         int                 `json:"over"`
	Separability *drift.Separability `json:"separability"`
	Message      string              `json:"message"`
	Versions     []string            `json:"versions" doc:"of the model, the one with most rows last"`
}

// MatrixRow is one feature over the periods.
type MatrixRow struct {
	Feature    string       `json:"feature"`
	Kind       drift.Kind   `json:"kind"`
	Role       string       `json:"role"`
	Importance float64      `json:"importance" doc:"share of the separability of the last period"`
	Cells      []MatrixCell `json:"cells"`
}

// MatrixCell is one feature in one period; Ratio is 1 at the limit.
type MatrixCell struct {
	State string  `json:"state"`
	Why   string  `json:"why,omitempty"`
	Ratio float64 `json:"ratio"`
	By    string  `json:"by"`
	Value float64 `json:"value" doc:"of the measure that is nearest its limit"`
	Limit float64 `json:"limit"`
}

// Distributions are one feature's values in the reference and in a period, over
// each other.
type Distributions struct {
	Comparison string                `json:"comparison"`
	Dataset    string                `json:"dataset"`
	Zone       string                `json:"zone"`
	Kind       drift.Kind            `json:"kind"`
	From       time.Time             `json:"from"`
	To         time.Time             `json:"to"`
	Against    record.DriftReference `json:"reference"`
	Result     record.FeatureResult  `json:"result"`
	Bars       []drift.Bar           `json:"bars"`
	Sentence   string                `json:"sentence"`
	Streak     int                   `json:"streak" doc:"periods in a row, this one the last, in the same state"`
}

var (
	longAgo = time.Unix(0, 0)
	faraway = time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)
)

// Overview gives all comparisons with how they stand.
func (c *Comparer) Overview(ctx context.Context) ([]Summary, error) {
	all, err := c.store.Comparisons(ctx)
	list := make([]Summary, 0, len(all))
	for _, v := range all {
		periods, err := c.store.DriftPeriods(ctx, v.ID, longAgo, faraway)
		if err != nil {
			return nil, err
		}
		s := Summary{Comparison: v, Periods: len(periods), Sentence: standing(v)}
		if n := len(periods); n > 0 {
			s.Last = &periods[n-1]
			s.Sentence, _ = Told(s.Last.Found)
		}
		list = append(list, s)
	}
	return list, err
}

// standing says why there is nothing to show yet.
func standing(v record.Comparison) string {
	switch {
	case v.State == "failed":
		return "It could not be computed: " + v.Message
	case v.State == "new" && v.Message != "":
		return v.Message
	case v.State == "ready":
		return "No period after the reference is over yet"
	}
	return "It has not run yet"
}

// Show gives the matrix of the periods that begin in [from, to).
func (c *Comparer) Show(ctx context.Context, name string, from, to time.Time) (Matrix, error) {
	v, err := c.store.Comparison(ctx, name)
	if err != nil {
		return Matrix{}, err
	}
	if to.IsZero() {
		to = faraway
	}
	if from.IsZero() {
		from = longAgo
	}
	periods, err := c.store.DriftPeriods(ctx, v.ID, from, to)
	if err != nil {
		return Matrix{}, err
	}
	return MatrixOf(v, periods), nil
}

// MatrixOf lays out what was found in some periods.
func MatrixOf(v record.Comparison, periods []record.DriftPeriod) Matrix {
	m := Matrix{Comparison: v, Sentence: standing(v), Periods: []MatrixColumn{}, Rows: []MatrixRow{}}
	for _, f := range Compared(v.Features) {
		row := MatrixRow{Feature: f.Name, Kind: f.Kind, Role: f.Role, Cells: []MatrixCell{}}
		for _, p := range periods {
			cell := MatrixCell{State: drift.TooFew}
			if i := slices.IndexFunc(p.Found.Features, func(r record.FeatureResult) bool { return r.Feature == f.Name }); i >= 0 {
				r := p.Found.Features[i]
				measure, _ := r.Measure(r.By)
				cell = MatrixCell{State: r.State, Why: r.Why, Ratio: r.Ratio, By: r.By, Value: measure.Value, Limit: measure.Limit}
			}
			row.Cells = append(row.Cells, cell)
		}
		m.Rows = append(m.Rows, row)
	}
	for _, p := range periods {
		column := MatrixColumn{From: p.From, To: p.To, Rows: p.Found.Rows, Over: p.Found.Over, Separability: p.Found.Separability, Message: p.Found.Message, Versions: []string{}}
		models := slices.Clone(p.Found.Models)
		slices.SortStableFunc(models, func(a, b record.ModelResult) int { return cmp.Compare(a.Rows, b.Rows) })
		for _, one := range models {
			column.Versions = append(column.Versions, one.Version)
		}
		m.Periods = append(m.Periods, column)
	}
	n := len(periods)
	if n == 0 {
		return m
	}
	last := periods[n-1].Found
	m.Sentence, m.Detail = Told(last)
	for i := range m.Rows {
		if s := last.Separability; s != nil {
			if at := slices.Index(last.Classified, m.Rows[i].Feature); at >= 0 {
				m.Rows[i].Importance = s.Importance[at]
			}
		}
	}
	slices.SortStableFunc(m.Rows, func(a, b MatrixRow) int { return cmp.Compare(weight(b), weight(a)) })
	return m
}

// weight orders the rows of the matrix: by importance, those over their limits
// before all others, the model's answer last.
func weight(r MatrixRow) float64 {
	w := r.Importance
	if n := len(r.Cells); n > 0 {
		if last := r.Cells[n-1]; last.State == drift.Over {
			w += 1 + min(last.Ratio, 50)/100
		} else {
			w += min(last.Ratio, 1) / 100
		}
	}
	if r.Role != "" {
		w -= 10
	}
	return w
}

// Told says what was found in a period: a sentence, and what to know besides.
func Told(found record.DriftResult) (sentence, detail string) {
	var over []record.FeatureResult
	judged := 0
	for _, f := range found.Features {
		if f.State == drift.Over {
			over = append(over, f)
		}
		if f.State == drift.Over || f.State == drift.AsExpected {
			judged++
		}
	}
	slices.SortStableFunc(over, func(a, b record.FeatureResult) int { return cmp.Compare(b.Ratio, a.Ratio) })
	many := words.Plural(len(found.Features), "feature")
	switch {
	case judged == 0:
		sentence = "Too few rows to judge any of " + many
	case len(over) == 0:
		sentence = "None of " + many + " has drifted"
	case len(over) == 1:
		sentence = fmt.Sprintf("1 of %s has drifted: %s", many, over[0].Feature)
	case len(over) == len(found.Features):
		sentence = fmt.Sprintf("All %s have drifted; %s most", many, over[0].Feature)
	default:
		sentence = fmt.Sprintf("%d of %s have drifted; %s most", len(over), many, over[0].Feature)
	}
	var parts []string
	if s := found.Separability; s != nil {
		side := "under"
		if s.Score > s.Limit {
			side = "over"
		}
		parts = append(parts, fmt.Sprintf("Separability is %.2f (%.2f to %.2f), %s its limit of %.2f", s.Score, s.Low, s.High, side, s.Limit))
	} else if found.Message != "" {
		parts = append(parts, found.Message)
	}
	if len(over) > 0 {
		parts = append(parts, Moved(over[0]))
	}
	if len(found.Pairs) > 0 {
		if p := found.Pairs[0]; p.Beyond > p.Limit {
			parts = append(parts, fmt.Sprintf("%s and %s go together in another way", p.First, p.Second))
		}
	}
	for _, m := range found.Models {
		if m.Concept != nil && m.Concept.High < 0 {
			parts = append(parts, fmt.Sprintf("%s ranks worse than in the reference: AUC %.2f, %.2f less", orUnnamed(m.Version), m.Quality.AUC, -m.Concept.Value))
		}
	}
	if len(parts) > 0 {
		detail = strings.Join(parts, ". ") + "."
	}
	return sentence, detail
}

func orUnnamed(version string) string {
	if version == "" {
		return "the model"
	}
	return version
}

// Moved says how a feature that is over its limit has changed.
func Moved(f record.FeatureResult) string {
	m, _ := f.Measure(f.By)
	switch f.By {
	case drift.MeasureMissing:
		if f.Unreadable*2 > int64(m.Value*float64(f.Period.Rows)) {
			return fmt.Sprintf("%s cannot be read as what it was in %d of %d rows", f.Feature, f.Unreadable, f.Period.Rows)
		}
		return fmt.Sprintf("%s is missing in %s of rows, at most %s were due", f.Feature, words.Percent(m.Value), words.Percent(m.Limit))
	case drift.MeasurePresent:
		return fmt.Sprintf("%s is missing more seldom than before", f.Feature)
	case drift.MeasureNew:
		return fmt.Sprintf("%s has new values in %s of rows (%s)", f.Feature, words.Percent(m.Value), strings.Join(f.New[:min(3, len(f.New))], ", "))
	case drift.MeasureOutside:
		return fmt.Sprintf("%s lies outside the reference's range in %d rows", f.Feature, f.Below+f.Above)
	}
	if _, numeric := f.Measure(drift.MeasureKS); numeric {
		w, _ := f.Measure(drift.MeasureWasserstein)
		return fmt.Sprintf("%s has moved by %s on average; its median is %s, %s before", f.Feature, short(w.Value), short(f.Period.Median), short(f.Reference.Median))
	}
	return fmt.Sprintf("%s has other shares: PSI %.2f where %.2f is the limit", f.Feature, m.Value, m.Limit)
}

// Feature gives a feature's distributions in the period that begins at an
// instant; the last if that is zero.
func (c *Comparer) Feature(ctx context.Context, name, feature string, at time.Time) (Distributions, error) {
	v, p, periods, err := c.period(ctx, name, at)
	if err != nil {
		return Distributions{}, err
	}
	place := slices.IndexFunc(Compared(v.Features), func(f record.Feature) bool { return f.Name == feature })
	if place < 0 {
		var known []string
		for _, f := range Compared(v.Features) {
			known = append(known, f.Name)
		}
		return Distributions{}, record.Invalid{Field: "feature", Given: feature, Allowed: strings.Join(known, ", ")}
	}
	d := Distributions{Comparison: v.Name, Dataset: v.Dataset, Zone: v.Zone, Kind: Compared(v.Features)[place].Kind, From: p.From, To: p.To, Against: p.Found.Reference}
	d.Result = p.Found.Features[place]
	l := v.Layouts[place]
	period, err := c.counted(ctx, v, l, place, false, p.From, p.To)
	if err != nil {
		return d, err
	}
	reference, err := c.counted(ctx, v, l, place, v.Settings.ReferenceDataset != "" || v.Settings.ReferenceQuery != "", p.Found.Reference.From, p.Found.Reference.To)
	if err != nil {
		return d, err
	}
	d.Bars = drift.Histogram(l, &reference, &period)
	for i := len(periods) - 1; i >= 0; i-- {
		if periods[i].From.After(p.From) {
			continue
		}
		if place >= len(periods[i].Found.Features) || periods[i].Found.Features[place].State != d.Result.State {
			break
		}
		d.Streak++
	}
	d.Sentence = Stands(d.Result)
	return d, nil
}

// Stands says how a feature stands in a period.
func Stands(f record.FeatureResult) string {
	switch f.State {
	case drift.Over:
		return Moved(f)
	case drift.AsExpected:
		return "as expected"
	}
	return f.Why
}

func (c *Comparer) counted(ctx context.Context, v record.Comparison, l *drift.Layout, feature int, reference bool, from, to time.Time) (drift.Counts, error) {
	kept, err := c.store.DriftDays(ctx, v.ID, reference, from, to)
	if err != nil {
		return drift.Counts{}, err
	}
	days, err := unpacked(kept)
	return counted(l, days, feature), err
}

// period finds the period that begins at an instant, the last if that is zero,
// among all.
func (c *Comparer) period(ctx context.Context, name string, at time.Time) (v record.Comparison, p record.DriftPeriod, all []record.DriftPeriod, err error) {
	if v, err = c.store.Comparison(ctx, name); err != nil {
		return v, p, nil, err
	}
	if all, err = c.store.DriftPeriods(ctx, v.ID, longAgo, faraway); err != nil {
		return v, p, nil, err
	}
	if len(all) == 0 {
		return v, p, nil, record.NotFound{Kind: "period of comparison", Name: name + " (" + standing(v) + ")"}
	}
	if at.IsZero() {
		return v, all[len(all)-1], all, nil
	}
	i := slices.IndexFunc(all, func(p record.DriftPeriod) bool { return !at.Before(p.From) && at.Before(p.To) })
	if i < 0 {
		return v, p, nil, record.NotFound{Kind: "period of comparison " + name, Name: at.Format(time.DateOnly)}
	}
	return v, all[i], all, nil
}

// Period gives all that was found in the period that an instant lies in, the last
// if that is zero.
func (c *Comparer) Period(ctx context.Context, name string, at time.Time) (record.DriftPeriod, error) {
	_, p, _, err := c.period(ctx, name, at)
	return p, err
}

// Export writes every figure of a comparison as CSV.
func (c *Comparer) Export(ctx context.Context, name string, to io.Writer) error {
	v, err := c.store.Comparison(ctx, name)
	if err != nil {
		return err
	}
	periods, err := c.store.DriftPeriods(ctx, v.ID, longAgo, faraway)
	if err != nil {
		return err
	}
	w := csv.NewWriter(to)
	w.Write([]string{"from", "to", "feature", "state", "measure", "value", "limit"})
	number := func(x float64) string { return strconv.FormatFloat(x, 'g', 6, 64) }
	for _, p := range periods {
		from, until := p.From.Format(time.RFC3339), p.To.Format(time.RFC3339)
		for _, f := range p.Found.Features {
			for _, m := range f.Measures {
				w.Write([]string{from, until, f.Feature, f.State, m.Name, number(m.Value), number(m.Limit)})
			}
		}
		if s := p.Found.Separability; s != nil {
			w.Write([]string{from, until, "", "", "separability", number(s.Score), number(s.Limit)})
		}
	}
	w.Flush()
	return w.Error()
}
