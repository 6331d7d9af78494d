package store

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Learning gives how the service learns.
func (s *Store) Learning(ctx context.Context) (record.Learning, error) {
	return one[record.Learning](ctx, s, "learning", "", `
		select state, limit_lost, nightly, tuned_at, model, learned_at, changed_by, changed_at from learning`)
}

// SetLearning changes how the service learns.
func (s *Store) SetLearning(ctx context.Context, state record.FilterState, limit float64, nightly bool, by string) error {
	return s.exec(ctx, "learning", `
		update learning set state = $1, limit_lost = $2, nightly = $3, changed_by = $4, changed_at = now()`, state, limit, nightly, by)
}

// PutModel keeps a filter that was learned, and by alert the chance that it sees.
func (s *Store) PutModel(ctx context.Context, m record.Model, at time.Time, alerts []int64, chances []float64) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update learning set model = $1, learned_at = $2`, m, at); err != nil {
			return fmt.Errorf("write filter: %w", err)
		}
		_, err := tx.Exec(ctx, `
			with v as (select unnest($1::bigint[]) as id, unnest($2::float8[]) as chance),
				held as (select a.id, v.chance from alert a join v on v.id = a.id where a.chance is distinct from v.chance
					order by a.id for update of a)
			update alert set chance = held.chance from held where alert.id = held.id`, alerts, chances)
		if err != nil {
			return fmt.Errorf("write chances: %w", err)
		}
		return nil
	})
}

// Surround counts what surrounded alerts of a monitor when they opened; ids nil
// for all of them.
func Surround(ctx context.Context, tx pgx.Tx, monitor int64, ids []int64) error {
	_, err := tx.Exec(ctx, `
		update alert a set
			recent = (select count(*) from alert b where b.series_id = a.series_id and b.monitor_id = a.monitor_id
				and b.raised_at < a.raised_at and b.raised_at > a.raised_at - interval '14 days'),
			company = (select count(distinct b.series_id) from alert b where b.monitor_id = a.monitor_id and b.series_id <> a.series_id
				and b.raised_at <= a.raised_at and b.raised_at >= a.raised_at - interval '1 hour')
		where a.monitor_id = $1 and ($2::bigint[] is null or a.id = any($2))`, monitor, ids)
	if err != nil {
		return fmt.Errorf("count what surrounds alerts: %w", err)
	}
	return nil
}

// AlertsIn gives alerts by id as the transaction sees them.
func AlertsIn(ctx context.Context, tx pgx.Tx, ids []int64) ([]record.Alert, error) {
	rows, err := tx.Query(ctx, withEvidence+`where a.id = any($1)`, ids)
	if err != nil {
		return nil, fmt.Errorf("read alerts: %w", err)
	}
	return pgx.CollectRows(rows, pgx.RowToStructByNameLax[record.Alert])
}

// PutHeld keeps what the filter made of an alert.
func PutHeld(ctx context.Context, tx pgx.Tx, id int64, chance float64, held record.Held, why string) error {
	_, err := tx.Exec(ctx, `update alert set chance = $2, held = $3, held_why = $4 where id = $1`, id, chance, held, why)
	return err
}

// Release lets alerts through that the filter held back.
func (s *Store) Release(ctx context.Context) error {
	return s.exec(ctx, "alerts", `
		with released as (update alert set held = '' where held = 'held' and closed_at is null returning id)
		insert into alert_change (alert_id) select id from released`)
}

// AddStretch keeps a verdict on a stretch.
func AddStretch(ctx context.Context, tx pgx.Tx, v record.Stretch) (id int64, err error) {
	err = tx.QueryRow(ctx, `
		insert into stretch (series_id, from_at, to_at, verdict, cause, note, author, at, incident)
		values ($1, $2, $3, $4, $5, $6, $7, $8, $9) returning id`,
		v.SeriesID, v.From, v.To, v.Verdict, v.Cause, v.Note, v.Author, v.At, v.Incident).Scan(&id)
	if err != nil {
		return 0, clash("stretch", err)
	}
	return id, nil
}

// Stretches gives the verdicts on stretches of some series, oldest first; nil
// for all.
func (s *Store) Stretches(ctx context.Context, series []int64) ([]record.Stretch, error) {
	return many[record.Stretch](ctx, s, "stretches",
		`select * from stretch where $1::bigint[] is null or series_id = any($1) order by from_at`, series)
}

// DropStretch takes a verdict on a stretch back.
func DropStretch(ctx context.Context, tx pgx.Tx, id int64) error {
	result, err := tx.Exec(ctx, `delete from stretch where id = $1`, id)
	if err == nil && result.RowsAffected() == 0 {
		return record.NotFound{Kind: "stretch", Name: fmt.Sprint(id)}
	}
	return err
}

// MonitorVersions gives what a monitor was set to, newest first.
func (s *Store) MonitorVersions(ctx context.Context, monitor int64) ([]record.MonitorVersion, error) {
	return many[record.MonitorVersion](ctx, s, "versions", `
		select version, settings, paused, author, reason, at from monitor_version where monitor_id = $1 order by version desc`, monitor)
}

const proposalSelect = `
	select p.*, v.name as monitor, d.name as dataset from proposal p join monitor v on v.id = p.monitor_id
	join metric m on m.id = v.metric_id join dataset d on d.id = m.dataset_id `

// PutProposals keeps what a tuning proposes for the monitors it looked at; open
// proposals made before for them are outdated.
func (s *Store) PutProposals(ctx context.Context, monitors []int64, list []record.Proposal, at time.Time) error {
	return s.InTx(ctx, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `update proposal set state = 'outdated' where state = 'open' and monitor_id = any($1)`,
			monitors); err != nil {
			return fmt.Errorf("write proposals: %w", err)
		}
		for _, p := range list {
			if _, err := tx.Exec(ctx, `insert into proposal (monitor_id, version, settings, gain, made_at) values ($1, $2, $3, $4, $5)`,
				p.MonitorID, p.Version, p.Settings, p.Gain, at); err != nil {
				return fmt.Errorf("write proposals: %w", err)
			}
		}
		if _, err := tx.Exec(ctx, `update learning set tuned_at = $1`, at); err != nil {
			return err
		}
		return Notify(ctx, tx, TopicAlerts)
	})
}

// Proposals gives proposals, newest first; state empty for all.
func (s *Store) Proposals(ctx context.Context, state record.ProposalState) ([]record.Proposal, error) {
	return many[record.Proposal](ctx, s, "proposals", proposalSelect+`where $1 = '' or p.state = $1 order by p.id desc limit 500`, state)
}

func (s *Store) Proposal(ctx context.Context, id int64) (record.Proposal, error) {
	return one[record.Proposal](ctx, s, "proposal", fmt.Sprint(id), proposalSelect+`where p.id = $1`, id)
}

// Decide closes an open proposal; ok is false if somebody decided before.
func Decide(ctx context.Context, tx pgx.Tx, id int64, state record.ProposalState, by, note string) (ok bool, err error) {
	result, err := tx.Exec(ctx, `
		update proposal set state = $2, decided_by = $3, decided_at = now(), note = $4 where id = $1 and state = 'open'`, id,
		state, by, note)
	if err != nil {
		return false, fmt.Errorf("decide on proposal %d: %w", id, err)
	}
	return result.RowsAffected() > 0, nil
}

// EndTaskWith keeps what a task came to.
func (s *Store) EndTaskWith(ctx context.Context, id int64, result any) error {
	text, err := json.Marshal(result)
	if err != nil {
		return err
	}
	return s.exec(ctx, "task", `
		update task set state = 'done', done = total, result = $2, finished_at = now() where id = $1 and state = 'running'`, id,
		string(text))
}

// SeriesCounts tells of each metric how many series it has.
func (s *Store) SeriesCounts(ctx context.Context) (map[int64]int, error) {
	type row struct {
		Metric int64 `db:"metric_id"`
		N      int   `db:"n"`
	}
	rows, err := many[row](ctx, s, "series", `select metric_id, count(*) as n from series group by metric_id`)
	counts := make(map[int64]int, len(rows))
	for _, r := range rows {
		counts[r.Metric] = r.N
	}
	return counts, err
}
