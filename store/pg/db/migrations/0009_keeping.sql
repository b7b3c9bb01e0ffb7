-- +goose Up
-- Which checkpoints stay, and what becomes of the others (docs/keeping.md).
alter table project add keep_rule jsonb;          -- null: all stay
alter table run add keep_rule jsonb;              -- the run's own; {}: none, whatever the project's is; null: the project's
alter table checkpoint add pinned boolean not null default false;
alter table checkpoint add goes timestamptz;      -- when its bytes go; null: it stays
alter table checkpoint add dropped timestamptz;   -- when they went
alter table checkpoint add why_goes text not null default ''; -- the rule or the person that said so
alter table checkpoint add by_rule boolean not null default false; -- a rule said so, and may say otherwise
create index checkpoint_goes on checkpoint (goes) where goes is not null and dropped is null;

-- +goose Down
drop index checkpoint_goes;
alter table checkpoint drop column pinned, drop column goes, drop column dropped, drop column why_goes, drop column by_rule;
alter table run drop column keep_rule;
alter table project drop column keep_rule;
