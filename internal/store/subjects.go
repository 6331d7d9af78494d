package store

import (
	"context"
	"fmt"

	"tinbell/internal/record"
)

// Place is a dataset with what limits may name it by.
type Place struct {
	Dataset string         `db:"dataset"`
	Tags    record.Strings `db:"tags"`
}

// placed are the statements that give the datasets which things of a kind are about, by the
// name or number that a request has for them.
var placed = map[string]string{
	"dataset": `select id from dataset where name = any($1)`,
	"metric":  `select dataset_id from metric where name = any($1)`,
	"monitor": `select m.dataset_id from monitor v join metric m on m.id = v.metric_id where v.name = any($1)`,
	"series":  `select m.dataset_id from series s join metric m on m.id = s.metric_id where s.id::text = any($1)`,
	"alert":   alertPlaces + `where a.id::text = any($1)`,
	"group":   alertPlaces + `where a.group_id::text = any($1)`,
	"incident": `select dataset_id from incident where reference = any($1) union select d.id
		from incident i, jsonb_array_elements_text(i.also) also join dataset d on d.name = also where i.reference = any($1)`,
	"sla":        `select dataset_id from sla where name = any($1)`,
	"comparison": `select dataset_id from comparison where name = any($1)`,
	"stretch": `select m.dataset_id from stretch x join series s on s.id = x.series_id
		join metric m on m.id = s.metric_id where x.id::text = any($1)`,
	"proposal": `select m.dataset_id from proposal x join monitor v on v.id = x.monitor_id
		join metric m on m.id = v.metric_id where x.id::text = any($1)`,
	"note": `select dataset_id from note where id::text = any($1)`,
	"log":  `select dataset_id from log where name = any($1)`,
	"reconciliation": `select m.dataset_id from reconciliation r
		join metric m on m.id in (r.up_metric, r.down_metric, r.metric_id) where r.name = any($1)`,
}

const alertPlaces = `select coalesce(m.dataset_id, a.of_dataset, sla.dataset_id, c.dataset_id) from alert a
	left join monitor v on v.id = a.monitor_id left join metric m on m.id = v.metric_id
	left join sla on sla.id = a.of_sla left join comparison c on c.id = a.of_comparison `

// PlacesOf gives the datasets that things of a kind are about; nothing of what is not there.
// What is about no dataset counts as one without a name, which no limit covers.
func (s *Store) PlacesOf(ctx context.Context, kind string, names []string) ([]Place, error) {
	of, known := placed[kind]
	if !known {
		return nil, fmt.Errorf("what a %s is about is not known", kind)
	}
	return many[Place](ctx, s, "datasets of a "+kind,
		`select distinct coalesce(d.name, '') as dataset, coalesce(d.tags, '[]') as tags from (`+of+
			`) x (id) left join dataset d on d.id = x.id`, names)
}

// Places gives every dataset there is.
func (s *Store) Places(ctx context.Context) ([]Place, error) {
	return many[Place](ctx, s, "datasets", `select name as dataset, tags from dataset order by name`)
}
