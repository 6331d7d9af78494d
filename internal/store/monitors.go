package store

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/core/detect"
	"tinbell/internal/record"
)

const monitorSelect = `
	select v.id, v.metric_id, v.name, v.owner, v.settings, v.version, v.paused, v.retired_at, v.learned_at, v.snoozed_until,
		v.snoozed_by, v.always_tell, v.created_at, v.budget, v.tags, all_tags(d.tags, m.tags) as inherited,
		m.name as metric, d.name as dataset
	from monitor v join metric m on m.id = v.metric_id join dataset d on d.id = m.dataset_id `

// AddMonitor stores a monitor with its first version and gives its id.
func (s *Store) AddMonitor(ctx context.Context, v record.Monitor) (int64, error) {
	return insert(ctx, s, "monitor "+v.Name, `
		with added as (
			insert into monitor (metric_id, name, owner, settings, tags) values (:metric_id, :name, :owner, :settings, :tags)
			returning id, version, settings)
		insert into monitor_version (monitor_id, version, settings) select id, version, settings from added returning monitor_id`, v)
}

// Change is new settings of a monitor, and who wants them why.
type Change struct {
	Version  int // that they replace
	Settings record.Settings
	Paused   bool
	Author   string
	Reason   string
}

// ChangeMonitor puts new settings in force if the version is still the one the
// person saw, counts the version up and keeps it.
func ChangeMonitor(ctx context.Context, tx pgx.Tx, id int64, c Change) error {
	result, err := tx.Exec(ctx, `
		with changed as (
			update monitor set settings = $3, paused = $4, version = version + 1 where id = $1 and version = $2 returning id, version)
		insert into monitor_version (monitor_id, version, settings, paused, author, reason)
		select id, version, $3, $4, $5, $6 from changed`, id, c.Version, c.Settings, c.Paused, c.Author, c.Reason)
	if err != nil {
		return clash("monitor", err)
	}
	if result.RowsAffected() == 0 {
		return record.Conflict{What: fmt.Sprintf("the monitor has changed since version %d: read it again, then repeat the change", c.Version)}
	}
	return nil
}

// HoldMonitor lets nobody else change a monitor until the transaction ends.
func HoldMonitor(ctx context.Context, tx pgx.Tx, id int64) error {
	if _, err := tx.Exec(ctx, `select 1 from monitor where id = $1 for no key update`, id); err != nil {
		return fmt.Errorf("hold monitor: %w", err)
	}
	return nil
}

// PutBudget keeps how a monitor keeps its budget.
func (s *Store) PutBudget(ctx context.Context, id int64, h record.Budget) error {
	return s.exec(ctx, "monitor", `update monitor set budget = $2 where id = $1`, id, h)
}

// ToldSince counts, by rule, the faults that a monitor has told since an instant and
// nobody calls real or planned, and sums the logarithms of how far they lay over the
// limit. What is open waits for its answer and does not count yet; what has its cause
// with an alert that was a fault is one; what lies beyond bounds that a person gave is
// asked for.
func (s *Store) ToldSince(ctx context.Context, monitor int64, from time.Time) ([]Told, error) {
	return many[Told](ctx, s, "alerts", `
		select cause, count(*) as n, sum(logs) as logs from (
			select cause, avg(ln(greatest(strength, 1))) as logs from alert
			where monitor_id = $1 and raised_at >= $2 and not from_history and not planned and cause <> 'bound'
				and (verdict = 'noise' or verdict = '' and closed_at is not null
					and not exists (select from alert other where other.group_id = alert.group_id and other.verdict = 'fault'))
			group by cause, coalesce(group_id, -id)) as told
		group by cause`, monitor, from)
}

// Told is what one rule of a monitor told.
type Told struct {
	Cause detect.Cause `db:"cause"`
	N     int          `db:"n"`
	Logs  float64      `db:"logs"`
}

// Renamed is what changes of a monitor beside its settings; nil stays.
type Renamed struct {
	Name    *string
	Owner   *string
	Tags    *record.Strings
	Retired *time.Time // zero: it is needed again
}

// RenameMonitor changes what a monitor is called, whose it is, or whether it is needed.
func RenameMonitor(ctx context.Context, tx pgx.Tx, id int64, c Renamed) error {
	set := func(statement string, v any) error {
		if _, err := tx.Exec(ctx, statement, id, v); err != nil {
			return clash("monitor", err)
		}
		return nil
	}
	var err error
	if c.Name != nil {
		err = set(`update monitor set name = $2 where id = $1`, *c.Name)
	}
	if c.Owner != nil && err == nil {
		err = set(`update monitor set owner = $2 where id = $1`, *c.Owner)
	}
	if c.Tags != nil && err == nil {
		err = set(`update monitor set tags = $2 where id = $1`, *c.Tags)
	}
	if c.Retired != nil && err == nil {
		err = set(`update monitor set retired_at = $2 where id = $1`, nullTime(*c.Retired))
	}
	return err
}

