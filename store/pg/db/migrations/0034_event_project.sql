-- +goose Up
-- The audit of a project reads its own events only, the latest first, also where those of others are many.
create index event_project on event (project, id) where project is not null;

-- +goose Down
drop index event_project;
