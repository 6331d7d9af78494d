package store

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

const reconciliationSelect = `
	select r.*, u.name as up, d.name as down, m.name as metric, ud.name as up_dataset, dd.name as down_dataset
	from reconciliation r join metric u on u.id = r.up_metric join metric d on d.id = r.down_metric join metric m on m.id = r.metric_id
	join dataset ud on ud.id = u.dataset_id join dataset dd on dd.id = d.dataset_id `

// Reconciliations gives all, by name.
func (s *Store) Reconciliations(ctx context.Context) ([]record.Reconciliation, error) {
	return many[record.Reconciliation](ctx, s, "reconciliations", reconciliationSelect+`order by r.name`)
}

// Reconciliation gives one.
func (s *Store) Reconciliation(ctx context.Context, name string) (record.Reconciliation, error) {
	return one[record.Reconciliation](ctx, s, "reconciliation", name, reconciliationSelect+`where r.name = $1`, name)
}

// PutReconciliation adds one, or replaces the settings of that name; what was
// compared by others is compared anew.
func PutReconciliation(ctx context.Context, tx pgx.Tx, r record.Reconciliation) error {
	_, err := tx.Exec(ctx, `
		insert into reconciliation (name, up_metric, down_metric, metric_id, lag_seconds, tolerance, up_key, down_key,
			created_at) values ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		on conflict (name) do update set up_metric = excluded.up_metric, down_metric = excluded.down_metric, lag_seconds = excluded.lag_seconds,
			tolerance = excluded.tolerance, up_key = excluded.up_key, down_key = excluded.down_key, compared_to = null, message = ''`,
		r.Name, r.UpID, r.DownID, r.MetricID, r.LagSeconds, r.Tolerance, r.UpKey, r.DownKey, r.CreatedAt)
	if err != nil {
		return fmt.Errorf("write reconciliation: %w", err)
	}
	return nil
}

// SetReconciliation is PutReconciliation of metrics by their names, as they are in the
// transaction.
func SetReconciliation(ctx context.Context, tx pgx.Tx, r record.Reconciliation) error {
	for name, into := range map[string]*int64{r.Up: &r.UpID, r.Down: &r.DownID, r.Name: &r.MetricID} {
		if err := tx.QueryRow(ctx, `select id from metric where name = $1`, name).Scan(into); err != nil {
			return fmt.Errorf("read metric %s: %w", name, err)
		}
	}
	return PutReconciliation(ctx, tx, r)
}

// Compared keeps up to when a reconciliation has compared, or why it could not.
func Compared(ctx context.Context, tx pgx.Tx, id int64, to *time.Time, message string) error {
	if _, err := tx.Exec(ctx, `update reconciliation set compared_to = coalesce($2, compared_to), message = $3 where id = $1`, id,
		to, message); err != nil {
		return fmt.Errorf("write reconciliation: %w", err)
	}
	return nil
}