// RemoveMonitor removes a monitor with its alerts and what was said of them.
func (s *Store) RemoveMonitor(ctx context.Context, name string) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		datasets, err := ids(ctx, tx, `select m.dataset_id from monitor v join metric m on m.id = v.metric_id where v.name = $1`, name)
		if err != nil {
			return fmt.Errorf("remove monitor %s: %w", name, err)
		}
		if err := aloneOn(ctx, tx, datasets); err != nil {
			return err
		}
		result, err := tx.Exec(ctx, `delete from monitor where name = $1`, name)
		if err != nil {
			return fmt.Errorf("remove monitor %s: %w", name, err)
		}
		if result.RowsAffected() == 0 {
			return record.NotFound{Kind: "monitor", Name: name}
		}
		return Notify(ctx, tx, TopicAlerts)
	})
}

// SetAlwaysTell says whether the filter may hold a monitor's alerts back.
func (s *Store) SetAlwaysTell(ctx context.Context, id int64, always bool) error {
	return s.exec(ctx, "monitor", `update monitor set always_tell = $2 where id = $1`, id, always)
}

func (s *Store) Monitors(ctx context.Context) ([]record.Monitor, error) {
	return many[record.Monitor](ctx, s, "monitors", monitorSelect+`order by v.name`)
}

func (s *Store) Monitor(ctx context.Context, name string) (record.Monitor, error) {
	return one[record.Monitor](ctx, s, "monitor", name, monitorSelect+`where v.name = $1`, name)
}

func (s *Store) MonitorByID(ctx context.Context, id int64) (record.Monitor, error) {
	return one[record.Monitor](ctx, s, "monitor", "", monitorSelect+`where v.id = $1`, id)
}

func (s *Store) MonitorsOf(ctx context.Context, metric int64) ([]record.Monitor, error) {
	return many[record.Monitor](ctx, s, "monitors", monitorSelect+`where v.metric_id = $1 order by v.id`, metric)
}

// MonitorsOn gives the monitors on a dataset's metrics, by name.
func (s *Store) MonitorsOn(ctx context.Context, dataset string) ([]record.Monitor, error) {
	return many[record.Monitor](ctx, s, "monitors", monitorSelect+`where d.name = $1 order by v.name`, dataset)
}

// LearnedMonitor says when a monitor was last fitted, from how old a history, and
// whether some of its series still wait for a baseline.
type LearnedMonitor struct {
	ID        int64      `db:"id"`
	LearnedAt time.Time  `db:"learned_at"`
	From      *time.Time `db:"trained_from"`
	Waiting   bool       `db:"waiting"`
	Other     bool       `db:"other"` // a series became another one, and there is enough of that to fit it by
}

// LearnedMonitors gives the monitors that were fitted, longest ago first, as they are at an
// instant.
func (s *Store) LearnedMonitors(ctx context.Context, now time.Time) ([]LearnedMonitor, error) {
	return many[LearnedMonitor](ctx, s, "fitted monitors", `
		select v.id, v.learned_at, min(b.trained_from) as trained_from,
			count(b.series_id) < (select count(*) from series s where s.metric_id = v.metric_id) as waiting,
			coalesce(bool_or(b.fitted_at < b.refit_at and b.refit_at <= $1), false) as other
		from monitor v left join baseline b on b.monitor_id = v.id
		where v.learned_at is not null and not v.paused group by v.id order by v.learned_at`, now)
}

// UnfittedMonitors gives the monitors that were never fitted.
func (s *Store) UnfittedMonitors(ctx context.Context) ([]int64, error) {
	return many[int64](ctx, s, "monitors",
		`select id from monitor where learned_at is null and not paused and created_at < now() - interval '10 seconds'`)
}

// CameUnfitted keeps that samples from a time on came to monitors of a metric that
// were never fitted, in the transaction that writes them.
func CameUnfitted(ctx context.Context, tx pgx.Tx, metric int64, from time.Time) error {
	_, err := tx.Exec(ctx, `
		update monitor set news_from = least(news_from, $2)
		where metric_id = $1 and learned_at is null and (news_from is null or news_from > $2)`, metric, from)
	if err != nil {
		return fmt.Errorf("write monitor: %w", err)
	}
	return nil
}

// NewsFrom gives from when on samples came to a monitor before it was fitted; zero
// if none did.
func (s *Store) NewsFrom(ctx context.Context, monitor int64) (time.Time, error) {
	at, err := one[*time.Time](ctx, s, "monitor", "", `select news_from from monitor where id = $1`, monitor)
	if err != nil || at == nil {
		return time.Time{}, err
	}
	return *at, nil
}

