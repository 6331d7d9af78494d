package setup

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
	"tinbell/internal/work"
)

// CheckMonitor puts a monitor's tags in order, and refuses one that could not judge its
// metric.
func CheckMonitor(v *record.Monitor, m record.Metric) error {
	if err := record.CheckName("name", v.Name); err != nil {
		return err
	}
	var err error
	if v.Tags, err = record.CheckTags(v.Tags); err != nil {
		return err
	}
	if strings.TrimSpace(v.Name) == "" {
		return record.Invalid{Field: "name", Given: v.Name, Allowed: "a name of its own, for example boarding-volume"}
	}
	return CheckSettings(v.Settings, m)
}

// CheckSettings refuses settings that a metric's monitor could not follow.
func CheckSettings(v record.Settings, m record.Metric) error {
	grid, err := m.Grid()
	if err != nil {
		return err
	}
	if err := v.Check(grid); err != nil {
		return record.Refused{Field: "settings", Why: err.Error()}
	}
	return nil
}

// hasLoads refuses a monitor of load times where there are none: it would wait for
// ever and say nothing.
func hasLoads(ctx context.Context, in *store.Store, v record.Settings, m record.Metric) error {
	if v.Method != record.MethodArrival || m.Measure == record.MeasureFreshness {
		return nil
	}
	has, err := in.HasLoads(ctx, m.DatasetID)
	if err == nil && !has {
		return record.Invalid{Field: "method", Given: v.Method, Allowed: "another method: no load of " + m.Dataset +
			" is known, so there are no arrivals to learn. Collect the dataset or push its loads first"}
	}
	return err
}

// AddMonitor puts a monitor on the metric that it names, and has it fitted to the
// past. Without an owner it has its dataset's.
func (d *Desk) AddMonitor(ctx context.Context, v record.Monitor) (record.Monitor, error) {
	err := d.inTx(ctx, func(tx pgx.Tx, in *store.Store) error {
		metric, err := in.Metric(ctx, v.Metric)
		if err != nil {
			return err
		}
		if err := CheckMonitor(&v, metric); err != nil {
			return err
		}
		if err := hasLoads(ctx, in, v.Settings, metric); err != nil {
			return err
		}
		if v.Owner == "" {
			dataset, err := in.Dataset(ctx, metric.Dataset)
			if err != nil {
				return err
			}
			v.Owner = dataset.Owner
		}
		v.MetricID = metric.ID
		id, err := in.AddMonitor(ctx, v)
		if err != nil {
			return err
		}
		if err := d.queue.Put(ctx, tx, work.Learn{MonitorID: id, History: true}); err != nil {
			return err
		}
		v, err = in.MonitorByID(ctx, id)
		return err
	})
	return v, err
}

// PutMonitor makes a monitor that was checked be as given, in the caller's
// transaction: added, or changed as a new version.
func (d *Desk) PutMonitor(ctx context.Context, tx pgx.Tx, v record.Monitor) error {
	_, err := d.store.In(tx).Monitor(ctx, v.Name)
	missing := record.NotFound{}
	fresh := errors.As(err, &missing)
	if err != nil && !fresh {
		return err
	}
	id, err := store.SetMonitor(ctx, tx, v)
	if err != nil {
		return err
	}
	return d.follow(ctx, tx, id, v.Paused, work.Learn{MonitorID: id, History: fresh, Changed: true})
}

// ChangeMonitor puts new settings of a monitor in force as a new version, and has
// what is open judged again by them. Paused, it judges nothing, and nothing of it
// is open.
func (d *Desk) ChangeMonitor(ctx context.Context, name string, c store.Change) (v record.Monitor, err error) {
	err = d.inTx(ctx, func(tx pgx.Tx, in *store.Store) error {
		if v, err = in.Monitor(ctx, name); err != nil {
			return err
		}
		metric, err := in.MetricByID(ctx, v.MetricID)
		if err != nil {
			return err
		}
		if err := CheckSettings(c.Settings, metric); err != nil {
			return err
		}
		if err := hasLoads(ctx, in, c.Settings, metric); err != nil {
			return err
		}
		if err := d.change(ctx, tx, v.ID, c); err != nil {
			return err
		}
		v, err = in.Monitor(ctx, name)
		return err
	})
	return v, err
}

func (d *Desk) change(ctx context.Context, tx pgx.Tx, id int64, c store.Change) error {
	if err := store.ChangeMonitor(ctx, tx, id, c); err != nil {
		return err
	}
	return d.follow(ctx, tx, id, c.Paused, work.Learn{MonitorID: id, Changed: true})
}

// ChangeSegment gives a segment of a monitor, or a pattern of segments, settings of its
// own, or takes them away. It is a new version of the monitor; whoever changes another
// segment meanwhile is not in the way.
func (d *Desk) ChangeSegment(ctx context.Context, name string, own record.SegmentSettings, gone bool, author,
	reason string) (v record.Monitor, err error) {
	err = d.inTx(ctx, func(tx pgx.Tx, in *store.Store) error {
		if v, err = in.Monitor(ctx, name); err != nil {
			return err
		}
		if err := store.HoldMonitor(ctx, tx, v.ID); err != nil {
			return err
		}
		if v, err = in.Monitor(ctx, name); err != nil {
			return err
		}
		if err := meant(ctx, in, v, own, gone); err != nil {
			return err
		}
		metric, err := in.MetricByID(ctx, v.MetricID)
		if err != nil {
			return err
		}
		settings := v.Settings.WithSegment(own, gone)
		if err := CheckSettings(settings, metric); err != nil {
			return err
		}
		if reason == "" {
			reason = "segment " + own.Segment
		}
		if err := d.change(ctx, tx, v.ID, store.Change{Version: v.Version, Settings: settings, Paused: v.Paused, Author: author,
			Reason: reason}); err != nil {
			return err
		}
		v, err = in.Monitor(ctx, name)
		return err
	})
	return v, err
}

