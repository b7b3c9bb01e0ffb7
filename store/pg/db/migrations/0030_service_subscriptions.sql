-- +goose Up
-- A subscription of no project is one of the whole service.
alter table subscription alter column project drop not null;
alter table subscription drop constraint subscription_project_name_key;
alter table subscription add constraint subscription_name unique nulls not distinct (project, name);

-- +goose Down
delete from subscription where project is null;
alter table subscription drop constraint subscription_name;
alter table subscription add constraint subscription_project_name_key unique (project, name);
alter table subscription alter column project set not null;
