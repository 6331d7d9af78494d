-- +goose Up
alter table dataset add column tags jsonb not null default '[]';
alter table metric add column tags jsonb not null default '[]';
alter table monitor add column tags jsonb not null default '[]';
alter table route add column tags jsonb not null default '[]';

-- What is tagged at all, each tag once and in order.
-- +goose StatementBegin
create function all_tags(variadic lists jsonb[]) returns jsonb language sql immutable as $$
	select coalesce(jsonb_agg(distinct tag order by tag), '[]') from unnest(lists) list, jsonb_array_elements_text(list) tag
$$;
-- +goose StatementEnd

-- +goose Down
drop function all_tags;
alter table route drop column tags;
alter table monitor drop column tags;
alter table metric drop column tags;
alter table dataset drop column tags;
