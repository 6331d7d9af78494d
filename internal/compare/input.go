// Package compare runs drift comparisons: it reads the rows of datasets as counts
// by day, judges each period against its reference, and keeps what it found, as
// figures and as series that are watched like any other. Two files can be
// compared without a service. It decides what is compared with what; the
// statistics are those of core/drift.
package compare

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"tinbell/core/drift"
	"tinbell/core/timeline"
	"tinbell/internal/collect/columns"
	"tinbell/internal/record"
)

// Input is rows that can be compared: of a warehouse, or of files.
type Input interface {
	// First is when the earliest row is, Unix seconds; ok is false without rows.
	First(ctx context.Context, w Wanted) (at int64, ok bool, err error)
	// Columns are those the rows have.
	Columns(ctx context.Context) ([]columns.Column, error)
	// Layouts are made from the rows of a span, one for each feature.
	Layouts(ctx context.Context, w Wanted, span timeline.Span) ([]*drift.Layout, error)
	// Days are the counts of each local day of a span that has rows, ascending.
	Days(ctx context.Context, w Wanted, layouts []*drift.Layout, span timeline.Span) ([]Day, error)
	// Samples draws rows at random from each of some spans.
	Samples(ctx context.Context, w Wanted, layouts []*drift.Layout, spans []timeline.Span, rows []int) ([]Drawn, error)
	// Paired sums up two versions of the model on the cases of a span that both
	// scored; which rows are the same case the model's key tells.
	Paired(ctx context.Context, w Wanted, a, b string, span timeline.Span) (drift.Paired, error)
}

// Wanted is what is read of an input.
type Wanted struct {
	Features []record.Feature
	Time     string // column with each row's time; empty: all rows are of one day
	Zone     *time.Location
	Model    Model
	Seed     uint64
}

// Model names the columns of a model's answers; empty where there are none.
type Model struct {
	Score, Version, Outcome, Key string
	Threshold                    float64
}

// Day is the counts of one day: by feature, and by version of the model.
type Day struct {
	At     int64 // its local midnight
	Counts []drift.Counts
	Models map[string]*drift.VersionCounts
}

// Drawn are sampled rows, and of each its model's score and version.
type Drawn struct {
	drift.Sample
	Scores   []float64
	Versions []string
}

// everything is the span of rows without time.
var everything = timeline.Span{From: math.MinInt64 / 4, To: math.MaxInt64 / 4}

// scorePlace is where the score stands among the features, -1 if there is none.
func (w Wanted) scorePlace() int {
	return slices.IndexFunc(w.Features, func(f record.Feature) bool { return f.Role == "score" })
}

// inputs are the places of the features that a classifier may see.
func (w Wanted) inputs() []int {
	var list []int
	for i, f := range w.Features {
		if f.Role == "" {
			list = append(list, i)
		}
	}
	return list
}

// Propose chooses what of the columns is compared: all that have plain values and
// are neither the row's time nor its name. Why tells of those left out.
func Propose(list []columns.Column, s record.ComparisonSettings) ([]record.Feature, error) {
	var features []record.Feature
	for _, c := range list {
		f := record.Feature{Name: c.Name, Kind: c.Kind}
		switch {
		case c.Name == s.Score && s.Score != "":
			f.Role = "score"
		case slices.Contains(s.LeaveOut, c.Name):
			f.Why = "left out"
		case c.Kind == "":
			f.Why = "values of type " + c.Type + " are not compared"
		case len(s.Features) > 0:
			if !slices.Contains(s.Features, c.Name) {
				f.Why = "not asked for"
			}
		case c.Name == s.TimeColumn:
			f.Why = "the row's own time"
		case c.Name == s.Version, c.Name == s.Outcome, c.Name == s.Key:
			f.Why = "of the model, not an input"
		case named(c.Name):
			f.Why = "it names rows"
		case c.Kind == drift.Time && loading(c.Name):
			f.Why = "when the row was loaded"
		}
		features = append(features, f)
	}
	for _, asked := range []struct {
		field string
		names []string
	}{{"features", s.Features}, {"leave_out", s.LeaveOut}, {"score", one(s.Score)}, {"version", one(s.Version)},
		{"outcome", one(s.Outcome)}, {"key", one(s.Key)}, {"time_column", one(s.TimeColumn)}} {
		for _, name := range asked.names {
			if columns.Place(list, name) < 0 {
				return nil, record.Invalid{Field: asked.field, Given: name, Allowed: "a column that is there: " + names(list)}
			}
		}
	}
	if !slices.ContainsFunc(features, func(f record.Feature) bool { return f.Why == "" }) {
		return nil, record.Invalid{Field: "features", Given: strings.Join(s.Features, ", "),
			Allowed: "at least one column to compare; here: " + names(list)}
	}
	return features, nil
}

func one(name string) []string {
	if name == "" {
		return nil
	}
	return []string{name}
}

func names(list []columns.Column) string {
	var all []string
	for _, c := range list {
		all = append(all, c.Name)
	}
	return strings.Join(all, ", ")
}

// named tells that a column's values name rows.
func named(column string) bool {
	lower := strings.ToLower(column)
	return lower == "id" || lower == "uuid" || strings.HasSuffix(lower, "_id") || strings.HasSuffix(lower, "_uuid") ||
		strings.HasSuffix(lower, "_key")
}

func loading(column string) bool {
	return slices.ContainsFunc([]string{"load", "ingest", "insert", "arriv", "import", "synced", "received"}, func(part string) bool {
		return strings.Contains(strings.ToLower(column), part)
	})
}

// Compared are the features that have no reason not to be.
func Compared(features []record.Feature) []record.Feature {
	return slices.DeleteFunc(slices.Clone(features), func(f record.Feature) bool { return f.Why != "" })
}

// Wants is what settings ask of an input whose features are known.
func Wants(s record.ComparisonSettings, features []record.Feature, zone *time.Location) Wanted {
	return Wanted{Features: Compared(features), Time: s.TimeColumn, Zone: zone, Seed: s.Seed,
		Model: Model{s.Score, s.Version, s.Outcome, s.Key, thresholdOf(s)}}
}

func thresholdOf(s record.ComparisonSettings) float64 {
	if s.Threshold == 0 {
		return 0.5
	}
	return s.Threshold
}

// midnights finds the local day of instants, fast for those that come in order.
type midnights struct {
	zone     *time.Location
	from, to int64
}

func (m *midnights) of(unix int64) int64 {
	if unix < m.from || unix >= m.to {
		y, mo, d := time.Unix(unix, 0).In(m.zone).Date()
		m.from, m.to = time.Date(y, mo, d, 0, 0, 0, 0, m.zone).Unix(), time.Date(y, mo, d+1, 0, 0, 0, 0, m.zone).Unix()
	}
	return m.from
}

// timeOf says a stretch for people.
func timeOf(from, to time.Time, zone *time.Location) string {
	last := to.In(zone).AddDate(0, 0, -1)
	return fmt.Sprintf("%s to %s", from.In(zone).Format("2 Jan 2006"), last.Format("2 Jan 2006"))
}
