package compare

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/collect/columns"
	"tinbell/internal/record"
	"tinbell/internal/words"
)

// Outcome is what a comparison without a service came to.
type Outcome struct {
	Features []record.Feature     `json:"features"`
	Periods  []record.DriftPeriod `json:"periods"`
	Notes    []string             `json:"notes" doc:"what to keep in mind"`

	Layouts []*drift.Layout `json:"-"`
	Days    []Day           `json:"-"`
	Before  []Day           `json:"-"`

	level *level // samples of the reference
}

// Side is rows that are compared with a reference, and what they are called.
type Side struct {
	Name string
	Input
}

// Several compares each of some sides with one reference, which is read once for all
// that have the same columns: each side's rows, or each of its periods, is a period of
// the outcome.
func Several(ctx context.Context, before Input, sides []Side, s record.ComparisonSettings, zone *time.Location, classify bool, progress func(done, total int)) (Outcome, error) {
	all := Outcome{Notes: []string{}}
	var last *Outcome
	for _, side := range sides {
		o, err := two(ctx, before, side.Input, s, zone, classify, progress, last)
		if err != nil {
			return o, err
		}
		if len(sides) > 1 {
			for i := range o.Periods {
				o.Periods[i].Name = side.Name
			}
		}
		for i, n := range o.Notes {
			if len(sides) > 1 {
				o.Notes[i] = side.Name + ": " + n
			}
		}
		periods, notes, features := append(all.Periods, o.Periods...), append(all.Notes, o.Notes...), all.Features
		if len(Compared(o.Features)) >= len(Compared(features)) {
			features = o.Features
		}
		last = &o
		if all = o; all.Periods == nil && periods == nil {
			periods = []record.DriftPeriod{}
		}
		all.Periods, all.Notes, all.Features = periods, notes, features
	}
	return all, nil
}

// Two compares files, or one by periods, with reference files. Without a time
// column all rows are one period; progress may be nil.
func Two(ctx context.Context, before, after Input, s record.ComparisonSettings, zone *time.Location, classify bool, progress func(done, total int)) (Outcome, error) {
	return two(ctx, before, after, s, zone, classify, progress, nil)
}

// two is Two, after another with the same reference, if there was one.
func two(ctx context.Context, before, after Input, s record.ComparisonSettings, zone *time.Location, classify bool, progress func(done, total int), known *Outcome) (Outcome, error) {
	o := Outcome{Notes: []string{}}
	if progress == nil {
		progress = func(int, int) {}
	}
	list, err := before.Columns(ctx)
	if err != nil {
		return o, err
	}
	if o.Features, err = Propose(list, s); err != nil {
		return o, err
	}
	later, err := after.Columns(ctx)
	if err != nil {
		return o, err
	}
	OneSided(o.Features, later)
	o.Features = append(o.Features, Also(o.Features, later)...)
	w := Wants(s, o.Features, zone)
	if len(w.Features) == 0 {
		return o, record.Invalid{Field: "features", Given: names(later), Allowed: "at least one column that both have: " + names(list)}
	}
	span, _, err := namedSpan(s, zone)
	if err != nil {
		return o, err
	}
	progress(0, 4)
	if known != nil && slices.EqualFunc(Compared(known.Features), Compared(o.Features), func(a, b record.Feature) bool { return a.Name == b.Name && a.Kind == b.Kind }) {
		o.Layouts, o.Before, o.level = known.Layouts, known.Before, known.level
	} else {
		if o.Layouts, err = before.Layouts(ctx, w, span); err != nil {
			return o, err
		}
		progress(1, 4)
		if o.Before, err = before.Days(ctx, w, o.Layouts, span); err != nil {
			return o, err
		}
	}
	progress(2, 4)
	if o.Days, err = after.Days(ctx, w, o.Layouts, everything); err != nil {
		return o, err
	}
	progress(3, 4)
	r := refer(w, o.Layouts, o.Before, s)
	spans := o.spans(w, s.Period, zone)
	if same(before, after) {
		all := len(spans)
		spans = slices.DeleteFunc(spans, func(p timeline.Span) bool { return overlap(p, r.span) })
		if all > 0 && len(spans) == 0 {
			return o, record.Invalid{Field: "reference", Given: timeOf(time.Unix(r.span.From, 0), time.Unix(r.span.To, 0), zone), Allowed: "days that leave a whole period of their own: the file's rows are all of periods that the reference touches"}
		}
		if left := all - len(spans); left > 0 {
			o.Notes = append(o.Notes, fmt.Sprintf("%s not judged: the reference touches them", words.Plural(left, "period")))
		}
	} else if shared := slices.IndexFunc(o.Days, func(d Day) bool { return d.At >= r.span.From && d.At < r.span.To }); w.Time != "" && shared >= 0 {
		o.Notes = append(o.Notes, fmt.Sprintf("the reference (%s) and the period share days: rows that are in both hide drift", timeOf(time.Unix(r.span.From, 0), time.Unix(r.span.To, 0), zone)))
	}
	for _, p := range spans {
		days := within(o.Days, p)
		found := judge(w, o.Layouts, &r, days, s.Accept)
		if err := paired(ctx, after, w, p, &found); err != nil {
			return o, err
		}
		from, to := p.From, p.To
		if p == everything {
			from, to = days[0].At, PeriodOf("day", days[len(days)-1].At, zone).To
		}
		o.Periods = append(o.Periods, record.DriftPeriod{From: time.Unix(from, 0).UTC(), To: time.Unix(to, 0).UTC(), Found: found})
	}
	if classify && len(spans) > 0 {
		err = o.classify(ctx, before, after, s, w, span, spans)
	}
	for i := range o.Periods {
		conclude(&o.Periods[i].Found, o.Features, s)
	}
	progress(4, 4)
	return o, err
}

