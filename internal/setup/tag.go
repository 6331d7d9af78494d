package setup

import (
	"context"
	"fmt"
	"path"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
	"tinbell/internal/store"
)

// Tagged names things by kind; names may be patterns, with * and ?.
type Tagged struct {
	Datasets []string `json:"datasets,omitempty"`
	Metrics  []string `json:"metrics,omitempty"`
	Monitors []string `json:"monitors,omitempty"`
}

// Tag gives things a tag, and takes it off others, all or nothing.
func (d *Desk) Tag(ctx context.Context, tag string, on, off Tagged) error {
	if _, err := record.CheckTags(record.Strings{tag}); err != nil {
		return err
	}
	return d.inTx(ctx, func(tx pgx.Tx, in *store.Store) error {
		all, err := names(ctx, in)
		if err != nil {
			return err
		}
		for _, one := range []struct {
			things Tagged
			off    bool
		}{{on, false}, {off, true}} {
			for kind, wanted := range map[string][]string{store.TaggedDataset: one.things.Datasets,
				store.TaggedMetric: one.things.Metrics, store.TaggedMonitor: one.things.Monitors} {
				named, err := fitting(kind, wanted, all[kind])
				if err != nil {
					return err
				}
				if err := store.Tag(ctx, tx, tag, kind, named, one.off); err != nil {
					return err
				}
				crowded, err := in.CrowdedWith(ctx, kind, record.MostTags)
				if err != nil {
					return err
				}
				if crowded != "" {
					return record.Invalid{Field: "tags", Given: tag, Allowed: fmt.Sprintf("at most %d on one thing, which %s has",
						record.MostTags, crowded)}
				}
			}
		}
		return store.Notify(ctx, tx, store.TopicAlerts)
	})
}

// Untag takes a tag off everything. One that a route names stays: without its tags the
// route would tell of everything.
func (d *Desk) Untag(ctx context.Context, tag string) error {
	list, err := d.store.Tags(ctx)
	if err != nil {
		return err
	}
	for _, t := range list {
		if t.Name != tag {
			continue
		}
		if len(t.Routes) > 0 {
			return record.Conflict{What: fmt.Sprintf("the route %s tells of what is tagged %s: change or remove the route first",
				t.Routes[0], tag)}
		}
		return d.Tag(ctx, tag, Tagged{}, Tagged{Datasets: []string{"*"}, Metrics: []string{"*"}, Monitors: []string{"*"}})
	}
	return record.NotFound{Kind: "tag", Name: tag}
}

// names lists what can have tags, by kind.
func names(ctx context.Context, in *store.Store) (map[string][]string, error) {
	all := map[string][]string{}
	datasets, err := in.Datasets(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range datasets {
		all[store.TaggedDataset] = append(all[store.TaggedDataset], v.Name)
	}
	metrics, err := in.Metrics(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range metrics {
		all[store.TaggedMetric] = append(all[store.TaggedMetric], v.Name)
	}
	monitors, err := in.Monitors(ctx)
	if err != nil {
		return nil, err
	}
	for _, v := range monitors {
		all[store.TaggedMonitor] = append(all[store.TaggedMonitor], v.Name)
	}
	return all, nil
}

// fitting lists the names that patterns stand for; one that stands for none is refused,
// but for a lone star.
func fitting(kind string, patterns, all []string) ([]string, error) {
	named := []string{}
	for _, pattern := range patterns {
		before := len(named)
		for _, name := range all {
			matches, err := path.Match(pattern, name)
			if err != nil {
				return nil, record.Invalid{Field: kind, Given: pattern, Allowed: "a name, or a pattern with * and ? such as ops.*"}
			}
			if matches || name == pattern {
				named = append(named, name)
			}
		}
		if len(named) == before && pattern != "*" {
			return nil, record.NotFound{Kind: kind, Name: pattern}
		}
	}
	return named, nil
}