// LockMonitor makes the transaction the only one that judges the monitor, whose dataset
// stays meanwhile.
func LockMonitor(ctx context.Context, tx pgx.Tx, id int64) error {
	datasets, err := ids(ctx, tx, `select m.dataset_id from monitor v join metric m on m.id = v.metric_id where v.id = $1`, id)
	if err != nil {
		return fmt.Errorf("lock monitor: %w", err)
	}
	if err := Stay(ctx, tx, datasets...); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `select pg_advisory_xact_lock($1, $2)`, lockMonitor, int32(id))
	return err
}

// Learned notes when a monitor's baselines were fitted, and gives from when on
// samples had come before; zero if none had.
func Learned(ctx context.Context, tx pgx.Tx, monitor int64, at time.Time) (came time.Time, err error) {
	var from *time.Time
	err = tx.QueryRow(ctx, `
		update monitor m set learned_at = $2, news_from = null from (select id, news_from from monitor where id = $1 for update) was
		where m.id = was.id returning was.news_from`, monitor, at).Scan(&from)
	if errors.Is(err, pgx.ErrNoRows) || err == nil && from == nil {
		return time.Time{}, nil
	}
	if err != nil {
		return time.Time{}, fmt.Errorf("write monitor: %w", err)
	}
	return *from, nil
}

// Baselines gives the fitted baselines of some of a monitor's series, by series.
func (s *Store) Baselines(ctx context.Context, monitor int64, series []int64) (map[int64]record.Baseline, error) {
	return s.baselines(ctx, `select * from baseline where monitor_id = $1 and series_id = any($2)`, monitor, series)
}

// BaselinesBehind is Baselines for judging, each with the one state that is gone on
// from, and up to when it stands: the newest that is kept where nothing changed
// before it, else the one right after fitting; none where nothing is new, which is
// judged up to an instant.
func (s *Store) BaselinesBehind(ctx context.Context, monitor int64, series []int64, changed []time.Time,
	to time.Time) (map[int64]record.Baseline, error) {
	return s.baselines(ctx, `
		select monitor_id, series_id, trained_to, judged_to, again, case when kept then stood else trained_to end as state_to,
			case when kept and (again or judged_to < $4) then judged else ''::bytea end as judged,
			case when kept then ''::bytea else fitted end as fitted
		from (select b.*, stood, judged_to > s.changed as again, not (judged_to > s.changed and stood > s.changed) as kept
			from unnest($2::bigint[], $3::timestamptz[]) as s(id, changed)
			join baseline b on b.monitor_id = $1 and b.series_id = s.id
			cross join lateral (select coalesce(b.state_to, b.judged_to) as stood) l) b`, monitor, series, changed, to)
}

// OldestTraining gives from how old a history a monitor was fitted; zero where it
// was not.
func (s *Store) OldestTraining(ctx context.Context, monitor int64) (time.Time, error) {
	at, err := one[*time.Time](ctx, s, "oldest history", "", `select min(trained_from) from baseline where monitor_id = $1`, monitor)
	if err != nil || at == nil {
		return time.Time{}, err
	}
	return *at, nil
}

func (s *Store) baselines(ctx context.Context, query string, args ...any) (map[int64]record.Baseline, error) {
	// By the driver's own rows: database/sql would copy each large state once more.
	rows, err := s.querier().Query(ctx, query, args...)
	if err != nil {
		return nil, fmt.Errorf("read baselines: %w", err)
	}
	list, err := pgx.CollectRows(rows, pgx.RowToStructByNameLax[record.Baseline])
	if err != nil {
		return nil, fmt.Errorf("read baselines: %w", err)
	}
	bySeries := make(map[int64]record.Baseline, len(list))
	for _, b := range list {
		bySeries[b.SeriesID] = b
	}
	return bySeries, nil
}

// PutBaseline stores a freshly fitted baseline.
func PutBaseline(ctx context.Context, tx pgx.Tx, b record.Baseline) error {
	_, err := tx.Exec(ctx, `
		insert into baseline (monitor_id, series_id, fitted_at, trained_from, trained_to, excluded, fitted, judged, judged_to, state_to, message, refit_at)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $9, $10, $11)
		on conflict (monitor_id, series_id) do update set fitted_at = excluded.fitted_at, trained_from = excluded.trained_from,
			trained_to = excluded.trained_to, excluded = excluded.excluded, fitted = excluded.fitted,
			judged = excluded.judged, judged_to = excluded.judged_to, state_to = excluded.state_to, message = excluded.message,
			refit_at = excluded.refit_at`,
		b.MonitorID, b.SeriesID, b.FittedAt, b.TrainedFrom, b.TrainedTo, b.Excluded, b.Fitted, b.Judged, b.JudgedTo, b.Message, b.RefitAt)
	if err != nil {
		return fmt.Errorf("write baseline: %w", err)
	}
	return nil
}

