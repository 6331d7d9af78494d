package answer

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// ChangeMonitor puts new settings of a monitor in force as a new version, and
// has it fitted again.
func (d *Desk) ChangeMonitor(ctx context.Context, id int64, c store.Change) error {
	return d.store.InTx(ctx, func(tx pgx.Tx) error { return d.changeMonitor(ctx, tx, id, c) })
}

func (d *Desk) changeMonitor(ctx context.Context, tx pgx.Tx, id int64, c store.Change) error {
	if err := store.ChangeMonitor(ctx, tx, id, c); err != nil {
		return err
	}
	if c.Paused {
		if err := store.ClosePaused(ctx, tx, id, d.now()); err != nil {
			return err
		}
	}
	if err := d.queue.Put(ctx, tx, work.Learn{MonitorID: id, Changed: true}); err != nil {
		return err
	}
	return store.Notify(ctx, tx, "alerts")
}

// TakeBack makes an earlier version of a monitor's settings the newest again.
func (d *Desk) TakeBack(ctx context.Context, name string, version int, author string) (record.Monitor, error) {
	m, err := d.store.Monitor(ctx, name)
	if err != nil {
		return m, err
	}
	versions, err := d.store.MonitorVersions(ctx, m.ID)
	if err != nil {
		return m, err
	}
	i := slices.IndexFunc(versions, func(v record.MonitorVersion) bool { return v.Version == version })
	if i < 0 || version == m.Version {
		return m, record.Invalid{Field: "version", Given: fmt.Sprint(version), Allowed: fmt.Sprintf("a version before the present one, %d", m.Version)}
	}
	err = d.ChangeMonitor(ctx, m.ID, store.Change{Version: m.Version, Settings: versions[i].Settings, Paused: m.Paused, Author: author, Reason: fmt.Sprintf("back to version %d", version)})
	if err != nil {
		return m, err
	}
	return d.store.Monitor(ctx, name)
}

// Decide accepts or rejects a proposal. What is accepted becomes the monitor's
// newest version, if nobody has changed it since the search.
func (d *Desk) Decide(ctx context.Context, id int64, accept bool, author, note string) (record.Proposal, error) {
	p, err := d.store.Proposal(ctx, id)
	if err != nil {
		return p, err
	}
	state := "rejected"
	if accept {
		state = "accepted"
	}
	err = d.store.InTx(ctx, func(tx pgx.Tx) error {
		ok, err := store.Decide(ctx, tx, id, state, author, note)
		if err != nil {
			return err
		}
		if !ok {
			return record.Conflict{What: fmt.Sprintf("proposal %d is %s already", id, p.State)}
		}
		if !accept {
			return store.Notify(ctx, tx, "alerts")
		}
		m, err := d.store.In(tx).MonitorByID(ctx, p.MonitorID)
		if err != nil {
			return err
		}
		return d.changeMonitor(ctx, tx, p.MonitorID, store.Change{Version: p.Version, Settings: p.Settings, Paused: m.Paused, Author: author, Reason: fmt.Sprintf("tuned, proposal %d", id)})
	})
	if err != nil {
		return p, err
	}
	return d.store.Proposal(ctx, id)
}

// SetLearning changes how the service learns: the filter, its limit, and whether
// tuning runs by itself. Switched off, it lets go what it holds back.
func (d *Desk) SetLearning(ctx context.Context, state string, limit float64, nightly bool, author string) (record.Learning, error) {
	if limit < 0.001 || limit > 0.2 {
		return record.Learning{}, record.Invalid{Field: "limit", Given: fmt.Sprint(limit), Allowed: "0.001 to 0.2: the share of faults that may be lost"}
	}
	if err := d.store.SetLearning(ctx, state, limit, nightly, author); err != nil {
		return record.Learning{}, err
	}
	if state != record.FilterActive {
		if err := d.store.Release(ctx); err != nil {
			return record.Learning{}, err
		}
	}
	if err := d.queue.Add(ctx, work.Relearn{}); err != nil {
		return record.Learning{}, err
	}
	return d.store.Learning(ctx)
}
