package config

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/calendar"
	"tinbell/internal/collect"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/compare"
	"tinbell/internal/feed"
	"tinbell/internal/notify"
	"tinbell/internal/record"
	"tinbell/internal/setup"
	"tinbell/internal/store"
	"tinbell/internal/watch"
)

var defaults = record.DefaultSettings()

// Keeper reads what is set up, and puts documents in force.
type Keeper struct {
	store     *store.Store
	collector *collect.Collector
	houses    *warehouse.Pools
	planned   *calendar.Desk
	watcher   *watch.Watcher
	notifier  *notify.Notifier
	comparer  *compare.Comparer
	setup     *setup.Desk
	feeds     *feed.Reader
	now       func() time.Time
}

func New(s *store.Store, c *collect.Collector, w *warehouse.Pools, d *calendar.Desk, v *watch.Watcher, n *notify.Notifier,
	m *compare.Comparer, u *setup.Desk, f *feed.Reader, now func() time.Time) *Keeper {
	return &Keeper{s, c, w, d, v, n, m, u, f, now}
}

// Read gives all that is set up.
func (k *Keeper) Read(ctx context.Context) (Documents, error) {
	d := Documents{Datasets: []WrittenDataset{}, Metrics: []WrittenMetric{}, Monitors: []WrittenMonitor{}}
	sources, err := k.store.Sources(ctx)
	if err != nil {
		return d, err
	}
	for _, v := range sources {
		if v.Kind != "push" {
			d.Sources = append(d.Sources, writtenSource(v))
		}
	}
	datasets, err := k.store.Datasets(ctx)
	if err != nil {
		return d, err
	}
	for _, v := range datasets {
		if v.Namespace == v.Source {
			v.Namespace = "" // as it is without a word
		}
		d.Datasets = append(d.Datasets, WrittenDataset{v.Name, v.Source, v.Namespace, v.Owner, v.Zone, v.LoadedBy, v.Pattern,
			v.KeepDays, v.Hidden, v.Tags})
	}
	monitors, err := k.store.Monitors(ctx)
	if err != nil {
		return d, err
	}
	watched := map[string]bool{}
	for _, v := range monitors {
		if v.RetiredAt != nil {
			continue
		}
		d.Monitors = append(d.Monitors, WrittenMonitor{v.Name, v.Metric, v.Owner, v.Tags, v.Paused, v.Settings})
		watched[v.Metric] = true
	}
	metrics, err := k.store.Metrics(ctx)
	if err != nil {
		return d, err
	}
	for _, m := range metrics {
		// The figures of a comparison come with it; only one that somebody had
		// watched besides is written.
		if m.Comparison == "" || watched[m.Name] && m.Name != compare.Watched(record.Comparison{Name: m.Comparison}).Name {
			d.Metrics = append(d.Metrics, written(m))
		}
	}
	comparisons, err := k.store.Comparisons(ctx)
	if err != nil {
		return d, err
	}
	for _, v := range comparisons {
		d.Comparisons = append(d.Comparisons, WrittenComparison{v.Name, v.Dataset, v.Owner, v.Settings})
	}
	reconciliations, err := k.store.Reconciliations(ctx)
	if err != nil {
		return d, err
	}
	for _, v := range reconciliations {
		d.Reconciliations = append(d.Reconciliations, WrittenReconciliation{v.Name, v.Up, v.Down, v.LagSeconds, v.Tolerance,
			v.UpKey, v.DownKey})
	}
	logs, err := k.store.Logs(ctx)
	if err != nil {
		return d, err
	}
	for _, v := range logs {
		d.Logs = append(d.Logs, WrittenLog{v.Name, v.Dataset, v.KeepSamples, v.Watched, v.RareSeconds, v.Normal, v.Kinds, v.Job,
			v.Service, v.Source, v.Pattern, v.By, v.Masked})
	}
	calendars, err := k.store.Calendars(ctx)
	if err != nil {
		return d, err
	}
	feeds, err := k.store.Feeds(ctx)
	if err != nil {
		return d, err
	}
	for _, v := range calendars {
		w := WrittenCalendar{Name: v.Name, Country: v.Country, Zone: v.Zone, Dataset: v.Dataset, Effect: v.Effect, ICal: v.ICal}
		for _, f := range feeds {
			if f.Calendar == v.Name { // what it holds is fetched
				w = WrittenCalendar{Name: v.Name, Dataset: f.Dataset, Effect: f.Effect, Address: "${" + variable(v.Name,
					"address") + "}", EverySeconds: f.EverySeconds}
			}
		}
		d.Calendars = append(d.Calendars, w)
	}
	return d, k.readTelling(ctx, &d)
}

