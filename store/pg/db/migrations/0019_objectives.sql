-- +goose Up
-- An objective is a curve and a direction, wherever it stands.
alter table project alter objective type jsonb
    using jsonb_build_object('curve', split_part(objective, ' ', 1), 'direction', split_part(objective, ' ', 2));
alter table project add check (objective->>'direction' in ('lower', 'higher') and objective->>'curve' <> '');
update project set stop_rule = case when stop_rule->>'objective' = '' then stop_rule - 'objective'
    else jsonb_set(stop_rule, '{objective}', jsonb_build_object('curve', split_part(stop_rule->>'objective', ' ', 1),
        'direction', split_part(stop_rule->>'objective', ' ', 2))) end
where jsonb_typeof(stop_rule->'objective') = 'string';
update run set stop_rule = case when stop_rule->>'objective' = '' then stop_rule - 'objective'
    else jsonb_set(stop_rule, '{objective}', jsonb_build_object('curve', split_part(stop_rule->>'objective', ' ', 1),
        'direction', split_part(stop_rule->>'objective', ' ', 2))) end
where jsonb_typeof(stop_rule->'objective') = 'string';

-- +goose Down
alter table project drop constraint project_objective_check;
alter table project alter objective type text using objective->>'curve' || ' ' || (objective->>'direction');
update project set stop_rule = jsonb_set(stop_rule, '{objective}',
    to_jsonb(stop_rule->'objective'->>'curve' || ' ' || (stop_rule->'objective'->>'direction')))
where jsonb_typeof(stop_rule->'objective') = 'object';
update run set stop_rule = jsonb_set(stop_rule, '{objective}',
    to_jsonb(stop_rule->'objective'->>'curve' || ' ' || (stop_rule->'objective'->>'direction')))
where jsonb_typeof(stop_rule->'objective') = 'object';
