-- +goose Up
alter table search add archived timestamptz;

-- +goose Down
alter table search drop column archived;
