-- +goose Up
-- How long a run took: the time of its legs, in seconds, not what lay between them. Set when it ends.
alter table run add column took double precision;
update run r set took = coalesce((select sum(extract(epoch from g.ended - g.started)) from leg g where g.run = r.id and g.ended is not null),
                                 extract(epoch from r.ended - r.started))
where r.ended is not null;

-- +goose Down
alter table run drop column took;
