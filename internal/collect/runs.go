package collect

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/collect/lineage"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Hear takes OpenLineage events, all or none. A complete run is a load of what it
// wrote, unless the dataset's own column tells loads; the columns it names are
// watched, unless a warehouse can be asked for them.
func (c *Collector) Hear(ctx context.Context, bodies []json.RawMessage) error {
	events := make([]record.RunEvent, len(bodies))
	for i, body := range bodies {
		var err error
		if events[i], err = lineage.Parse(body); err != nil {
			return fmt.Errorf("event %d of %d: %w", i+1, len(bodies), err)
		}
	}
	// Runs that two senders tell of are written in the same order by both.
	slices.SortStableFunc(events, func(a, b record.RunEvent) int { return strings.Compare(a.Job.Name+a.Run, b.Job.Name+b.Run) })
	err := c.store.InTx(ctx, func(tx pgx.Tx) error {
		for _, e := range events {
			if e.Job.Name == "" {
				continue
			}
			if _, err := store.PutRunEvent(ctx, tx, e); err != nil {
				return err
			}
		}
		return store.Notify(ctx, tx, store.TopicRuns)
	})
	if err != nil {
		return err
	}
	var places []record.Place
	for _, e := range events {
		for _, d := range e.Datasets {
			places = append(places, d.Place)
		}
	}
	known, err := c.store.DatasetsAt(ctx, places)
	if err != nil {
		return err
	}
	for _, e := range events {
		for _, d := range e.Datasets {
			dataset, measured := known[d.Place]
			if !measured {
				continue // the graph knows it; nobody measures it
			}
			source, err := c.store.DatasetSource(ctx, dataset.ID)
			if err != nil {
				return err
			}
			if err := c.hearOf(ctx, probe{source, dataset}, e, d); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *Collector) hearOf(ctx context.Context, p probe, e record.RunEvent, d record.RunDataset) error {
	if len(d.Columns) > 0 && p.source.Kind == "push" {
		if err := c.watchColumns(ctx, p, d.Columns); err != nil {
			return err
		}
	}
	if !d.Output || e.State != "complete" || p.dataset.LoadedBy != "" || p.source.Kind != "push" {
		return nil
	}
	rows := int64(0)
	if d.Rows != nil {
		rows = *d.Rows
	}
	return c.store.InTx(ctx, func(tx pgx.Tx) error { return store.AddLoad(ctx, tx, p.dataset.ID, e.Time, rows) })
}
