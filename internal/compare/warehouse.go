package compare

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/collect/columns"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
)

// Warehouse is the rows of a table, or of a query, in a warehouse.
type Warehouse struct {
	Pools  *warehouse.Pools
	Source record.Source
	Table  string
	Query  string
	Zone   string

	types map[string]string // of the columns, once they are known
}

func (in *Warehouse) Columns(ctx context.Context) ([]columns.Column, error) {
	list, err := in.Pools.Shape(ctx, warehouse.Distribution{Source: in.Source, Table: in.Table, Query: in.Query})
	if err != nil {
		return nil, in.answered(err)
	}
	in.types = map[string]string{}
	var known []columns.Column
	for _, c := range list {
		in.types[c.Name] = c.Type
		known = append(known, columns.Column{Name: c.Name, Kind: warehouse.FeatureKind(c.Type), Type: c.Type})
	}
	return known, nil
}

// tooSlow is what the warehouse does not get done in the time it is given.
type tooSlow struct{ of string }

func (t tooSlow) Error() string {
	return t.of + ": counting took longer than the warehouse is burdened with at a time; compare fewer features, or let the time column have an index"
}

// refusedRows is the field of a refusal by the warehouse.
const refusedRows = "rows"

// answered tells what the warehouse said, in its words.
func (in *Warehouse) answered(err error) error {
	of := in.Table
	if in.Query != "" {
		of = "the query"
	}
	if warehouse.TooSlow(err) {
		return tooSlow{of}
	}
	if !warehouse.Reached(err) {
		return err
	}
	return record.Invalid{Field: refusedRows, Given: of, Allowed: "the warehouse answered: " + warehouse.Words(err)}
}

func (in *Warehouse) distribution(ctx context.Context, w Wanted) (warehouse.Distribution, error) {
	if in.types == nil {
		if _, err := in.Columns(ctx); err != nil {
			return warehouse.Distribution{}, err
		}
	}
	d := warehouse.Distribution{Source: in.Source, Table: in.Table, Query: in.Query, Time: w.Time, Zone: in.Zone}
	if w.Time != "" {
		var ok bool
		if d.TimeType, ok = warehouse.TimeType(in.types[w.Time]); !ok {
			return d, record.Invalid{Field: "time_column", Given: strings.TrimSpace(w.Time + " " + in.types[w.Time]),
				Allowed: "a column of type timestamp with time zone, timestamp or date"}
		}
	}
	for _, f := range w.Features {
		d.Columns = append(d.Columns, warehouse.Distributed{Name: f.Name, Kind: f.Kind})
	}
	return d, nil
}

// First is the time of the earliest row.
func (in *Warehouse) First(ctx context.Context, w Wanted) (at int64, ok bool, err error) {
	d, err := in.distribution(ctx, w)
	if err != nil {
		return 0, false, err
	}
	if at, ok, err = in.Pools.First(ctx, d); err != nil {
		err = in.answered(err)
	}
	return at, ok, err
}

func (in *Warehouse) Layouts(ctx context.Context, w Wanted, span timeline.Span) ([]*drift.Layout, error) {
	d, err := in.distribution(ctx, w)
	if err != nil {
		return nil, err
	}
	layouts, err := in.Pools.Layouts(ctx, d, span.From, span.To, w.Seed)
	if err != nil {
		return nil, in.answered(err)
	}
	return layouts, nil
}

func (in *Warehouse) Days(ctx context.Context, w Wanted, layouts []*drift.Layout, span timeline.Span) ([]Day, error) {
	d, err := in.distribution(ctx, w)
	if err != nil {
		return nil, err
	}
	numbers, err := in.Pools.Numbers(ctx, d, layouts, span.From, span.To)
	if err != nil {
		return nil, in.answered(err)
	}
	words, err := in.Pools.Words(ctx, d, layouts, span.From, span.To)
	if err != nil {
		return nil, in.answered(err)
	}
	days := map[int64]*Day{}
	of := func(at int64) *Day {
		if days[at] == nil {
			one := Day{At: at, Counts: make([]drift.Counts, len(layouts)), Models: map[string]*drift.VersionCounts{}}
			for i, l := range layouts {
				one.Counts[i] = drift.NewCounts(l)
			}
			days[at] = &one
		}
		return days[at]
	}
	for _, n := range numbers.Bins {
		put(&of(n.Day).Counts[n.Column], n)
	}
	for _, n := range numbers.Spread {
		fill(&of(n.Day).Counts[n.Column], layouts[n.Column], n)
	}
	for _, n := range words {
		spell(&of(n.Day).Counts[n.Column], layouts[n.Column], n)
	}
	if err := in.scores(ctx, w, d, layouts, span, of); err != nil {
		return nil, err
	}
	list := make([]Day, 0, len(days))
	for _, one := range days {
		list = append(list, *one)
	}
	slices.SortFunc(list, func(a, b Day) int { return cmp.Compare(a.At, b.At) })
	return list, nil
}

// put adds the rows of one bin.
func put(to *drift.Counts, n warehouse.BinCount) {
	to.Rows += n.Rows
	switch n.Bin {
	case -1:
		to.Missing += n.Rows
	case -2:
		to.Unreadable += n.Rows
	default:
		to.Bins[n.Bin] += n.Rows
	}
}