// Diff lists what loading documents would do; with pruned, what would go too.
func (k *Keeper) Diff(ctx context.Context, wanted Documents, pruned bool) ([]Change, error) {
	there, err := k.Read(ctx)
	if err != nil {
		return nil, err
	}
	changes := Compare(there, wanted)
	if pruned {
		prune(changes, wanted)
	}
	return changes, nil
}

// Load puts documents in force, all or none: first everything is checked, new
// probes against their tables, then it is written in one transaction. What is
// set up and in no document stays, unless it is to be pruned.
func (k *Keeper) Load(ctx context.Context, wanted Documents, pruned bool) ([]Change, error) {
	there, err := k.Read(ctx)
	if err != nil {
		return nil, err
	}
	changes := Compare(there, wanted)
	if pruned {
		prune(changes, wanted)
	}
	l := load{Keeper: k, wanted: map[string]record.Source{}, events: map[string][]record.PlannedEvent{},
		datasets: map[string]record.Dataset{}, sources: map[string]record.Source{}, metrics: map[string]record.Metric{}}
	for _, v := range wanted.Sources {
		if err := l.source(ctx, v); err != nil {
			return nil, fmt.Errorf("source %s: %w", v.Name, err)
		}
	}
	for _, v := range wanted.Calendars {
		if v.fetched() {
			if err := l.tryFeed(ctx, v); err != nil {
				return nil, fmt.Errorf("calendar %s: %w", v.Name, err)
			}
			continue
		}
		c := record.Calendar{Name: v.Name, Country: v.Country, Zone: v.Zone, Dataset: v.Dataset, Effect: v.Effect, ICal: v.ICal}
		events, err := k.planned.Read(&c)
		if err != nil {
			return nil, err
		}
		l.events[v.Name], l.calendars = events, append(l.calendars, c)
	}
	for _, d := range wanted.Datasets {
		if err := l.dataset(ctx, d); err != nil {
			return nil, fmt.Errorf("dataset %s: %w", d.Name, err)
		}
	}
	for _, m := range wanted.Metrics {
		if err := l.metric(ctx, m, there); err != nil {
			return nil, fmt.Errorf("metric %s: %w", m.Name, err)
		}
	}
	for _, v := range wanted.Comparisons {
		if err := l.comparison(ctx, v); err != nil {
			return nil, fmt.Errorf("comparison %s: %w", v.Name, err)
		}
	}
	for _, v := range wanted.Reconciliations {
		if err := l.reconciliation(ctx, v); err != nil {
			return nil, fmt.Errorf("reconciliation %s: %w", v.Name, err)
		}
	}
	for _, v := range wanted.Logs {
		if err := l.log(ctx, v); err != nil {
			return nil, fmt.Errorf("log %s: %w", v.Name, err)
		}
	}
	for _, m := range wanted.Monitors {
		if err := l.check(ctx, m); err != nil {
			return nil, fmt.Errorf("monitor %s: %w", m.Name, err)
		}
	}
	if err := l.checkTelling(ctx, wanted); err != nil {
		return nil, err
	}
	if err := k.store.InTx(ctx, func(tx pgx.Tx) error { return l.write(ctx, tx, wanted, changes) }); err != nil {
		return nil, err
	}
	for _, v := range wanted.Calendars {
		if v.Address == "" {
			continue // as it is
		}
		if _, err := k.feeds.Follow(ctx, v.Name, v.wanted()); err != nil {
			return changes, fmt.Errorf("everything else is in force, but calendar %s: %w", v.Name, err)
		}
	}
	return changes, nil
}

