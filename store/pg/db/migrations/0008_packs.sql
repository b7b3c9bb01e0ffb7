-- +goose Up
-- Chunks lie in packs (docs/storage.md); '' is a chunk of the earlier form, a blob of its own, until it has been moved.
alter table chunk add pack text not null default '';
alter table chunk add at bigint not null default 0;          -- where its stored bytes begin in the pack
alter table chunk add stored int not null default 0;         -- how many they are
alter table chunk add damaged boolean not null default false; -- found to be other bytes; the next upload of the same content heals it
alter table chunk add uses int not null default 0;           -- checkpoints that hold it; 0: cleaning may take it when its lease (kept) is over
create index chunk_pack on chunk (pack);
create index chunk_loose on chunk (kept) where uses = 0;
update chunk c set uses = u.n from (
    select digest, count(*) as n from (
        select distinct f.run, f.checkpoint, substring(f.chunks from 36 * i + 1 for 32) as digest
        from checkpoint_file f cross join lateral generate_series(0, length(f.chunks) / 36 - 1) i) d group by digest) u
where u.digest = c.digest;

-- +goose Down
drop index chunk_pack, chunk_loose;
alter table chunk drop column pack, drop column at, drop column stored, drop column damaged, drop column uses;
