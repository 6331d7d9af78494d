package warehouse

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
)

// Stretch is what a sample is drawn from, and how many rows of it.
type Stretch struct {
	From, To int64
	Rows     int
}

// SampledRow is one row of a sample: its values in the order of the columns, nil
// where there is none, numbers as float64 and others as string.
type SampledRow struct {
	Stretch int
	Day     int64
	Version string
	Values  []any
}

// Sample draws rows from each of some stretches, every row with the same chance,
// and hands them over one by one.
func (w *Pools) Sample(ctx context.Context, d Distribution, version string, stretches []Stretch, seed uint64, do func(SampledRow)) error {
	columns := []string{d.day(), d.by(version)}
	for _, c := range d.Columns {
		if c.Kind.Numeric() {
			columns = append(columns, finite(d.value(c)))
		} else {
			columns = append(columns, fmt.Sprintf("left(%s, 200)", d.value(c)))
		}
	}
	return w.read(ctx, d.Source, func(tx pgx.Tx) error {
		for i, s := range stretches {
			// A stretch's sample is the same whatever else is drawn with it.
			if err := sow(ctx, tx, seed+uint64(s.From)); err != nil {
				return err
			}
			where, args := d.when(s.From, s.To)
			rows, err := tx.Query(ctx, fmt.Sprintf("select %s from %s where %s order by random() limit %d",
				strings.Join(columns, ", "), d.from(), where, s.Rows), args...)
			if err != nil {
				return err
			}
			r := SampledRow{Stretch: i, Values: make([]any, len(d.Columns))}
			numbers, words := make([]pgtype.Float8, len(d.Columns)), make([]pgtype.Text, len(d.Columns))
			into := []any{&r.Day, &r.Version}
			for j, c := range d.Columns {
				if c.Kind.Numeric() {
					into = append(into, &numbers[j])
				} else {
					into = append(into, &words[j])
				}
			}
			_, err = pgx.ForEachRow(rows, into, func() error {
				for j := range r.Values {
					switch {
					case numbers[j].Valid:
						r.Values[j] = numbers[j].Float64
					case words[j].Valid:
						r.Values[j] = words[j].String
					default:
						r.Values[j] = nil
					}
				}
				do(r)
				return nil
			})
			if err != nil {
				return err
			}
		}
		return nil
	})
}