// meant refuses settings of a segment that is none of the monitor's.
func meant(ctx context.Context, in *store.Store, v record.Monitor, own record.SegmentSettings, gone bool) error {
	if gone {
		if !v.Settings.Segmented(own.Segment) {
			return record.NotFound{Kind: "settings of segment", Name: own.Segment}
		}
		return nil
	}
	series, err := in.SeriesOf(ctx, v.MetricID)
	if err != nil || strings.Contains(own.Segment, "*") || slices.ContainsFunc(series,
		func(s record.Series) bool { return s.Segment == own.Segment }) {
		return err
	}
	var some []string
	for _, s := range series[:min(len(series), 8)] {
		some = append(some, s.Segment)
	}
	return record.Invalid{Field: "segment", Given: own.Segment,
		Allowed: fmt.Sprintf("one of the %d segments of %s, such as %s; or a pattern, * standing for any characters", len(series),
			v.Metric, strings.Join(some, ", "))}
}

// RenameMonitor changes what a monitor is called, whose it is, or whether it is needed:
// one that is retired judges nothing, has nothing open, and keeps its past.
func (d *Desk) RenameMonitor(ctx context.Context, name string, c store.Renamed) (v record.Monitor, err error) {
	if c.Name != nil {
		if err := record.CheckName("name", *c.Name); err != nil {
			return v, err
		}
		if strings.TrimSpace(*c.Name) == "" {
			return v, record.Invalid{Field: "name", Given: *c.Name, Allowed: "a name of its own, for example boarding-volume"}
		}
	}
	if c.Tags != nil {
		tags, err := record.CheckTags(*c.Tags)
		if err != nil {
			return v, err
		}
		c.Tags = &tags
	}
	err = d.inTx(ctx, func(tx pgx.Tx, _ *store.Store) error {
		v, err = d.RenameMonitorIn(ctx, tx, name, c)
		return err
	})
	return v, err
}

// RenameMonitorIn is RenameMonitor in the caller's transaction, by a checked name.
func (d *Desk) RenameMonitorIn(ctx context.Context, tx pgx.Tx, name string, c store.Renamed) (record.Monitor, error) {
	in := d.store.In(tx)
	v, err := in.Monitor(ctx, name)
	if err != nil {
		return v, err
	}
	if err := store.HoldMonitor(ctx, tx, v.ID); err != nil {
		return v, err
	}
	if err := store.RenameMonitor(ctx, tx, v.ID, c); err != nil {
		return v, err
	}
	if v, err = in.MonitorByID(ctx, v.ID); err != nil {
		return v, err
	}
	if retires := v.RetiredAt != nil; c.Retired != nil && v.Paused != retires {
		reason := map[bool]string{true: "retired", false: "needed again"}[retires]
		if err := d.change(ctx, tx, v.ID, store.Change{Version: v.Version, Settings: v.Settings, Paused: retires,
			Reason: reason}); err != nil {
			return v, err
		}
	}
	return in.MonitorByID(ctx, v.ID)
}

// follow orders what follows from a monitor's new settings.
func (d *Desk) follow(ctx context.Context, tx pgx.Tx, id int64, paused bool, order work.Learn) error {
	if paused {
		if err := store.ClosePaused(ctx, tx, id, d.now()); err != nil {
			return err
		}
	}
	if err := d.queue.Put(ctx, tx, order); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicAlerts)
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
		return m, record.Invalid{Field: "version", Given: fmt.Sprint(version),
			Allowed: fmt.Sprintf("a version before the present one, %d", m.Version)}
	}
	return d.ChangeMonitor(ctx, name, store.Change{Version: m.Version, Settings: versions[i].Settings, Paused: m.Paused,
		Author: author, Reason: fmt.Sprintf("back to version %d", version)})
}

// Decide accepts or rejects a proposal. What is accepted becomes the monitor's
// newest version, if nobody has changed it since the search.
func (d *Desk) Decide(ctx context.Context, id int64, accept bool, author, note string) (record.Proposal, error) {
	p, err := d.store.Proposal(ctx, id)
	if err != nil {
		return p, err
	}
	state := record.ProposalRejected
	if accept {
		state = record.ProposalAccepted
	}
	err = d.inTx(ctx, func(tx pgx.Tx, in *store.Store) error {
		ok, err := store.Decide(ctx, tx, id, state, author, note)
		if err != nil {
			return err
		}
		if !ok {
			return record.Conflict{What: fmt.Sprintf("proposal %d is %s already", id, p.State)}
		}
		if !accept {
			return store.Notify(ctx, tx, store.TopicAlerts)
		}
		m, err := in.MonitorByID(ctx, p.MonitorID)
		if err != nil {
			return err
		}
		return d.change(ctx, tx, p.MonitorID, store.Change{Version: p.Version, Settings: p.Settings, Paused: m.Paused, Author: author,
			Reason: fmt.Sprintf("tuned, proposal %d", id)})
	})
	if err != nil {
		return p, err
	}
	return d.store.Proposal(ctx, id)
}