// Judged is how far a series has been judged, and the state there; without one the
// older state stays, to be stepped forward from where it stands.
type Judged struct {
	SeriesID int64
	State    []byte
	To       time.Time
	RefitAt  *time.Time // goes with the state
}

// PutJudged keeps how far a monitor's series have been judged, all in one
// statement: a monitor may have thousands.
func PutJudged(ctx context.Context, tx pgx.Tx, monitor int64, list []Judged) error {
	var older []int64
	var reached []time.Time
	var series []int64
	var states [][]byte
	var ends []time.Time
	var refits []*time.Time
	for _, j := range list {
		if j.State == nil {
			older, reached = append(older, j.SeriesID), append(reached, j.To)
			continue
		}
		series, states, ends = append(series, j.SeriesID), append(states, j.State), append(ends, j.To)
		refits = append(refits, j.RefitAt)
	}
	if len(older) > 0 {
		if _, err := tx.Exec(ctx, `
			update baseline b set judged_to = v.judged_to from (select unnest($2::bigint[]) as series_id, unnest($3::timestamptz[]) as judged_to) v
			where b.monitor_id = $1 and b.series_id = v.series_id`, monitor, older, reached); err != nil {
			return fmt.Errorf("write judged state: %w", err)
		}
	}
	if len(series) == 0 {
		return nil
	}
	_, err := tx.Exec(ctx, `
		update baseline b set judged = v.judged, judged_to = v.judged_to, state_to = v.judged_to, refit_at = v.refit_at
		from (select unnest($2::bigint[]) as series_id, unnest($3::bytea[]) as judged, unnest($4::timestamptz[]) as judged_to,
			unnest($5::timestamptz[]) as refit_at) v
		where b.monitor_id = $1 and b.series_id = v.series_id`, monitor, series, states, ends, refits)
	if err != nil {
		return fmt.Errorf("write judged state: %w", err)
	}
	return nil
}

// MonitorsOfAlerts gives the fitted monitors that raised the alerts.
func MonitorsOfAlerts(ctx context.Context, tx pgx.Tx, alerts []int64) ([]int64, error) {
	return ids(ctx, tx, `
		select distinct v.id from alert a join monitor v on v.id = a.monitor_id where a.id = any($1) and v.learned_at is not null`, alerts)
}

// MonitorsOfDatasets gives the fitted monitors on the datasets; an empty name
// stands for all of them.
func MonitorsOfDatasets(ctx context.Context, tx pgx.Tx, datasets []string) ([]int64, error) {
	return ids(ctx, tx, `
		select v.id from monitor v join metric m on m.id = v.metric_id join dataset d on d.id = m.dataset_id
		where v.learned_at is not null and (d.name = any($1) or '' = any($1))`, datasets)
}

// ids runs a statement that gives ids.
func ids(ctx context.Context, tx pgx.Tx, query string, args ...any) ([]int64, error) {
	rows, err := tx.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[int64])
}

// FirstJudged is the earliest moment each fitted monitor could have raised an alert: its
// first history and the longest warm-up, or when it was in force.
type FirstJudged struct {
	Monitor int64     `db:"monitor_id"`
	At      time.Time `db:"at"`
	Long    bool      `db:"long"` // its periods are longer than a day
}

// FirstJudged lists from when on monitors judge.
func (s *Store) FirstJudged(ctx context.Context) ([]FirstJudged, error) {
	return many[FirstJudged](ctx, s, "first judgements", `
		select b.monitor_id, metric.period_seconds > 86400 as long,
			least(monitor.learned_at, min(b.trained_from) + greatest(interval '35 days', case when metric.period_seconds > 86400
				then 18 * metric.period_seconds * interval '1 second' end)) as at
		from baseline b join monitor on monitor.id = b.monitor_id join metric on metric.id = monitor.metric_id
		group by b.monitor_id, monitor.learned_at, metric.period_seconds`)
}

// Behind tells how many fitted series are not judged up to an instant.
func (s *Store) Behind(ctx context.Context, to time.Time) (int, error) {
	return one[int](ctx, s, "baselines", "", `select count(*)::int from baseline where judged_to < $1`, to)
}

// JudgedTo tells how many series are judged up to an instant.
func (s *Store) JudgedTo(ctx context.Context, to time.Time) (int, error) {
	return one[int](ctx, s, "baselines", "", `select count(*)::int from baseline where judged_to >= $1`, to)
}
