package runs

import (
	"context"
	"errors"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/hyper"
	"kembrel/service/act"
	"kembrel/store"
)

// cleanEdit checks what a person changes.
func cleanEdit(in *api.RunEdit) (title *string, tags []string, err error) {
	if in.Body.Title != nil {
		text := act.Clean(*in.Body.Title)
		title = &text
	}
	if in.Body.Note != nil {
		text := act.Clean(*in.Body.Note)
		in.Body.Note = &text
	}
	if in.Body.Tags == nil {
		return title, nil, nil
	}
	tags = []string{}
	for _, t := range *in.Body.Tags {
		if t = strings.TrimSpace(act.Clean(t)); t == "" || len(t) > 60 || strings.ContainsFunc(t, unicode.IsControl) {
			return nil, nil, api.Fail(api.Invalid, "tag %.80q has not 1 to 60 characters", t)
		}
		if !slices.Contains(tags, t) {
			tags = append(tags, t)
		}
	}
	return title, tags, nil
}

// BeginRun makes a run, or answers the one made before with the same key.
func (s *Runs) BeginRun(ctx context.Context, who act.Who, in *api.NewRun) (*api.Run, error) {
	p, err := s.Project(ctx, in.Project)
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
	if errors.Is(err, store.ErrNone) {
		err = s.db.InTx(ctx, func(q Tx) error {
			var id int64
			id, number, err = q.AddRun(ctx, store.NewRun{Project: p.ID, Creator: who.ID, Key: in.Key,
				Title: act.Clean(in.Body.Title),
				Host:  in.Body.Recipe.Host, Recipe: cleanRecipe(in.Body.Recipe), Origin: origin, Place: in.Body.Place,
				Started: act.ByOurClock(ctx, in.Body.Started)})
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
			return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: id, Person: who.ID, Verb: "started"})
		})
		s.Live.News()
	}
	if err != nil {
		return nil, err
	}
	return s.Run(ctx, api.RunInput{ProjectInput: in.ProjectInput, Number: number})
}

func cleanRecipe(r api.Recipe) api.Recipe {
	for i := range r.Command {
		r.Command[i] = act.Clean(r.Command[i])
	}
	for _, f := range []*string{&r.Folder, &r.Host, &r.System, &r.CPU, &r.Commit, &r.Language, &r.Inside, &r.Remote,
		&r.Changes, &r.Program} {
		*f = act.Clean(*f)
	}
	for i := range r.GPUs {
		r.GPUs[i] = act.Clean(r.GPUs[i])
	}
	for i := range r.Withheld {
		r.Withheld[i] = act.Clean(r.Withheld[i])
	}
	for i := range r.Untracked {
		r.Untracked[i] = act.Clean(r.Untracked[i])
	}
	if r.Environment != nil {
		r.Environment = act.CleanMap(r.Environment)
	}
	if r.Packages != nil {
		r.Packages = act.CleanMap(r.Packages)
	}
	return r
}

// LeaveNote leaves a note on a run.
func (s *Runs) LeaveNote(ctx context.Context, who act.Who, in *api.NewRunNote) (*api.None, error) {
	id, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	on := api.Address{Project: in.Project, Run: in.Number}.String()
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := s.Reports(ctx, q, who, on, "a note"); err != nil {
			return err
		}
		if err := q.LockRun(ctx, id); err != nil {
			return act.OrNotFound(err, "there is no run %s", on)
		}
		text := who.Name + ": " + act.Clean(in.Body.Text)
		if err := q.AddNote(ctx, id, store.Note{At: time.Now(), Text: text}); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: id, Person: who.ID, Verb: "noted"})
	})
	if err == nil {
		s.Live.News()
	}
	return nil, err
}

// ChangeRun changes a run's title, tags and note.
func (s *Runs) ChangeRun(ctx context.Context, who act.Who, in *api.RunEdit) (*api.Run, error) {
	id, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	title, tags, err := cleanEdit(in)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.ChangeRun(ctx, id, title, tags, in.Body.Note); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: id, Person: who.ID, Verb: "changed"})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.Run(ctx, in.RunInput)
}
