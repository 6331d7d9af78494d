package collect

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
	"tinbell/internal/store"
)

// ringsAfter is how long a source or table must fail before it is an alert.
const ringsAfter = time.Minute

// failed keeps that metrics could not be read, in the database's words. If the
// source is out of reach that is the source's state and one alert, however many
// tables it has; else it is the table's.
func (c *Collector) failed(ctx context.Context, p probe, metrics []record.Metric, cause error) error {
	if ctx.Err() != nil {
		return ctx.Err() // we are stopping; that is nobody's failure
	}
	words := warehouse.Words(cause)
	c.log.Warn("collection failed", "dataset", p.dataset.Name, "error", cause)
	now := c.now().UTC().Truncate(time.Second)
	for _, m := range metrics {
		if err := c.store.MetricFailed(ctx, m.ID, words, now.Add(retryAfter)); err != nil {
			return err
		}
	}
	about := store.About{Source: p.source.ID, Dataset: p.dataset.ID}
	sentence := fmt.Sprintf("%s cannot be read: %s", p.dataset.Name, words)
	if !warehouse.Reached(cause) {
		about.Dataset = 0
		sentence = fmt.Sprintf("%s is out of reach: %s", p.source.Name, words)
	}
	since, err := c.store.Failing(ctx, about, words, now)
	if err != nil || now.Sub(since) < ringsAfter {
		return err
	}
	return c.store.InTx(ctx, func(tx pgx.Tx) error {
		return store.Trouble(ctx, tx, about, record.Alert{Cause: record.CauseUnreadable, Direction: "both", Severity: "critical",
			Since: since, RaisedAt: now, Sentence: sentence})
	})
}

// recovered closes what failed says.
func (c *Collector) recovered(ctx context.Context, p probe) error {
	now := c.now().UTC().Truncate(time.Second)
	for _, about := range []store.About{{Source: p.source.ID}, {Source: p.source.ID, Dataset: p.dataset.ID}} {
		failing := p.source.FailingSince
		if about.Dataset != 0 {
			failing = p.dataset.FailingSince
		}
		if failing == nil {
			continue
		}
		if err := c.store.Recovered(ctx, about, now); err != nil {
			return err
		}
	}
	return nil
}

// watchColumns notes when a table's columns change. Columns that went or hold
// something else now are an alert, which closes when they are back or after a
// day; new ones are only noted.
func (c *Collector) watchColumns(ctx context.Context, p probe, columns []record.Column) error {
	last, err := c.store.Columns(ctx, p.dataset.ID, 1)
	if err != nil {
		return err
	}
	var changes []record.ColumnChange
	if len(last) > 0 {
		if changes = Compare(last[0].Columns, columns); len(changes) == 0 {
			return nil
		}
	}
	now := c.now().UTC().Truncate(time.Second)
	about := store.About{Source: p.source.ID, Dataset: p.dataset.ID}
	return c.store.InTx(ctx, func(tx pgx.Tx) error {
		if err := store.AddColumns(ctx, tx, record.ColumnVersion{DatasetID: p.dataset.ID, SeenAt: now, Columns: columns,
			Changes: changes}); err != nil {
			return err
		}
		said := sayChanges(changes)
		if said == "" {
			return store.Mended(ctx, tx, about, record.CauseColumns, now)
		}
		return store.Trouble(ctx, tx, about, record.Alert{Cause: record.CauseColumns, Direction: "both", Severity: "warning",
			Since: now, RaisedAt: now,
			Sentence: fmt.Sprintf("%s changed its columns: %s", p.dataset.Name, said)})
	})
}

// Compare lists what became of a table's columns, in the order of their names.
func Compare(was, is []record.Column) []record.ColumnChange {
	var changes []record.ColumnChange
	types := map[string]string{}
	for _, c := range was {
		types[c.Name] = c.Type
	}
	for _, c := range is {
		before, there := types[c.Name]
		switch {
		case !there:
			changes = append(changes, record.ColumnChange{Column: c.Name, What: "added", Is: c.Type})
		case before != c.Type:
			changes = append(changes, record.ColumnChange{Column: c.Name, What: "retyped", Was: before, Is: c.Type})
		}
		delete(types, c.Name)
	}
	for _, c := range was {
		if _, gone := types[c.Name]; gone {
			changes = append(changes, record.ColumnChange{Column: c.Name, What: "removed", Was: c.Type})
		}
	}
	return changes
}

// sayChanges tells the changes that can break somebody; empty if none can.
func sayChanges(changes []record.ColumnChange) string {
	var said []string
	for _, c := range changes {
		switch c.What {
		case "removed":
			said = append(said, c.Column+" is gone")
		case "retyped":
			said = append(said, fmt.Sprintf("%s is %s now, was %s", c.Column, c.Is, c.Was))
		}
	}
	return strings.Join(said, "; ")
}
