-- +goose Up
-- A person who disagrees disputes a verdict, and what a keep rule does not keep has a grace period.
alter table run rename column aside to dispute;
update project set keep_rule = keep_rule - 'stay' || jsonb_build_object('grace', keep_rule -> 'stay') where keep_rule ? 'stay';
update run set keep_rule = keep_rule - 'stay' || jsonb_build_object('grace', keep_rule -> 'stay') where keep_rule ? 'stay';

-- +goose Down
update run set keep_rule = keep_rule - 'grace' || jsonb_build_object('stay', keep_rule -> 'grace') where keep_rule ? 'grace';
update project set keep_rule = keep_rule - 'grace' || jsonb_build_object('stay', keep_rule -> 'grace') where keep_rule ? 'grace';
alter table run rename column dispute to aside;
