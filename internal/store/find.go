package store

import (
	"context"
	"strings"

	"tinbell/internal/record"
)

// Find gives what has all of some words in its name, its owner, its tags or what it says, in
// any case: what is named so before what begins so, before what only holds them.
func (s *Store) Find(ctx context.Context, words string, limit int) ([]record.Match, error) {
	like := strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`)
	var patterns []string
	for _, w := range strings.Fields(words) {
		patterns = append(patterns, "%"+like.Replace(w)+"%")
	}
	if len(patterns) == 0 {
		return nil, nil
	}
	return many[record.Match](ctx, s, "what is found", `
		with found as (
			select 'dataset' as kind, d.name, d.name as dataset, d.owner as says, d.id, 0 as number,
				concat_ws(' ', d.name, d.owner, d.tags) as words, 1 as place from dataset d
			union all
			select 'monitor', v.name, d.name, coalesce(nullif(v.owner, ''), d.owner), v.id, 0, concat_ws(' ', v.name, v.owner, v.tags, d.name), 2
			from monitor v join metric m on m.id = v.metric_id join dataset d on d.id = m.dataset_id
			union all
			select 'series', m.name || case when s.segment = '' then '' else ', ' || s.segment end, d.name, m.measure, s.id,
				0, concat_ws(' ', m.name, s.segment, d.name), 4
			from series s join metric m on m.id = s.metric_id join dataset d on d.id = m.dataset_id
			union all
			select 'incident', i.reference, d.name, i.title, i.id, 0, concat_ws(' ', i.reference, i.title, i.cause, d.name, i.segment), 3
			from incident i join dataset d on d.id = i.dataset_id
			union all
			select 'sla', p.name, d.name, p.owner, p.id, 0, concat_ws(' ', p.name, p.owner, d.name), 3 from sla p
			join dataset d on d.id = p.dataset_id
			union all
			select 'comparison', c.name, d.name, c.owner, c.id, 0, concat_ws(' ', c.name, c.owner, d.name), 3
			from comparison c join dataset d on d.id = c.dataset_id
			union all
			select 'sentence', l.name, d.name, t.text, l.id, t.number, concat_ws(' ', l.name, t.text), 5
			from log_template t join log l on l.id = t.log_id join dataset d on d.id = l.dataset_id where t.merged_into = 0
			union all
			select 'alert', a.id::text, coalesce(d.name, ''), a.sentence, a.id, 0,
				concat_ws(' ', a.id, a.sentence, v.name, s.segment, d.name), case when a.closed_at is null then 0 else 6 end
			from alert a left join monitor v on v.id = a.monitor_id left join series s on s.id = a.series_id
			left join metric m on m.id = v.metric_id left join dataset d on d.id = coalesce(m.dataset_id, a.of_dataset)
		)
		select kind, name, dataset, says, id, number from found where words ilike all($1)
		order by case when lower(name) = lower($2) then 0 when starts_with(lower(name), lower($2)) then 1 else 2 end, place,
			case when kind = 'alert' then -id else 0 end, length(name), name
		limit $3`, patterns, strings.TrimSpace(words), limit)
}
