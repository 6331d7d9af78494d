package config

import (
	"context"
	"fmt"
	"reflect"
	"slices"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/store"
)

// prunable are the kinds that go when they are in no file and that is asked for, in
// this order. What holds samples stays: sources, datasets and metrics.
var prunable = []string{"monitor", "comparison", "reconciliation", "sla", "route", "channel", "calendar"}

// prune marks what goes: what is set up and in no file, of the kinds that the files hold
// at all.
func prune(changes []Change, wanted Documents) {
	held := map[string]bool{}
	wanted.each(func(kind, _ string, _ reflect.Value) { held[kind] = true })
	for i, c := range changes {
		if c.What == "kept" && held[c.Kind] && slices.Contains(prunable, c.Kind) {
			changes[i].What = "removed"
		}
	}
}

// remove takes away what is to be pruned, monitors before what they stand on.
func (l *load) remove(ctx context.Context, tx pgx.Tx, changes []Change) error {
	in := l.store.In(tx)
	now := l.now().UTC()
	drop := map[string]func(name string) error{
		"monitor": func(name string) error {
			_, err := l.setup.RenameMonitorIn(ctx, tx, name, store.Renamed{Retired: &now})
			return err
		},
		"comparison":     func(name string) error { return in.DropComparison(ctx, name) },
		"reconciliation": func(name string) error { return in.DropReconciliation(ctx, name) },
		"sla":            func(name string) error { return in.DropSLA(ctx, name) },
		"route":          func(name string) error { return in.DropRoute(ctx, name) },
		"channel":        func(name string) error { return in.DropChannel(ctx, name) },
		"calendar":       func(name string) error { return l.planned.DropIn(ctx, tx, name) },
	}
	for _, kind := range prunable {
		for _, c := range changes {
			if c.Kind == kind && c.What == "removed" {
				if err := drop[kind](c.Name); err != nil {
					return fmt.Errorf("%s %s: %w", kind, c.Name, err)
				}
			}
		}
	}
	return nil
}
