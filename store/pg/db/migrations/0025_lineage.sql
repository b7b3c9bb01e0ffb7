-- +goose Up
-- What came of a thing is asked as often as where it comes from.
create index run_origin on run (split_part(origin ->> 'from', '@', 1)) where origin is not null;
create index run_start on run ((start ->> 'digest')) where start is not null;
create index snapshot_base on snapshot (dataset, base) where base is not null;

-- +goose Down
drop index run_origin, run_start, snapshot_base;
