package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

const comparisonSelect = `select c.*, d.name as dataset, d.zone from comparison c join dataset d on d.id = c.dataset_id `

// Comparisons gives all drift comparisons.
func (s *Store) Comparisons(ctx context.Context) ([]record.Comparison, error) {
	return many[record.Comparison](ctx, s, "comparisons", comparisonSelect+`order by c.name`)
}

func (s *Store) Comparison(ctx context.Context, name string) (record.Comparison, error) {
	return one[record.Comparison](ctx, s, "comparison", name, comparisonSelect+`where c.name = $1`, name)
}

// ErrReplaced tells that a comparison was set anew, or is to be computed anew,
// since it was read: what was computed of it does not count.
var ErrReplaced = errors.New("the comparison was set anew meanwhile")

// still makes sure that a comparison is as it was read, until the transaction
// ends.
func still(ctx context.Context, tx pgx.Tx, v record.Comparison) error {
	var one int
	err := tx.QueryRow(ctx, `select 1 from comparison where id = $1 and revision = $2 for no key update`, v.ID, v.Revision).Scan(&one)
	if errors.Is(err, pgx.ErrNoRows) {
		return ErrReplaced
	}
	if err != nil {
		return fmt.Errorf("read comparison %s: %w", v.Name, err)
	}
	return nil
}

// DueComparisons gives those that should run by now, and asks for them again at
// another time unless a run ends before.
func (s *Store) DueComparisons(ctx context.Context, now, again time.Time) ([]string, error) {
	return many[string](ctx, s, "comparisons", `update comparison set next_at = $2 where next_at <= $1 returning name`, now, again)
}

// HoldComparison lets one process at a time run a comparison, as Hold does for
// tasks.
func (s *Store) HoldComparison(ctx context.Context, id int64) (release func(), held bool, err error) {
	return s.hold(ctx, lockComparison, id)
}

// OrderComparison has a comparison run now, and gives the task that tells how far
// it is: that of a run under way, if it has one.
func OrderComparison(ctx context.Context, tx pgx.Tx, v record.Comparison, now time.Time) (task int64, err error) {
	err = tx.QueryRow(ctx, `select task_id from comparison where id = $1 for no key update`, v.ID).Scan(&task)
	if err == nil && task == 0 {
		err = tx.QueryRow(ctx, `insert into task (what, subject) values ('drift', $1) returning id`, v.Name).Scan(&task)
	}
	if err == nil {
		_, err = tx.Exec(ctx, `update comparison set next_at = $3, task_id = $2 where id = $1`, v.ID, task, now)
	}
	if err != nil {
		return 0, fmt.Errorf("order comparison: %w", err)
	}
	return task, nil
}

// ComparisonProgress keeps how far a run is, under the task that was ordered before
// it or meanwhile.
func (s *Store) ComparisonProgress(ctx context.Context, id int64, done, total int) error {
	return s.exec(ctx, "task", `
		update task set done = $2, total = $3, touched_at = now() from comparison
		where comparison.id = $1 and task.id = comparison.task_id`, id, done, total)
}

// SetComparison adds a comparison or replaces the settings of the one of that
// name. What was computed under other settings is dropped.
func SetComparison(ctx context.Context, tx pgx.Tx, v record.Comparison) (id int64, err error) {
	var same bool
	err = tx.QueryRow(ctx, `
		insert into comparison (dataset_id, name, owner, settings, features, next_at)
		select d.id, $2, $3, $4, $5, $6 from dataset d where d.name = $1
		on conflict (name) do update set dataset_id = excluded.dataset_id, owner = excluded.owner,
			settings = excluded.settings, features = excluded.features, next_at = excluded.next_at
		returning id, coalesce((select o.settings = $4::jsonb and o.dataset_id = comparison.dataset_id from comparison o
			where o.name = $2), true)`, v.Dataset, v.Name, v.Owner, v.Settings, v.Features, v.NextAt).Scan(&id, &same)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, record.NotFound{Kind: "dataset", Name: v.Dataset}
	}
	if err != nil {
		return 0, clash("comparison "+v.Name, err)
	}
	if same {
		return id, Notify(ctx, tx, TopicDrift)
	}
	return id, ForgetComputed(ctx, tx, id)
}

