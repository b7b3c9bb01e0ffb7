-- query: evaluation_list
-- The latest first.
select e.run, e.id, e.number, e.key::text, e.checkpoint, c.leg, c.step, c.epoch, e.data, e.split, e.snapshot, e.figures, e.measures, e.verified, e.command, e.notes,
    e.host, coalesce(p.name, '') as who, e.started, e.ended
from evaluation e join checkpoint c on c.run = e.run and c.id = e.checkpoint left join person p on p.id = e.person
where e.run = @run and (@checkpoint = 0 or e.checkpoint = @checkpoint::bigint) and (@on = '' or e.data = @on or e.data = '' and e.split = @on)
    and (@below = 0 or e.number < @below::int) and (@number = 0 or e.number = @number::int) and (not @verified or e.verified is not null)
order by e.number desc limit @limit;

-- query: evaluation_by_key
select e.run, e.number from evaluation e where e.key = @key;

-- query: evaluation_lock
-- Numbers are given one after another.
select id from run where id = @run for update;

-- query: evaluation_add
insert into evaluation (run, number, key, checkpoint, data, split, snapshot, figures, measures, verified, command, notes, host, person, started, ended)
values (@run, (select coalesce(max(number), 0) + 1 from evaluation where run = @run), @key, @checkpoint, @data, @split, @snapshot, @figures, @measures, @verified, @command,
    @notes, @host, @person, @started, @ended)
returning number;

-- query: evaluation_note
-- Those that are new.
update evaluation set notes = notes || (select coalesce(jsonb_agg(n), '[]') from jsonb_array_elements(@notes::jsonb) n where not notes @> jsonb_build_array(n))
where key = @key and jsonb_array_length(notes) < 100;

-- query: evaluation_measure
-- What a sheet gives stands before what the program said.
update evaluation set measures = measures || @measures where run = @run and id = @id;

-- query: evaluation_sheets
select s.evaluation, s.number, s.split, s.examples, s.figures, s.alarms from sheet s
where s.run = @run and s.evaluation = any(@evaluations) order by s.number;

-- query: evaluation_latest
-- Of each run on each data.
select distinct on (e.run, coalesce(nullif(e.data, ''), e.split)) e.run, coalesce(nullif(e.data, ''), e.split) as "on", e.measures,
    exists (select 1 from sheet s where s.run = e.run and s.evaluation = e.id and jsonb_array_length(s.alarms) > 0) as alarmed
from evaluation e where e.run = any(@runs) and (e.data <> '' or e.split <> '') order by e.run, coalesce(nullif(e.data, ''), e.split), e.number desc;
