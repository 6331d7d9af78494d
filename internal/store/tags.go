package store

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"

	"tinbell/internal/record"
)

// Tags gives every tag that something has or a route names, with what has it.
func (s *Store) Tags(ctx context.Context) ([]record.Tag, error) {
	return many[record.Tag](ctx, s, "tags", `
		with has as (
			select tag, 'dataset' as kind, name, null as channel from dataset, jsonb_array_elements_text(tags) tag
			union all select tag, 'metric', m.name, null from metric m
			join dataset d on d.id = m.dataset_id, jsonb_array_elements_text(all_tags(d.tags, m.tags)) tag where m.comparison = ''
			union all select tag, 'monitor', v.name, null from monitor v join metric m on m.id = v.metric_id join dataset d on d.id = m.dataset_id,
				jsonb_array_elements_text(all_tags(d.tags, m.tags, v.tags)) tag where v.retired_at is null
			union all select tag, 'route', r.name, c.name from route r join channel c on c.id = r.channel_id, jsonb_array_elements_text(r.tags) tag),
		rings as (
			select tag, count(*) as n from alert a left join monitor v on v.id = a.monitor_id left join metric m on m.id = v.metric_id
				left join dataset d on d.id = coalesce(m.dataset_id, a.of_dataset), jsonb_array_elements_text(all_tags(d.tags, m.tags, v.tags)) tag
			where a.closed_at is null and a.held <> 'held' group by tag)
		select tag as name, coalesce(max(rings.n), 0)::int as open,
			coalesce(jsonb_agg(distinct has.name) filter (where kind = 'dataset'), '[]') as datasets,
			coalesce(jsonb_agg(distinct has.name) filter (where kind = 'metric'), '[]') as metrics,
			coalesce(jsonb_agg(distinct has.name) filter (where kind = 'monitor'), '[]') as monitors,
			coalesce(jsonb_agg(distinct has.name) filter (where kind = 'route'), '[]') as routes,
			coalesce(jsonb_agg(distinct channel) filter (where channel is not null), '[]') as channels
		from has left join rings using (tag) group by tag order by tag`)
}

// Kinds of things that have tags.
const (
	TaggedDataset = "dataset"
	TaggedMetric  = "metric"
	TaggedMonitor = "monitor"
)

// Tag gives things of a kind a tag, or takes it off them. Those that have it already, or
// have it not, stay as they are.
func Tag(ctx context.Context, tx pgx.Tx, tag, kind string, names []string, off bool) error {
	set := `update ` + kind + ` set tags = all_tags(tags, jsonb_build_array($1::text)) where name = any($2)`
	if off {
		set = `update ` + kind + ` set tags = tags - $1::text where name = any($2)`
	}
	if _, err := tx.Exec(ctx, set, tag, names); err != nil {
		return fmt.Errorf("tag: %w", err)
	}
	return nil
}

// CrowdedWith names a thing of a kind that has more tags than it may have; empty if none
// has.
func (s *Store) CrowdedWith(ctx context.Context, kind string, most int) (string, error) {
	names, err := many[string](ctx, s, kind, `select name from `+kind+` where jsonb_array_length(tags) > $1 limit 1`, most)
	if err != nil || len(names) == 0 {
		return "", err
	}
	return names[0], nil
}
