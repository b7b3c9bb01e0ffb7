package service

import (
	"context"
	"encoding/json"
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/hyper"
	"kembrel/core/verdict"
	"kembrel/store/pg"
)

func (s *Service) runID(ctx context.Context, in api.RunInput) (int64, error) {
	if err := api.CheckProjectKey(in.Project); err != nil {
		return 0, api.Fail(api.Invalid, "%v", err)
	}
	if id, ok := s.runs.get(in); ok {
		return id, nil
	}
	id, err := s.db.RunID(ctx, in.Project, in.Number)
	if err == nil {
		s.runs.put(in, id)
	}
	if !errors.Is(err, pg.ErrNone) {
		return id, err
	}
	if _, _, err := s.project(ctx, in.Project); err != nil {
		return 0, err
	}
	return 0, api.Fail(api.NotFound, "there is no run %s; kembrel runs %s lists the project's runs", runAddress(in.Project, in.Number), in.Project)
}

// ListRuns lists a project's runs: those that fulfil a condition, in the order asked for.
func (s *Service) ListRuns(ctx context.Context, _ Who, in *api.RunsInput) (*api.Page[api.Run], error) {
	p, o, err := s.project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	q, err := runQuery(p.ID, o, in.RunChoice)
	if err != nil {
		return nil, err
	}
	if q.After, err = afterCursor(in.Cursor); err != nil {
		return nil, err
	}
	columns, _, err := columnsOf(o, in.Columns)
	if err != nil {
		return nil, err
	}
	q.Limit = in.Limit + 1
	places, err := s.db.FindRuns(ctx, q)
	if err != nil {
		return nil, orOutOfRange(err)
	}
	numbers := make([]int64, len(places))
	for i, place := range places {
		numbers[i] = place.Number
	}
	rows, err := s.db.RunsByNumber(ctx, p.ID, numbers)
	if err != nil {
		return nil, err
	}
	ids, byNumber := make([]int64, len(rows)), map[int64]pg.Run{}
	for i, r := range rows {
		ids[i], byNumber[int64(r.Number)] = r.ID, r
	}
	summaries, err := s.db.Summaries(ctx, ids, o.Curve)
	if err != nil {
		return nil, err
	}
	byRun := map[int64]pg.Summary{}
	for _, sum := range summaries {
		byRun[sum.Run] = sum
	}
	var values map[int64][]json.RawMessage
	if len(columns) > 0 {
		if values, err = s.db.RunValues(ctx, q, numbers, columns); err != nil {
			return nil, orOutOfRange(err)
		}
	}
	base, err := s.baselineBest(ctx, p, o)
	if err != nil {
		return nil, err
	}
	return page(places, in.Limit, func(place pg.RunPlace) api.Run {
		r := byNumber[place.Number]
		run := toRun(in.Project, o, r, byRun[r.ID])
		if base != nil && run.Best != nil && r.Number != p.Baseline {
			less := run.Best.Value - *base
			run.Against = &less
		}
		run.Values = values[place.Number]
		return run
	}, runCursor), nil
}

// baselineBest is the best reading of a project's baseline; nil where it has none.
func (s *Service) baselineBest(ctx context.Context, p pg.Project, o verdict.Objective) (*api.Float, error) {
	if p.Baseline == 0 {
		return nil, nil
	}
	row, err := s.db.RunByNumber(ctx, p.ID, p.Baseline)
	if err != nil { // it was deleted
		return nil, nil
	}
	sums, err := s.db.Summaries(ctx, []int64{row.ID}, o.Curve)
	if err != nil || len(sums) == 0 {
		return nil, err
	}
	best, ok := o.Best(sums[0].Core())
	if !ok {
		return nil, nil
	}
	v := api.Float(best.Value)
	return &v, nil
}

func toRun(project string, o verdict.Objective, r pg.Run, sum pg.Summary) api.Run {
	out := api.Run{Address: runAddress(project, r.Number), Project: project, Number: r.Number, Title: r.Title, State: r.State, Who: r.Who,
		Tags: r.Tags, Note: r.Note, Search: r.Search, Trial: r.Trial, Archived: r.Archived, Leaves: r.Doomed, Host: r.Host, Started: r.Started, Ended: r.Ended, Took: r.Took, Since: r.Since, Objective: o.String(), Step: r.Step, Epoch: api.Float(r.Epoch)}
	json.Unmarshal(r.Hyper, &out.Hyper)
	if sum.Count > 0 {
		if best, ok := o.Best(sum.Core()); ok {
			out.Best = figure(o.Curve, best)
		}
		out.Last = figure(o.Curve, sum.Core().Last)
		out.Sketch = sum.Core().Sketch.Values
	}
	if r.Origin != nil {
		json.Unmarshal(r.Origin, &out.Origin)
	}
	out.Verdict = toVerdict(r.Verdict, r.Dispute)
	return out
}

