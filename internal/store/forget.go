package store

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Keep says for how many days what grows is kept; 0: for ever.
type Keep struct {
	Samples int // where a dataset has no rule of its own
	Records int // runs, loads, messages, finished tasks, versions of columns, periods of drift, proposals that were decided
	Audit   int // the audit trail
}

// forgetStep is how many rows go in one statement, forgetSteps how many statements in a
// round for each kind: nothing waits long for either.
const forgetStep, forgetSteps = 5000, 40

// old are the rows that go once they are older than $1, kind by kind. What somebody set up,
// said or was told of faults stays: alerts, labels, incidents, notes.
var old = map[string]string{
	"runs":  `delete from run where id in (select id from run where heard_at < $1 order by heard_at limit $2)`,
	"loads": `delete from load where ctid in (select ctid from load where at < $1 limit $2)`,
	"messages": `delete from message where id in (select id from message where created_at < $1 and state <> 'waiting'
		order by created_at limit $2)`,
	"tasks": `delete from task where id in (select id from task where finished_at < $1 limit $2)`,
	"proposals": `delete from proposal where id in (select id from proposal
		where state <> 'open' and coalesce(decided_at, made_at) < $1 limit $2)`,
	"column versions": `delete from column_version v
		where id in (select id from column_version o
		where seen_at < $1 and exists (select from column_version n
		where n.dataset_id = o.dataset_id and n.seen_at > o.seen_at) limit $2)`,
	"periods of drift": `delete from drift_period where ctid in (select ctid from drift_period where to_at < $1 limit $2)`,
	"days of drift":    `delete from drift_day where ctid in (select ctid from drift_day where day < $1 and not reference limit $2)`,
	"days of SLAs":     `delete from sla_day where ctid in (select ctid from sla_day where due_at < $1 limit $2)`,
}

// ForgetRecords drops what is older than is kept, in bounded steps, and tells how much of
// each kind; what is left of a large past goes in later rounds.
func (s *Store) ForgetRecords(ctx context.Context, days int, now time.Time) (gone map[string]int64, err error) {
	gone = map[string]int64{}
	if days <= 0 {
		return gone, nil
	}
	for kind, statement := range old {
		for range forgetSteps {
			n, stepErr := s.affect(ctx, "old "+kind, statement, now.AddDate(0, 0, -days), forgetStep)
			gone[kind] += n
			if stepErr != nil {
				err = errors.Join(err, stepErr)
			}
			if n < forgetStep {
				break
			}
		}
	}
	return gone, err
}

// ForgetAudit drops the oldest entries of the audit trail, which then begins later: where it
// begins is kept with the seal that the first one left follows from, and the trail has an
// entry that says so.
func (s *Store) ForgetAudit(ctx context.Context, days int, now time.Time) (n int64, err error) {
	if days <= 0 {
		return 0, nil
	}
	var upto int64
	var seal []byte
	err = s.InTx(ctx, func(tx pgx.Tx) error {
		n = 0
		if _, err := tx.Exec(ctx, `select pg_advisory_xact_lock($1)`, auditLock); err != nil {
			return fmt.Errorf("forget audit: %w", err)
		}
		err := tx.QueryRow(ctx, `select id, seal from audit where at < $1 and seal is not null order by id desc limit 1`,
			now.AddDate(0, 0, -days)).Scan(&upto, &seal)
		if errors.Is(err, pgx.ErrNoRows) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("forget audit: %w", err)
		}
		if _, err := tx.Exec(ctx, `set local tinbell.forgetting = 'on'`); err != nil {
			return fmt.Errorf("forget audit: %w", err)
		}
		result, err := tx.Exec(ctx, `delete from audit where id <= $1`, upto)
		if err != nil {
			return fmt.Errorf("forget audit: %w", err)
		}
		n = result.RowsAffected()
		if _, err := tx.Exec(ctx, `insert into audit_begins (upto, seal) values ($1, $2)
			on conflict (one) do update set upto = $1, seal = $2`, upto, seal); err != nil {
			return fmt.Errorf("forget audit: %w", err)
		}
		return s.In(tx).AddAudit(ctx, record.Audit{At: now, Who: "Tin Bell", What: "forget audit", About: "audit",
			Note: forgotten(upto, seal)})
	})
	return n, err
}

// forgotten says in the trail itself up to which entry it was forgotten.
func forgotten(upto int64, seal []byte) string {
	return fmt.Sprintf("entries up to %d, whose seal was %s, are older than is kept", upto, hex.EncodeToString(seal))
}

// begins gives where the audit trail begins: after which entry, and with what seal.
func (s *Store) begins(ctx context.Context) (upto int64, seal []byte, err error) {
	type row struct {
		Upto int64  `db:"upto"`
		Seal []byte `db:"seal"`
	}
	v, err := one[row](ctx, s, "beginning of the audit trail", "", `select upto, seal from audit_begins`)
	if errors.As(err, new(record.NotFound)) {
		return 0, nil, nil
	}
	return v.Upto, v.Seal, err
}
