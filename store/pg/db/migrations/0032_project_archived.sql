-- +goose Up
-- Since when a project is out of the way; null: it is not.
alter table project add column archived timestamptz;

-- Deleted projects: one that takes the key again goes on numbering runs, so that an address never means two things.
create table project_gone (
    key  text primary key,
    runs int not null                                    -- number given to the latest run
);

-- +goose Down
drop table project_gone;
alter table project drop column archived;
