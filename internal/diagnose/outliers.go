package diagnose

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"tinbell/core/outlier"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
	"tinbell/internal/study"
)

// InTable asks which rows of a table stand out by a number column.
type InTable struct {
	Dataset  string
	Column   string
	Key      string   // judge the rows of each of its values by themselves; empty: all together
	Pairs    []string // two columns whose categories may seldom meet; nil: none
	Time     string   // the column with each row's time; empty: that of the dataset's metrics
	From, To time.Time
	Most     int // rows listed of each key
	Options  outlier.Options
}

// OddPair is two categories that seldom meet, given how common each is.
type OddPair struct {
	First    string    `json:"first"`
	Second   string    `json:"second"`
	Rows     int       `json:"rows"`
	Expected float64   `json:"expected" doc:"rows, if they had nothing to do with each other"`
	P        float64   `json:"p" doc:"of so few, all pairs that were looked at allowed for"`
	At       time.Time `json:"at" doc:"the newest such row"`
}

// TableOutliers says which rows of a table stand out.
type TableOutliers struct {
	Dataset string               `json:"dataset"`
	Column  string               `json:"column"`
	From    time.Time            `json:"from"`
	To      time.Time            `json:"to"`
	Rows    int                  `json:"rows" doc:"that were judged"`
	More    bool                 `json:"more" doc:"older rows were not looked at"`
	Few     int                  `json:"too_few" doc:"values of the key with too few rows to judge"`
	Studies []study.OutlierStudy `json:"studies" doc:"one, or one of each value of the key, what stands out farthest first"`
	Pairs   []OddPair            `json:"pairs"`
	SQL     string               `json:"sql" doc:"finds the rows; empty where none stands out"`
}

const (
	mostJudged = 200_000 // rows that are read
	mostKeys   = 1000
	keysInSQL  = 50
)

// Outliers finds the rows of a table that stand out. They are read in the warehouse and
// not kept; the audit trail says who looked.
func (d *Diagnoser) Outliers(ctx context.Context, q InTable, who string) (TableOutliers, error) {
	found := TableOutliers{Dataset: q.Dataset, Column: q.Column, From: q.From, To: q.To, Studies: []study.OutlierStudy{},
		Pairs: []OddPair{}}
	dataset, err := d.store.Dataset(ctx, q.Dataset)
	if err != nil {
		return found, err
	}
	source, err := d.store.Source(ctx, dataset.Source)
	if err != nil {
		return found, err
	}
	if source.Kind != record.SourcePostgreSQL {
		return found, record.Invalid{Field: "dataset", Given: q.Dataset,
			Allowed: "a table of a warehouse; of a file use the command for files"}
	}
	picked, columns, err := d.picked(ctx, q, dataset, source)
	if err != nil {
		return found, err
	}
	entry := record.Audit{At: d.now().UTC(), Who: who, What: "looked at rows", About: q.Dataset, Note: "which stand out by " + q.Column}
	if err := d.store.AddAudit(ctx, entry); err != nil {
		return found, err
	}
	rows, err := d.pools.Read(ctx, source, picked, mostJudged)
	if err != nil {
		return found, record.Conflict{What: reason(err)}
	}
	found.Rows, found.More = len(rows.Value), rows.More
	if err := found.judge(q, rows, picked.Zone); err != nil {
		return found, err
	}
	if len(q.Pairs) == 2 {
		first, second := rows.Also[len(rows.Also)-2], rows.Also[len(rows.Also)-1]
		for _, p := range outlier.Pairs(first, second, 0.05) {
			found.Pairs = append(found.Pairs, OddPair{p.A, p.B, p.Rows, p.Expected, p.P, time.Unix(rows.At[p.First], 0).UTC()})
		}
	}
	if conditions := found.conditions(q); len(conditions) > 0 {
		picked.Conditions = []string{"(" + strings.Join(conditions, "\n    or ") + ")"}
		found.SQL = warehouse.Finding(picked, columns)
	}
	return found, nil
}