// BeginRun makes a run, or answers the one made before with the same key.
func (s *Service) BeginRun(ctx context.Context, who Who, in *api.NewRun) (*api.Run, error) {
	p, _, err := s.project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	if _, err := uuid.Parse(in.Key); err != nil {
		return nil, api.Fail(api.Invalid, "Idempotency-Key %.60q is not a UUID", in.Key)
	}
	if err := hyper.Check(in.Body.Hyper); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if in.Body.Stop != nil {
		if err := in.Body.Stop.Check(); err != nil {
			return nil, api.Fail(api.Invalid, "%v", err)
		}
	}
	origin, err := s.checkOrigin(ctx, in.Body.Origin)
	if err != nil {
		return nil, err
	}
	_, number, project, err := s.db.RunByKey(ctx, in.Key)
	if err == nil && project != p.ID {
		return nil, api.Fail(api.Conflict, "this key made a run of another project")
	}
	if errors.Is(err, pg.ErrNone) {
		err = s.db.InTx(ctx, func(q pg.Queries) error {
			var id int64
			id, number, err = q.AddRun(ctx, pg.NewRun{Project: p.ID, Creator: who.ID, Key: in.Key, Title: clean(in.Body.Title),
				Host: in.Body.Recipe.Host, Recipe: cleanRecipe(in.Body.Recipe), Origin: origin, Search: in.Body.Search, Trial: in.Body.Trial, Started: byOurClock(ctx, in.Body.Started)})
			if err != nil {
				return err
			}
			if err := q.SetHyper(ctx, id, in.Body.Hyper); err != nil {
				return err
			}
			if in.Body.Stop != nil {
				if err := q.SetRunStopRule(ctx, id, in.Body.Stop); err != nil {
					return err
				}
			}
			return q.AddEvent(ctx, pg.Event{Kind: "run", Project: p.ID, Run: id, Person: who.ID, What: "started"})
		})
		s.live.news()
	}
	if err != nil {
		return nil, err
	}
	return s.run(ctx, api.RunInput{ProjectInput: in.ProjectInput, Number: number})
}

// clean drops what PostgreSQL's text cannot hold.
func clean(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "\uFFFD")
}

func cleanRecipe(r api.Recipe) api.Recipe {
	for i := range r.Command {
		r.Command[i] = clean(r.Command[i])
	}
	for _, f := range []*string{&r.Folder, &r.Host, &r.System, &r.CPU, &r.Commit, &r.Language, &r.Inside, &r.Remote, &r.Changes, &r.Program} {
		*f = clean(*f)
	}
	for i := range r.GPUs {
		r.GPUs[i] = clean(r.GPUs[i])
	}
	for i := range r.Withheld {
		r.Withheld[i] = clean(r.Withheld[i])
	}
	for i := range r.Untracked {
		r.Untracked[i] = clean(r.Untracked[i])
	}
	if r.Environment != nil {
		r.Environment = cleanMap(r.Environment)
	}
	if r.Packages != nil {
		r.Packages = cleanMap(r.Packages)
	}
	return r
}

func (s *Service) run(ctx context.Context, in api.RunInput) (*api.Run, error) {
	r, _, _, err := s.runWith(ctx, in)
	return r, err
}

// runWith finds a run, its row, and the summary of its objective.
func (s *Service) runWith(ctx context.Context, in api.RunInput) (*api.Run, pg.Run, pg.Summary, error) {
	p, o, err := s.project(ctx, in.Project)
	if err != nil {
		return nil, pg.Run{}, pg.Summary{}, err
	}
	row, err := s.db.RunByNumber(ctx, p.ID, in.Number)
	if errors.Is(err, pg.ErrNone) {
		if _, why := s.runID(ctx, in); why != nil { // in our words
			err = why
		}
	}
	if err != nil {
		return nil, pg.Run{}, pg.Summary{}, err
	}
	sums, err := s.db.Summaries(ctx, []int64{row.ID}, o.Curve)
	if err != nil {
		return nil, pg.Run{}, pg.Summary{}, err
	}
	var sum pg.Summary
	if len(sums) > 0 {
		sum = sums[0]
	}
	run := toRun(in.Project, o, row, sum)
	return &run, row, sum, nil
}