func (c WrittenCalendar) wanted() feed.Wanted {
	return feed.Wanted{Address: c.Address, EverySeconds: c.EverySeconds, Dataset: c.Dataset, Effect: c.Effect}
}

// tryFeed fetches a calendar once; without its address the one that is kept must do.
func (l *load) tryFeed(ctx context.Context, v WrittenCalendar) error {
	if v.Address != "" && !strings.HasPrefix(v.Address, "${") {
		return l.feeds.Try(ctx, v.Name, v.wanted())
	}
	if _, err := l.store.Feed(ctx, v.Name); err != nil {
		return record.Invalid{Field: "address", Given: "", Allowed: "an http or https address; set " + variable(v.Name,
			"address") + " where the files are loaded"}
	}
	return nil
}

// load is what one loading has checked so far.
type load struct {
	*Keeper
	wanted    map[string]record.Source // as the files say
	events    map[string][]record.PlannedEvent
	calendars []record.Calendar
	slas      []record.SLA
	datasets  map[string]record.Dataset
	sources   map[string]record.Source // by dataset
	metrics   map[string]record.Metric
	compared  []record.Comparison
	logs      []record.Log
}

func (l *load) write(ctx context.Context, tx pgx.Tx, wanted Documents, changes []Change) error {
	changed := func(kind, name string) int {
		return slices.IndexFunc(changes, func(c Change) bool {
			return c.Kind == kind && c.Name == name && (c.What == "added" || c.What == "changed")
		})
	}
	for _, v := range wanted.Sources {
		id, err := store.SetSource(ctx, tx, l.wanted[v.Name])
		if err != nil {
			return err
		}
		for name, d := range l.datasets {
			if d.Source == v.Name {
				d.SourceID = id
				l.datasets[name] = d
			}
		}
	}
	for _, c := range l.calendars {
		if changed("calendar", c.Name) < 0 {
			continue
		}
		if err := l.planned.Put(ctx, tx, c, l.events[c.Name]); err != nil {
			return err
		}
	}
	for _, d := range wanted.Datasets {
		v := l.datasets[d.Name]
		if v.Source == collect.PushedSource {
			id, err := store.EnsureSource(ctx, tx, l.sources[d.Name])
			if err != nil {
				return err
			}
			v.SourceID = id
		}
		if err := store.SetDataset(ctx, tx, v); err != nil {
			return err
		}
	}
	for _, m := range wanted.Metrics {
		v := l.metrics[m.Name]
		now := l.now()
		v.NextAt = &now
		if err := store.SetMetric(ctx, tx, v); err != nil {
			return err
		}
	}
	for _, v := range wanted.Reconciliations {
		if changed("reconciliation", v.Name) >= 0 {
			if err := store.SetReconciliation(ctx, tx, record.Reconciliation{Name: v.Name, Up: v.Up, Down: v.Down,
				LagSeconds: v.LagSeconds, Tolerance: v.Tolerance, UpKey: v.UpKey, DownKey: v.DownKey,
				CreatedAt: l.now().UTC()}); err != nil {
				return err
			}
		}
	}
	for _, v := range l.logs {
		if changed("log", v.Name) >= 0 {
			if err := store.PutLogSettings(ctx, tx, v); err != nil {
				return err
			}
		}
	}
	for _, v := range l.compared {
		if changed("comparison", v.Name) >= 0 {
			if err := l.comparer.SetIn(ctx, tx, v); err != nil {
				return err
			}
		}
	}
	for _, m := range wanted.Monitors {
		if changed("monitor", m.Name) < 0 {
			continue
		}
		if err := l.setup.PutMonitor(ctx, tx, record.Monitor{Name: m.Name, Metric: m.Metric, Owner: m.Owner, Tags: m.Tags,
			Paused: m.Paused, Settings: m.Settings}); err != nil {
			return err
		}
	}
	if err := l.writeTelling(ctx, tx, wanted, changed); err != nil {
		return err
	}
	if err := l.remove(ctx, tx, changes); err != nil {
		return err
	}
	return store.Notify(ctx, tx, store.TopicAlerts)
}