// spans are the periods that the second side has rows of; one without time, or
// without a period.
func (o *Outcome) spans(w Wanted, period string, zone *time.Location) []timeline.Span {
	var spans []timeline.Span
	for _, d := range o.Days {
		p := everything
		if w.Time != "" && period != "" {
			p = PeriodOf(period, d.At, zone)
		}
		if !slices.Contains(spans, p) {
			spans = append(spans, p)
		}
	}
	slices.SortFunc(spans, func(a, b timeline.Span) int { return cmp.Compare(a.From, b.From) })
	return spans
}

// same tells that both sides are the same files.
func same(a, b Input) bool {
	x, first := a.(*Files)
	y, second := b.(*Files)
	return first && second && slices.Equal(x.List, y.List)
}

func (o *Outcome) classify(ctx context.Context, before, after Input, s record.ComparisonSettings, w Wanted, span timeline.Span, spans []timeline.Span) error {
	r := refer(w, o.Layouts, o.Before, s)
	rows := make([]int, len(spans))
	for i := range rows {
		rows[i] = sampleRows(s)
	}
	if o.level == nil {
		drawn, err := drawReference(ctx, before, w, o.Layouts, &r, s, span, true)
		if err != nil {
			return err
		}
		o.level = &drawn
	}
	is, err := after.Samples(ctx, w, o.Layouts, spans, rows)
	if err != nil {
		return err
	}
	for i := range o.Periods {
		sampled(w, o.Layouts, &o.Periods[i].Found, o.level, is[i], sampleRows(s), s.Accept)
	}
	return nil
}

const onlyBefore = "only the reference has it"

// OneSided says of features why they are not compared if only one side has them.
func OneSided(features []record.Feature, other []columns.Column) {
	for i, f := range features {
		if f.Why == "" && columns.Place(other, f.Name) < 0 {
			features[i].Why = onlyBefore
		}
	}
}

// Also gives the columns that only the period has.
func Also(features []record.Feature, other []columns.Column) []record.Feature {
	var list []record.Feature
	for _, c := range other {
		if !slices.ContainsFunc(features, func(f record.Feature) bool { return f.Name == c.Name }) {
			list = append(list, record.Feature{Name: c.Name, Kind: c.Kind, Why: "the reference has it not"})
		}
	}
	return list
}

// FilesAt are files by path, patterns as the shell has them among them.
func FilesAt(paths ...string) (*Files, error) {
	f := &Files{}
	for _, path := range paths {
		found, err := filepath.Glob(path)
		if err != nil || len(found) == 0 {
			return f, record.NotFound{Kind: "file", Name: path}
		}
		for _, one := range found {
			f.List = append(f.List, File{Path: filepath.Clean(one)})
		}
	}
	return f, nil
}

// Distributions are a feature's values over each other in the last period; of the
// most drifted feature if none is named, or the one named is not there.
func (o Outcome) Distributions(feature string, zone *time.Location) Distributions {
	p := o.Periods[len(o.Periods)-1]
	place := slices.IndexFunc(p.Found.Features, func(f record.FeatureResult) bool { return f.Feature == feature })
	if place < 0 {
		place = 0
		for i, f := range p.Found.Features {
			if f.Ratio > p.Found.Features[place].Ratio {
				place = i
			}
		}
	}
	l := o.Layouts[place]
	before, after := counted(l, o.Before, place), counted(l, within(o.Days, timeline.Span{From: p.From.Unix(), To: p.To.Unix()}), place)
	d := Distributions{Zone: zone.String(), Kind: l.Kind, Period: "period", From: p.From, To: p.To, Against: p.Found.Reference, Result: p.Found.Features[place], Bars: drift.Histogram(l, &before, &after)}
	d.Sentence = Stands(d.Result)
	return d
}
