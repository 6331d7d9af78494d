package reconcile

import (
	"context"
	"fmt"
	"time"

	"tinbell/core/diagnose"
	"tinbell/internal/collect/warehouse"
	"tinbell/internal/record"
)

// Keys is which rows of a stretch are on one side only.
type Keys struct {
	From  time.Time `json:"from" doc:"of the second stage; the first is a lag earlier"`
	To    time.Time `json:"to"`
	Sides []Side    `json:"sides" doc:"the first stage, then the second"`
}

// Side is what one stage has and the other lacks.
type Side struct {
	Dataset  string         `json:"dataset"`
	Key      string         `json:"key"`
	Rows     int            `json:"rows" doc:"keys in the stretch"`
	Missing  int            `json:"missing" doc:"of them, those that the other side lacks"`
	Segments map[string]int `json:"segments" doc:"… by segment"`
	Some     []string       `json:"some" doc:"the first of them; not kept"`
}

const (
	shownKeys   = 100
	longestKeys = 14 * 24 * time.Hour
)

// Keys compares the keys of a stretch, for somebody who looks: they are shown and not
// kept, and the audit trail says so. The other side is searched a lag, and two periods,
// further.
func (r *Reconciler) Keys(ctx context.Context, name string, from, to time.Time, segment, who string) (k Keys, err error) {
	v, err := r.store.Reconciliation(ctx, name)
	if err != nil {
		return k, err
	}
	if v.UpKey == "" {
		return k, record.Conflict{What: name + " has no keys: set it with the columns that name a row on both sides"}
	}
	if !to.After(from) || to.Sub(from) > longestKeys {
		return k, record.Invalid{Field: "to", Given: to.Format(time.RFC3339),
			Allowed: fmt.Sprintf("after from, and at most %d days later", int(longestKeys.Hours()/24))}
	}
	lag := time.Duration(v.LagSeconds) * time.Second
	stages := []struct {
		metric, key string
		off         time.Duration
	}{{v.Up, v.UpKey, -lag}, {v.Down, v.DownKey, 0}}
	k = Keys{From: from, To: to}
	var narrow, wide [2][]warehouse.Keyed
	for i, s := range stages {
		m, err := r.store.Metric(ctx, s.metric)
		if err != nil {
			return k, err
		}
		d, err := r.store.Dataset(ctx, m.Dataset)
		if err != nil {
			return k, err
		}
		source, err := r.store.Source(ctx, d.Source)
		if err != nil {
			return k, err
		}
		if source.Kind != record.SourcePostgreSQL || m.TimeColumn == "" {
			return k, record.Conflict{What: m.Dataset + " is not in a warehouse that can be asked for its keys"}
		}
		slack := lag + 2*time.Duration(m.PeriodSeconds)*time.Second
		of := warehouse.Narrowed{Metric: m, Segment: segment}
		if wide[i], err = r.pools.Keys(ctx, source, of, s.key, warehouse.Span{From: from.Add(s.off - slack),
			To: to.Add(s.off + slack)}); err == nil {
			narrow[i], err = r.pools.Keys(ctx, source, of, s.key, warehouse.Span{From: from.Add(s.off), To: to.Add(s.off)})
		}
		if err != nil {
			return k, record.Conflict{What: "the warehouse was asked for the keys of " + m.Dataset + " and answered: " +
				warehouse.Words(err)}
		}
		k.Sides = append(k.Sides, Side{Dataset: m.Dataset, Key: s.key, Rows: len(narrow[i]), Segments: map[string]int{}, Some: []string{}})
	}
	for i := range stages {
		side := &k.Sides[i]
		list, n := diagnose.OneSided(keysOf(narrow[i]), keysOf(wide[1-i]), len(narrow[i]))
		side.Missing = n
		missing := map[string]bool{}
		for _, key := range list {
			missing[key] = true
		}
		for _, x := range narrow[i] {
			if missing[x.Key] {
				side.Segments[x.Segment]++
			}
		}
		side.Some = append(side.Some, list[:min(len(list), shownKeys)]...)
	}
	return k, r.store.AddAudit(ctx, record.Audit{At: r.now().UTC(), Who: who, What: "looked at keys", About: name,
		Note: fmt.Sprintf("%s to %s", from.UTC().Format(time.RFC3339), to.UTC().Format(time.RFC3339))})
}

func keysOf(list []warehouse.Keyed) []string {
	keys := make([]string, len(list))
	for i, x := range list {
		keys[i] = x.Key
	}
	return keys
}
