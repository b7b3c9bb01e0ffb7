-- +goose Up
-- The best of each 2000 runs of a project that count, so that what beat all before it is found without looking at each.
create index run_block_best on run (project, (number / 2000), best)
    where best is not null and archived is null and doomed is null;

-- +goose Down
drop index run_block_best;