// GetRun shows a run with its legs, notes, curves and the sentences of its page.
func (s *Service) GetRun(ctx context.Context, _ Who, in *api.RunInput) (*api.RunDetail, error) {
	run, row, _, err := s.runWith(ctx, *in)
	if err != nil {
		return nil, err
	}
	out := &api.RunDetail{Run: *run, Legs: []api.Leg{}, Notes: []api.Note{}, Curves: []api.CurveInfo{}}
	recipes, err := s.recipesOf(ctx, []pg.Run{row})
	if err != nil {
		return nil, err
	}
	out.Recipe = recipes[row.ID]
	legs, err := s.db.ListLegs(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	for _, l := range legs {
		out.Legs = append(out.Legs, api.Leg{Number: l.Number, State: l.State, Host: l.Host, FromStep: l.FromStep, LastStep: l.LastStep,
			Epoch: api.Float(l.LastEpoch), Started: l.Started, Ended: l.Ended, Seen: l.Seen, ExitCode: l.ExitCode, Signal: l.Signal, Why: l.Why, Tail: l.Tail})
		if l.Resumed != nil {
			if err := json.Unmarshal(l.Resumed, &out.Legs[len(out.Legs)-1].Resumed); err != nil {
				return nil, err
			}
		}
	}
	notes, err := s.db.ListNotes(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	for _, n := range notes {
		out.Notes = append(out.Notes, api.Note(n))
	}
	curves, err := s.db.Summaries(ctx, []int64{row.ID}, "")
	if err != nil {
		return nil, err
	}
	for _, c := range curves {
		k := c.Core()
		out.Curves = append(out.Curves, api.CurveInfo{Name: c.Name, Count: c.Count, NaN: c.NaN, Last: figure(c.Name, k.Last),
			Lowest: finite(c.Name, k.Lowest), Highest: finite(c.Name, k.Highest)})
	}
	count, size, err := s.db.CheckpointStats(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	out.Checkpoints, out.Needs = int(count), row.NeedsOrUsual()
	if row.Repeats != nil {
		if err := json.Unmarshal(row.Repeats, &out.Repeats); err != nil {
			return nil, err
		}
	}
	if out.Start, err = s.start(ctx, row.ID, row.Start); err != nil {
		return nil, err
	}
	o, err := verdict.ParseObjective(run.Objective)
	if err != nil {
		return nil, err
	}
	if out.Verdict == nil { // not judged yet
		if out.Verdict, err = s.verdictOf(ctx, row.ID, o); err != nil {
			return nil, err
		}
	}
	stop, err := s.stopState(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	out.Stop, out.ExpectedEnd = *stop, expectedEnd(out)
	if err := s.presentOrigins(ctx, out); err != nil {
		return nil, err
	}
	if err := s.untaken(ctx, row, out); err != nil {
		return nil, err
	}
	if out.Warnings, err = s.warnings(ctx, out); err != nil {
		return nil, err
	}
	out.Answers = api.Answers{Learning: out.Verdict.Said, WentIn: sayWentIn(out), CameOut: sayCameOut(count, size), Happened: sayHappened(out)}
	return out, nil
}

// expectedEnd is when a running run will have done the epochs that its hyperparameters announce.
func expectedEnd(r *api.RunDetail) *time.Time {
	var epochs float64
	if r.State != "running" || json.Unmarshal(r.Hyper["epochs"], &epochs) != nil || len(r.Legs) == 0 {
		return nil
	}
	left := (epochs - float64(r.Epoch)) * float64(r.Verdict.Pace)
	if !(left >= 0) || left > 1e9 {
		return nil
	}
	end := r.Legs[len(r.Legs)-1].Seen.Add(time.Duration(left * float64(time.Second)))
	return &end
}

// ChangeRun changes a run's title, tags and note.
func (s *Service) ChangeRun(ctx context.Context, who Who, in *api.RunEdit) (*api.Run, error) {
	id, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	title, tags, err := cleanEdit(in)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q pg.Queries) error {
		if err := q.ChangeRun(ctx, id, title, tags, in.Body.Note); err != nil {
			return err
		}
		return s.runEvent(ctx, q, pg.Event{Kind: "run", Run: id, Person: who.ID, What: "changed"})
	})
	if err != nil {
		return nil, err
	}
	s.live.news()
	return s.run(ctx, in.RunInput)
}

// runEvent writes an event of a run, filling in the project.
func (s *Service) runEvent(ctx context.Context, q pg.Queries, e pg.Event) (err error) {
	if e.Project, err = q.RunProject(ctx, e.Run); err != nil {
		return err
	}
	return q.AddEvent(ctx, e)
}
