package collect

import (
	"context"
	"errors"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/collect/lineage"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Hear takes an OpenLineage event. A complete run is a load of what it wrote,
// unless the dataset's own column tells loads; the columns it names are watched,
// unless a warehouse can be asked for them.
func (c *Collector) Hear(ctx context.Context, body []byte) error {
	e, err := lineage.Parse(body)
	if err != nil {
		return err
	}
	if e.Job.Name != "" {
		err = c.store.InTx(ctx, func(tx pgx.Tx) error {
			if _, err := store.PutRunEvent(ctx, tx, e); err != nil {
				return err
			}
			return store.Notify(ctx, tx, "runs")
		})
		if err != nil {
			return err
		}
	}
	for _, d := range e.Datasets {
		if err := c.hearOf(ctx, e, d); err != nil {
			return err
		}
	}
	return nil
}

func (c *Collector) hearOf(ctx context.Context, e record.RunEvent, d record.RunDataset) error {
	dataset, err := c.store.DatasetByName(ctx, d.Namespace, d.Name)
	var unknown record.NotFound
	if errors.As(err, &unknown) {
		return nil // the graph knows it; nobody measures it
	}
	if err != nil {
		return err
	}
	source, err := c.store.DatasetSource(ctx, dataset.ID)
	if err != nil {
		return err
	}
	if len(d.Columns) > 0 && source.Kind != "postgresql" {
		if err := c.watchColumns(ctx, probe{source, dataset}, d.Columns); err != nil {
			return err
		}
	}
	if !d.Output || e.State != "complete" || dataset.LoadedBy != "" {
		return nil
	}
	rows := int64(0)
	if d.Rows != nil {
		rows = *d.Rows
	}
	return c.store.InTx(ctx, func(tx pgx.Tx) error { return store.AddLoad(ctx, tx, dataset.ID, e.Time, rows) })
}
