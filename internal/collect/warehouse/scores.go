package warehouse

import (
	"context"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5"

	"tinbell/core/drift"
)

// ScoreCount is the rows of a day and version of a model whose scores lie in one
// of a hundred equal bins from 0 to 1; Bin is -1 of others.
type ScoreCount struct {
	Day                 int64
	Version             string
	Rows                int64
	MissingInput        int64
	Above               int64
	Bin                 int
	Known               int64 // rows whose outcome is known
	Positive            int64
	Score, Squares, Hit float64
}

// Scores counts a model's answers by day, version and bin; without a column of
// scores only rows. inputs are the columns of which none should be missing.
func (w *Pools) Scores(ctx context.Context, d Distribution, score, version, outcome string, threshold float64, inputs []string,
	from, to int64) ([]ScoreCount, error) {
	where, args := d.when(from, to)
	lacks, came := "false", "null::boolean"
	if len(inputs) > 0 {
		parts := make([]string, len(inputs))
		for i, column := range inputs {
			parts[i] = name(column) + " is null"
		}
		lacks = strings.Join(parts, " or ")
	}
	if outcome != "" {
		came = fmt.Sprintf("case lower(%[1]s::text) when '1' then true when 'true' then true when 't' then true when 'yes' then true when '0' then false when 'false' then false when 'f' then false when 'no' then false end", name(outcome))
	}
	answer := "null::double precision"
	if score != "" {
		answer = finite(d.value(Distributed{score, drift.Number}))
	}
	args = append(args, threshold)
	sql := fmt.Sprintf(`
		select day, version, count(*), count(*) filter (where lacks), count(*) filter (where s >= $%[8]d), bin,
			count(came) filter (where bin >= 0), count(*) filter (where came and bin >= 0), coalesce(sum(s) filter (where came is not null and bin >= 0), 0),
			coalesce(sum(s * s) filter (where came is not null and bin >= 0), 0), coalesce(sum(s) filter (where came and bin >= 0), 0)
		from (select *, case when s >= 0 and s <= 1 then least(99, floor(s * 100))::int else -1 end as bin
			from (select %[1]s as day, %[2]s as version, (%[3]s) as lacks, %[4]s as came, %[5]s as s from %[6]s where %[7]s) r) q
		group by day, version, bin`, d.day(), d.by(version), lacks, came, answer, d.from(), where, len(args))
	var list []ScoreCount
	err := w.read(ctx, d.Source, func(tx pgx.Tx) error {
		rows, err := tx.Query(ctx, sql, args...)
		if err != nil {
			return err
		}
		list, err = pgx.CollectRows(rows, pgx.RowToStructByPos[ScoreCount])
		return err
	})
	return list, err
}

// Paired sums up two versions of a model on the rows that both scored, told by
// their key.
func (w *Pools) Paired(ctx context.Context, d Distribution, score, version, key, a, b string, threshold float64, from,
	to int64) (drift.Paired, error) {
	where, args := d.when(from, to)
	args = append(args, a, b, threshold)
	n := len(args)
	sql := fmt.Sprintf(`
		with scored as (select %[1]s as key, %[2]s::text as version, avg(%[3]s) as s from %[4]s where %[5]s and %[2]s::text in ($%[6]d, $%[7]d) group by 1, 2)
		select count(*), coalesce(sum(x.s), 0), coalesce(sum(y.s), 0), coalesce(sum(x.s * x.s), 0), coalesce(sum(y.s * y.s), 0), coalesce(sum(x.s * y.s), 0),
			count(*) filter (where (x.s >= $%[8]d) <> (y.s >= $%[8]d))
		from scored x join scored y using (key) where x.version = $%[6]d and y.version = $%[7]d and x.s is not null and y.s is not null`,
		name(key), name(version), finite(d.value(Distributed{score, drift.Number})), d.from(), where, n-2, n-1, n)
	var p drift.Paired
	err := w.read(ctx, d.Source, func(tx pgx.Tx) error {
		return tx.QueryRow(ctx, sql, args...).Scan(&p.Rows, &p.A, &p.B, &p.Squares, &p.SquaresOfB, &p.Product, &p.Apart)
	})
	return p, err
}
