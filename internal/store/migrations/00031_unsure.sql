-- +goose Up
-- What nobody answered, of each monitor the least certain first: the label queue takes its
-- head.
create index alert_unsure on alert (monitor_id, abs(coalesce(chance, 0.5) - 0.5), raised_at desc)
    where verdict = '' and monitor_id is not null and not planned;
drop index alert_unanswered;

-- +goose Down
create index alert_unanswered on alert (monitor_id, raised_at desc) where verdict = '' and monitor_id is not null and not planned;
drop index alert_unsure;