// picked says which rows and columns are read, and which may be shown; it refuses those
// that are not there, are never shown, or have no numbers.
func (d *Diagnoser) picked(ctx context.Context, q InTable, dataset record.Dataset, source record.Source) (p warehouse.Picked,
	shown []string, err error) {
	shape, err := d.pools.Shape(ctx, warehouse.Distribution{Source: source, Table: q.Dataset})
	if err != nil {
		return p, nil, record.Conflict{What: reason(err)}
	}
	types := map[string]string{}
	var names, numbers []string
	for _, c := range shape {
		if slices.Contains(dataset.Hidden, c.Name) {
			continue
		}
		types[c.Name] = c.Type
		names = append(names, c.Name)
		if warehouse.Measurable(c.Type) {
			numbers = append(numbers, c.Name)
		}
	}
	if !slices.Contains(numbers, q.Column) {
		return p, nil, record.Invalid{Field: "column", Given: q.Column, Allowed: "a column with numbers that may be shown: " +
			strings.Join(numbers, ", ")}
	}
	p = warehouse.Picked{Table: q.Dataset, Column: q.Column, Time: q.Time, Zone: dataset.Zone, Span: warehouse.Span{From: q.From, To: q.To}}
	if q.Key != "" {
		p.Also = append(p.Also, q.Key)
	}
	p.Also = append(p.Also, q.Pairs...)
	for _, c := range p.Also {
		if types[c] == "" {
			return p, nil, record.Invalid{Field: "column", Given: c, Allowed: "columns that may be shown: " + strings.Join(names, ", ")}
		}
	}
	if p.Time == "" {
		metrics, err := d.store.MetricsOf(ctx, dataset.ID)
		if err != nil {
			return p, nil, err
		}
		for _, m := range metrics {
			if m.TimeColumn != "" {
				p.Time, p.Zone = m.TimeColumn, m.Zone
				break
			}
		}
	}
	switch kind := types[p.Time]; {
	case strings.HasPrefix(kind, "timestamp with time zone"):
		p.TimeType = "timestamptz"
	case strings.HasPrefix(kind, "timestamp"):
		p.TimeType = "timestamp"
	case kind == "date":
		p.TimeType = "date"
	default:
		return p, nil, record.Invalid{Field: "time_column", Given: p.Time,
			Allowed: "a column with the time of each row; no metric of " + q.Dataset + " names one"}
	}
	return p, names, nil
}

// judge judges the rows, by key where there is one.
func (t *TableOutliers) judge(q InTable, rows warehouse.Values, zone string) error {
	groups, order := map[string][]int{}, []string{}
	for i := range rows.Value {
		key := ""
		if q.Key != "" {
			key = rows.Also[0][i]
		}
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], i)
	}
	if len(order) > mostKeys {
		return record.Invalid{Field: "key", Given: q.Key, Allowed: fmt.Sprintf("a column of at most %d values: this has %d",
			mostKeys, len(order))}
	}
	for _, key := range order {
		members := groups[key]
		values := make([]float64, len(members))
		for k, i := range members {
			values[k] = math.NaN()
			if rows.Value[i] != nil {
				values[k] = *rows.Value[i]
			}
		}
		r, err := outlier.Look(values, q.Options)
		if err != nil {
			t.Few++
			continue
		}
		of := q.Column
		if q.Key != "" {
			of += " of " + key
		}
		t.Studies = append(t.Studies, study.Stand(r, study.OutlierStudy{Of: of, Key: key, Zone: zone}, q.Most,
			func(o outlier.Odd) study.Standing {
				at := time.Unix(rows.At[members[o.Index]], 0).UTC()
				return study.Standing{Place: key, At: &at}
			}))
	}
	if len(t.Studies) == 0 {
		return record.Invalid{Field: "from", Given: q.From.Format(time.RFC3339),
			Allowed: fmt.Sprintf("a stretch in which %s has at least %d values", q.Column, outlier.Least)}
	}
	slices.SortStableFunc(t.Studies, study.FarthestFirst)
	return nil
}

// conditions are what the rows fulfil that stand out by any rule.
func (t *TableOutliers) conditions(q InTable) []string {
	var list []string
	for _, s := range t.Studies {
		if len(s.Odd) == 0 || len(list) == keysInSQL {
			continue
		}
		var low, high *float64
		for _, r := range s.Rules {
			if r.Low != nil && (low == nil || *r.Low > *low) {
				low = r.Low
			}
			if r.High != nil && (high == nil || *r.High < *high) {
				high = r.High
			}
		}
		list = append(list, warehouse.Beyond(q.Column, low, high, q.Key, s.Key))
	}
	return list
}
