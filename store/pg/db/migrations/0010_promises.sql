-- +goose Up
-- How long a run took: the time of its legs, in seconds, not what lay between them. Set when it ends.
alter table run add column took double precision;
update run r set took = coalesce((select sum(extract(epoch from g.ended - g.started)) from leg g where g.run = r.id and g.ended is not null),
                                 extract(epoch from r.ended - r.started))
where r.ended is not null;

-- What was wrong with a chunk when it was last looked at: '', 'missing' or 'damaged'. Each reading tries again; one that is right takes the mark away.
alter table chunk add column bad text not null default '' check (bad in ('', 'missing', 'damaged'));
update chunk set bad = 'damaged' where damaged;
alter table chunk drop column damaged;
create index chunk_place on chunk (pack, at, digest);
drop index chunk_pack;

-- When to look into a file of weights again whose chunks were away; null: what is known of it is final.
alter table tensor_file add column again timestamptz;

-- +goose Down
alter table tensor_file drop column again;
drop index chunk_place;
create index chunk_pack on chunk (pack);
alter table chunk add column damaged boolean not null default false;
update chunk set damaged = true where bad <> '';
alter table chunk drop column bad;
alter table run drop column took;