// ForgetComputed drops what a comparison has counted and found: it is computed
// anew.
func ForgetComputed(ctx context.Context, tx pgx.Tx, id int64) error {
	for _, statement := range []string{
		`delete from drift_day where comparison_id = $1`, `delete from drift_period where comparison_id = $1`,
		`update comparison set layouts = '[]', referred = '{}', computed_to = null, counted_to = null, state = 'new',
			message = '', revision = revision + 1 where id = $1`,
	} {
		if _, err := tx.Exec(ctx, statement, id); err != nil {
			return fmt.Errorf("drop what was computed: %w", err)
		}
	}
	return Notify(ctx, tx, TopicDrift)
}

// DropComparison removes a comparison with all that it found; its series stay.
func (s *Store) DropComparison(ctx context.Context, name string) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update metric set comparison = '' where comparison = $1`, name); err != nil {
			return fmt.Errorf("drop comparison: %w", err)
		}
		result, err := tx.Exec(ctx, `delete from comparison where name = $1`, name)
		if err != nil {
			return fmt.Errorf("drop comparison: %w", err)
		}
		if result.RowsAffected() == 0 {
			return record.NotFound{Kind: "comparison", Name: name}
		}
		return Notify(ctx, tx, TopicDrift)
	})
}

// DriftDay is the counts of one day, as the package that counts writes them.
type DriftDay struct {
	Day    time.Time `db:"day"`
	Counts []byte    `db:"counts"`
}

// DriftDays gives the counted days of one side of a comparison in [from, to),
// ascending.
func (s *Store) DriftDays(ctx context.Context, comparison int64, reference bool, from, to time.Time) ([]DriftDay, error) {
	return many[DriftDay](ctx, s, "counts", `
		select day, counts from drift_day where comparison_id = $1 and reference = $2 and day >= $3 and day < $4 order by day`,
		comparison, reference, from, to)
}

// PutDriftDays keeps the counts of days, in the place of those there were in
// [from, to), and that a run has come so far.
func PutDriftDays(ctx context.Context, tx pgx.Tx, v record.Comparison, reference bool, from, to time.Time, days []DriftDay) error {
	if err := still(ctx, tx, v); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `delete from drift_day where comparison_id = $1 and reference = $2 and day >= $3 and day < $4`,
		v.ID, reference, from, to); err != nil {
		return fmt.Errorf("write counts: %w", err)
	}
	rows := make([][]any, len(days))
	for i, d := range days {
		rows[i] = []any{v.ID, reference, d.Day, d.Counts}
	}
	if _, err := tx.CopyFrom(ctx, pgx.Identifier{"drift_day"}, []string{"comparison_id", "reference", "day", "counts"},
		pgx.CopyFromRows(rows)); err != nil {
		return fmt.Errorf("write counts: %w", err)
	}
	if reference {
		return nil
	}
	if _, err := tx.Exec(ctx, `update comparison set counted_to = $2 where id = $1`, v.ID, to); err != nil {
		return fmt.Errorf("write counts: %w", err)
	}
	return nil
}

// driftPeriod are the columns of a period.
const driftPeriod = `select comparison_id, from_at, to_at, found, computed_at from drift_period `

// DriftPeriods gives what a comparison found in the periods that begin in
// [from, to), ascending.
func (s *Store) DriftPeriods(ctx context.Context, comparison int64, from, to time.Time) ([]record.DriftPeriod, error) {
	return many[record.DriftPeriod](ctx, s, "periods",
		driftPeriod+`where comparison_id = $1 and from_at >= $2 and from_at < $3 order by from_at`, comparison, from, to)
}

// LastDriftPeriods gives the last periods of a comparison, ascending.
func (s *Store) LastDriftPeriods(ctx context.Context, comparison int64, most int) ([]record.DriftPeriod, error) {
	list, err := many[record.DriftPeriod](ctx, s, "periods",
		driftPeriod+`where comparison_id = $1 order by from_at desc limit $2`, comparison, most)
	slices.Reverse(list)
	return list, err
}

// DriftPeriodAt gives the period of a comparison that an instant lies in.
func (s *Store) DriftPeriodAt(ctx context.Context, v record.Comparison, at time.Time) (record.DriftPeriod, error) {
	return one[record.DriftPeriod](ctx, s, "period of comparison "+v.Name, at.Format(time.DateOnly), driftPeriod+`
		where comparison_id = $1 and from_at <= $2 and to_at > $2 order by from_at desc limit 1`, v.ID, at)
}

// DriftOver is how many features were over their limits in a period.
type DriftOver struct {
	ComparisonID int64     `db:"comparison_id"`
	From         time.Time `db:"from_at"`
	Over         int       `db:"over"`
}

// DriftOvers gives how many features were over their limits in each period of all
// comparisons, ascending.
func (s *Store) DriftOvers(ctx context.Context) ([]DriftOver, error) {
	return many[DriftOver](ctx, s, "periods", `select comparison_id, from_at, over from drift_period order by comparison_id, from_at`)
}

// DriftStates gives the states of a feature, by its place, in the periods up to
// one, the latest first.
func (s *Store) DriftStates(ctx context.Context, comparison int64, place int, upTo time.Time) ([]string, error) {
	return many[string](ctx, s, "periods", `
		select coalesce(found->'features'->$2::int->>'state', '') from drift_period
		where comparison_id = $1 and from_at <= $3 order by from_at desc limit 500`, comparison, place, upTo)
}

// PutDriftPeriods keeps what was found in some periods.
func PutDriftPeriods(ctx context.Context, tx pgx.Tx, v record.Comparison, periods []record.DriftPeriod) error {
	if err := still(ctx, tx, v); err != nil {
		return err
	}
	for _, p := range periods {
		_, err := tx.Exec(ctx, `
			insert into drift_period (comparison_id, from_at, to_at, over, found, computed_at) values ($1, $2, $3, $6, $4, $5)
			on conflict (comparison_id, from_at) do update set to_at = excluded.to_at, over = excluded.over,
				found = excluded.found, computed_at = excluded.computed_at`,
			p.ComparisonID, p.From, p.To, p.Found, p.ComputedAt, p.Found.Over)
		if err != nil {
			return fmt.Errorf("write period: %w", err)
		}
	}
	return Notify(ctx, tx, TopicDrift)
}

// ComputedTo keeps up to when periods have been judged and their series written.
func ComputedTo(ctx context.Context, tx pgx.Tx, v record.Comparison, to time.Time) error {
	if err := still(ctx, tx, v); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `update comparison set computed_to = $2, referred = $3 where id = $1`, v.ID, to, v.Referred); err != nil {
		return fmt.Errorf("write comparison: %w", err)
	}
	return nil
}

// KeepLayouts keeps how a comparison's features are counted, and which they are.
func KeepLayouts(ctx context.Context, tx pgx.Tx, v record.Comparison) error {
	if err := still(ctx, tx, v); err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, `update comparison set features = $2, layouts = $3, referred = $4 where id = $1`, v.ID, v.Features,
		v.Layouts, v.Referred); err != nil {
		return fmt.Errorf("write layouts: %w", err)
	}
	return nil
}

// Ran keeps how a run of a comparison ended, and gives the task that waits for it:
// one may have been ordered while it ran.
func (s *Store) Ran(ctx context.Context, v record.Comparison) (task int64, err error) {
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		if err := still(ctx, tx, v); err != nil {
			return err
		}
		if err := tx.QueryRow(ctx, `select task_id from comparison where id = $1`, v.ID).Scan(&task); err != nil {
			return fmt.Errorf("read comparison %s: %w", v.Name, err)
		}
		_, err := tx.Exec(ctx, `update comparison set state = $2, message = $3, run_at = $4, next_at = $5,
			counted_to = case when $2 = 'failed' then counted_to end, task_id = 0, failing_since = $6 where id = $1`,
			v.ID, v.State, v.Message, v.RunAt, v.NextAt, v.FailingSince)
		if err != nil {
			return fmt.Errorf("write comparison: %w", err)
		}
		return Notify(ctx, tx, TopicDrift)
	})
	return task, err
}
