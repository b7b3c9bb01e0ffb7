-- +goose Up
-- The token that a token, a session or a link was made with; they end when it is revoked.
alter table token add column parent bigint references token on delete set null;
alter table session add column parent bigint references token on delete cascade;
alter table sign_in_link add column parent bigint references token on delete cascade;
create index token_parent on token (parent) where parent is not null;

-- +goose Down
drop index token_parent;
alter table sign_in_link drop column parent;
alter table session drop column parent;
alter table token drop column parent;