// fill adds how the values of a day are spread: sums around the layout's centre.
func fill(to *drift.Counts, l *drift.Layout, n warehouse.Spread) {
	if n.Rows == 0 {
		return
	}
	rows, off := float64(n.Rows), n.Mean-l.Centre
	to.Sum, to.Squares = rows*off, rows*(n.Variance+off*off)
	to.Min, to.Max, to.Below, to.Above = n.Min, n.Max, n.Below, n.Above
}

// spell adds the rows of one category.
func spell(to *drift.Counts, l *drift.Layout, n warehouse.WordCount) {
	if n.Word == nil {
		to.Rows, to.Missing = to.Rows+n.Rows, to.Missing+n.Rows
		return
	}
	to.Words(l, *n.Word, n.Rows)
}

// scores adds what the versions of a model did, by day.
func (in *Warehouse) scores(ctx context.Context, w Wanted, d warehouse.Distribution, layouts []*drift.Layout, span timeline.Span,
	of func(int64) *Day) error {
	at := w.scorePlace()
	if at < 0 {
		return nil
	}
	numeric := w.Features[at].Kind.Numeric()
	var inputs []string
	for _, i := range w.inputs() {
		inputs = append(inputs, w.Features[i].Name)
	}
	score := w.Model.Score
	if !numeric {
		score = "" // an answer that is a category has no size
	}
	list, err := in.Pools.Scores(ctx, d, score, w.Model.Version, w.Model.Outcome, w.Model.Threshold, inputs, span.From, span.To)
	if err != nil {
		return in.answered(err)
	}
	for _, s := range list {
		day := of(s.Day)
		m := day.Models[s.Version]
		if m == nil {
			m = drift.NewVersionCounts(layouts[at])
			day.Models[s.Version] = m
		}
		m.Rows, m.MissingInput, m.Above = m.Rows+s.Rows, m.MissingInput+s.MissingInput, m.Above+s.Above
		if s.Bin >= 0 {
			m.Outcomes[s.Bin] = drift.ScoreBin{Rows: s.Known, Positive: s.Positive, Score: s.Score, Squares: s.Squares, Hit: s.Hit}
		}
	}
	return in.scoresOver(ctx, w, d, layouts[at], span, of)
}

// scoresOver counts the answers of each version over their own layout: the same
// count as of a feature, once for each version.
func (in *Warehouse) scoresOver(ctx context.Context, w Wanted, d warehouse.Distribution, score *drift.Layout, span timeline.Span,
	of func(int64) *Day) error {
	kind := w.Features[w.scorePlace()].Kind
	d.Columns = []warehouse.Distributed{{Name: w.Model.Score, Kind: kind}}
	d.By = w.Model.Version
	layouts := []*drift.Layout{score}
	if !kind.Numeric() {
		words, err := in.Pools.Words(ctx, d, layouts, span.From, span.To)
		if err != nil {
			return in.answered(err)
		}
		for _, n := range words {
			if m := of(n.Day).Models[n.By]; m != nil {
				spell(&m.Scores, score, n)
			}
		}
		return nil
	}
	counts, err := in.Pools.Numbers(ctx, d, layouts, span.From, span.To)
	if err != nil {
		return in.answered(err)
	}
	for _, n := range counts.Bins {
		if m := of(n.Day).Models[n.By]; m != nil {
			put(&m.Scores, n)
		}
	}
	for _, n := range counts.Spread {
		if m := of(n.Day).Models[n.By]; m != nil {
			fill(&m.Scores, score, n)
		}
	}
	return nil
}

func (in *Warehouse) Samples(ctx context.Context, w Wanted, layouts []*drift.Layout, spans []timeline.Span, rows []int) ([]Drawn, error) {
	d, err := in.distribution(ctx, w)
	if err != nil {
		return nil, err
	}
	drawn, filled := make([]Drawn, len(spans)), make([]int, len(spans))
	stretches := make([]warehouse.Stretch, len(spans))
	for k, s := range spans {
		drawn[k] = newDrawn(w, rows[k])
		stretches[k] = warehouse.Stretch{From: s.From, To: s.To, Rows: rows[k]}
	}
	err = in.Pools.Sample(ctx, d, w.Model.Version, stretches, w.Seed, func(r warehouse.SampledRow) {
		to, slot := &drawn[r.Stretch], filled[r.Stretch]
		filled[r.Stretch]++
		to.Block[slot], to.Versions[slot] = int32(r.Day/3600), r.Version
		for i, v := range r.Values {
			switch x := v.(type) {
			case float64:
				to.Features[i].Numbers[slot] = x
			case string:
				to.Features[i].Codes[slot] = layouts[i].Code([]byte(x))
			}
		}
	})
	if err != nil {
		return nil, in.answered(err)
	}
	for k := range drawn {
		drawn[k].cut(w, filled[k])
	}
	return drawn, nil
}

func (in *Warehouse) Paired(ctx context.Context, w Wanted, a, b string, span timeline.Span) (drift.Paired, error) {
	d, err := in.distribution(ctx, w)
	if err != nil {
		return drift.Paired{}, err
	}
	p, err := in.Pools.Paired(ctx, d, w.Model.Score, w.Model.Version, w.Model.Key, a, b, w.Model.Threshold, span.From, span.To)
	if err != nil {
		return p, in.answered(err)
	}
	return p, nil
}
