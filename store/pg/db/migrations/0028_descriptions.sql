-- +goose Up
-- What people write for those who use a model, beside what is known of each edition.
alter table model
    add column limits  text not null default '',
    add column contact text not null default '';

-- +goose Down
alter table model drop column limits, drop column contact;
