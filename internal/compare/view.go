package compare

import (
	"cmp"
	"context"
	"slices"
	"time"

	"tinbell/core/drift"
	"tinbell/internal/record"
)

// Summary is how a comparison stands: its last period.
type Summary struct {
	record.Comparison
	Last     *record.DriftPeriod `json:"last,omitempty"`
	Sentence string              `json:"sentence"`
	Periods  int                 `json:"periods"`
	Over     []int               `json:"over" doc:"features over their limits in the last periods, oldest first"`
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
	Name         string              `json:"name,omitempty" doc:"file, where each is a period"`
	Over         int                 `json:"over"`
	State        string              `json:"state" doc:"of all features, separability and pairs together"`
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

var (
	longAgo = time.Unix(0, 0)
	faraway = time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)
)

// Overview gives all comparisons with how they stand.
func (c *Comparer) Overview(ctx context.Context) ([]Summary, error) {
	all, err := c.store.Comparisons(ctx)
	if err != nil {
		return nil, err
	}
	overs, err := c.store.DriftOvers(ctx)
	if err != nil {
		return nil, err
	}
	counts := map[int64][]int{}
	for _, o := range overs {
		counts[o.ComparisonID] = append(counts[o.ComparisonID], o.Over)
	}
	list := make([]Summary, len(all))
	for i, v := range all {
		over := counts[v.ID]
		s := Summary{Comparison: v, Sentence: standing(v), Periods: len(over),
			Over: append([]int{}, over[max(0, len(over)-overviewPeriods):]...)}
		last, err := c.store.LastDriftPeriods(ctx, v.ID, 1)
		if err != nil {
			return nil, err
		}
		if len(last) > 0 {
			s.Last = &last[0]
			s.Sentence, _ = Told(s.Last.Found)
		}
		list[i] = s
	}
	return list, nil
}

// overviewPeriods is how many periods the overview counts features of.
const overviewPeriods = 60

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

// shownPeriods is how many periods are shown where nobody says since when.
const shownPeriods = 60

// Show gives the matrix of the periods that begin in [from, to); of the last ones
// if both are zero.
func (c *Comparer) Show(ctx context.Context, name string, from, to time.Time) (Matrix, error) {
	v, err := c.store.Comparison(ctx, name)
	if err != nil {
		return Matrix{}, err
	}
	periods, err := c.shown(ctx, v, from, to)
	if err != nil {
		return Matrix{}, err
	}
	return MatrixOf(v, periods), nil
}

func (c *Comparer) shown(ctx context.Context, v record.Comparison, from, to time.Time) ([]record.DriftPeriod, error) {
	if from.IsZero() && to.IsZero() {
		return c.store.LastDriftPeriods(ctx, v.ID, shownPeriods)
	}
	if to.IsZero() {
		to = faraway
	}
	if from.IsZero() {
		from = longAgo
	}
	return c.store.DriftPeriods(ctx, v.ID, from, to)
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
		column := MatrixColumn{From: p.From, To: p.To, Rows: p.Found.Rows, Name: p.Name, Over: p.Found.Over,
			State: p.Found.Whole.State, Separability: p.Found.Separability, Message: p.Found.Message, Versions: []string{}}
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
	m.Sentence, m.Detail = tell(last, m.since())
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

// since says from when on the most drifted feature has been over its limit,
// without a break, if that began in a period that is shown; a new version of the
// model that came then is named.
func (m Matrix) since() string {
	n := len(m.Periods)
	worst, ratio := -1, 0.0
	for i, r := range m.Rows {
		if last := r.Cells[n-1]; last.State == drift.Over && last.Ratio > ratio {
			worst, ratio = i, last.Ratio
		}
	}
	if worst < 0 {
		return ""
	}
	at := n - 1
	for at > 0 && m.Rows[worst].Cells[at-1].State == drift.Over {
		at--
	}
	if at == 0 || at == n-1 {
		return ""
	}
	most := func(p MatrixColumn) string {
		if len(p.Versions) == 0 {
			return ""
		}
		return p.Versions[len(p.Versions)-1]
	}
	if version := most(m.Periods[at]); version != "" && version != most(m.Periods[at-1]) {
		return " since model " + version
	}
	zone, err := time.LoadLocation(m.Zone)
	if err != nil {
		zone = time.UTC
	}
	return " since " + m.Periods[at].From.In(zone).Format("2 Jan")
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

// Figure is one measure of a feature, or of all together, in a period.
type Figure struct {
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Feature string    `json:"feature" doc:"empty: of all together"`
	State   string    `json:"state"`
	Measure string    `json:"measure"`
	Value   float64   `json:"value"`
	Limit   float64   `json:"limit"`
}

// Figures gives every figure of a comparison, period by period.
func (c *Comparer) Figures(ctx context.Context, name string) ([]Figure, error) {
	v, err := c.store.Comparison(ctx, name)
	if err != nil {
		return nil, err
	}
	periods, err := c.store.DriftPeriods(ctx, v.ID, longAgo, faraway)
	if err != nil {
		return nil, err
	}
	var list []Figure
	for _, p := range periods {
		for _, f := range p.Found.Features {
			for _, m := range f.Measures {
				list = append(list, Figure{p.From, p.To, f.Feature, f.State, m.Name, m.Value, m.Limit})
			}
		}
		if s := p.Found.Separability; s != nil {
			list = append(list, Figure{p.From, p.To, "", "", "separability", s.Score, s.Limit})
		}
	}
	return list, nil
}
