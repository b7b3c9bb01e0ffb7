-- +goose Up
-- Files that came of a check on an edition; like the check, they never change.
create table check_file (
    check_id bigint not null references edition_check,
    path     text not null,
    size     bigint not null,
    digest   bytea not null,
    chunks   bytea not null,                             -- 36 bytes each: digest, length big endian
    primary key (check_id, path)
);
-- +goose StatementBegin
create or replace function edition_stays() returns trigger language plpgsql as $$
begin
    if tg_op = 'UPDATE' and tg_table_name = 'edition' then
        if new.run is null and to_jsonb(new) - 'run' = to_jsonb(old) - 'run' then
            return new;                                  -- its run is deleted
        end if;
    end if;
    raise exception 'editions never change' using errcode = 'KM001';
end $$;
-- +goose StatementEnd
create trigger check_file_stays before update or delete on check_file for each row execute function edition_stays();

-- +goose Down
drop table check_file;
