-- +goose Up
-- How many runs a project has, runs now, and lost, archived and deleted ones left out: the sum over its rows. A change of a run adds a row, so that nobody
-- waits for anybody; a job brings them together now and then.
create table run_tally (
    project bigint not null references project on delete cascade,
    runs    bigint not null,
    running bigint not null,
    lost    bigint not null
);
create index run_tally_project on run_tally (project);
insert into run_tally select project, count(*), count(*) filter (where state = 'running'), count(*) filter (where state = 'lost')
from run where archived is null and doomed is null group by project;

-- +goose StatementBegin
create function tally_run() returns trigger language plpgsql as $$
declare
    was int := 0; was_running int := 0; was_lost int := 0; is_ int := 0; is_running int := 0; is_lost int := 0;
begin
    if tg_op <> 'INSERT' and old.archived is null and old.doomed is null then
        was := 1; was_running := (old.state = 'running')::int; was_lost := (old.state = 'lost')::int;
    end if;
    if tg_op <> 'DELETE' and new.archived is null and new.doomed is null then
        is_ := 1; is_running := (new.state = 'running')::int; is_lost := (new.state = 'lost')::int;
    end if;
    if was <> is_ or was_running <> is_running or was_lost <> is_lost then
        insert into run_tally values (coalesce(new.project, old.project), is_ - was, is_running - was_running, is_lost - was_lost);
    end if;
    return null;
end $$;
-- +goose StatementEnd
create trigger run_tally after insert or delete or update of state, archived, doomed on run for each row execute function tally_run();

-- +goose Down
drop trigger run_tally on run;
drop function tally_run;
drop table run_tally;
