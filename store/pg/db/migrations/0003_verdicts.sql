-- +goose Up
alter table project add stop_rule jsonb;         -- null: none
alter table run add stop_rule jsonb;             -- {}: none for this run; null: the project's
alter table run add verdict jsonb;               -- as last judged
alter table run add aside jsonb;                 -- a person who disagrees, and why
alter table run add stopped jsonb;               -- the rule that said stop, where, and why

-- +goose Down
alter table run drop column stop_rule, drop column verdict, drop column aside, drop column stopped;
alter table project drop column stop_rule;
