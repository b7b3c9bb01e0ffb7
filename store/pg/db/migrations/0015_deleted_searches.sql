-- +goose Up
-- A deleted search keeps its number and its key and nothing else, so that no other search is ever taken for it.
alter table search add deleted timestamptz;

-- +goose Down
delete from search where deleted is not null;
alter table search drop column deleted;
