-- +goose Up
-- Who may report a check that a standing needs, by its name; absent: anybody who may report checks.
alter table model_standing add reporters jsonb not null default '{}';
-- What a person lowered: for what they ask themselves the rule of before holds still.
alter table model_standing add lowered_by bigint references person;
alter table model_standing add lowered_from jsonb;          -- {approvers, checks, reporters}
-- The rule when an edition was asked for: a lower one that comes later does not hold for it.
alter table asking add rule jsonb not null default '{}';    -- {approvers, checks, reporters}
-- Who had signed off when it took effect, for ever: [{who, why, at}].
alter table holding add signed jsonb not null default '[]';
alter table holding disable trigger holding_follows;          -- the history of a standing stays; this adds to it
update holding h set signed = coalesce((select jsonb_agg(jsonb_build_object('who', p.name, 'why', s.why, 'at', s.at) order by s.at)
    from sign_off s join person p on p.id = s.person where s.asking = h.asking and s.withdrawn is null), '[]') where h.asking is not null;
alter table holding enable trigger holding_follows;
update asking a set rule = (select jsonb_build_object('approvers', m.approvers, 'checks', to_jsonb(m.checks))
    from model_standing m where m.model = a.model and m.name = a.standing) where a.ended is null;

-- +goose Down
alter table holding drop signed;
alter table asking drop rule;
alter table model_standing drop lowered_from, drop lowered_by, drop reporters;
