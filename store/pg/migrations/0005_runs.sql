-- +goose Up
alter table run add tags text[] not null default '{}';
alter table run add note text not null default '';
create index hyper_name on hyper (name, run);

-- +goose Down
drop index hyper_name;
alter table run drop column tags, drop column note;
