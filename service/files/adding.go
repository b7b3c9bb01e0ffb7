package files

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"path"
	"slices"
	"strings"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/dataset"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

// Limits of what a run keeps.
const (
	mostFiles = 10_000
	mostBytes = 16 << 30
)

// AddRunFile keeps a file whose chunks have been sent.
func (s *Files) AddRunFile(ctx context.Context, who act.Who, in *api.NewRunFile) (*api.RunFile, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if _, err := uuid.Parse(in.Key); err != nil {
		return nil, api.Fail(api.Invalid, "Idempotency-Key %.60q is not a UUID", in.Key)
	}
	if owner, path, of, err := s.db.RunFileByKey(ctx, in.Key); err == nil {
		if owner != run {
			return nil, api.Fail(api.Conflict, "this key added a file of another run")
		}
		return s.one(ctx, api.RunFileInput{RunInput: in.RunInput, Path: path, Of: of})
	} else if !errors.Is(err, store.ErrNone) {
		return nil, err
	}
	in.Body.File.Part = "file"
	files, chunks, size, err := act.ToFiles([]api.File{in.Body.File})
	if err != nil {
		return nil, err
	}
	if size > mostBytes {
		return nil, api.Fail(api.TooLarge, "%s has %s; a file of a run has at most %s", in.Body.File.Path,
			api.Bytes(size), api.Bytes(mostBytes))
	}
	n := store.NewRunFile{Person: who.ID, RunFile: store.RunFile{Run: run, Key: in.Key, Path: files[0].Path, Size: size,
		Digest: files[0].Digest, Chunks: files[0].Chunks, Leg: in.Body.Leg}}
	if n.EvaluationID, err = s.evaluation(ctx, run, in.Body.Of); err != nil {
		return nil, err
	}
	if err := s.Safe(ctx, s.chunks, chunks); err != nil {
		return nil, err
	}
	if n.Kind, err = s.kindOf(ctx, n.RunFile); err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		count, err := q.LockRunFiles(ctx, run)
		if err != nil {
			return err
		}
		if count >= mostFiles {
			return api.Fail(api.Invalid, "the run has %d files; more are not kept", count)
		}
		if err := act.UseChunks(ctx, q, chunks); err != nil {
			return err
		}
		if err := q.PutRunFile(ctx, n); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "file", Verb: "added", Run: run, Person: who.ID,
			Data: map[string]any{"path": n.Path, "size": size}})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.one(ctx, api.RunFileInput{RunInput: in.RunInput, Path: n.Path, Of: in.Body.Of})
}

// evaluation is the id of an evaluation by its number; 0 of none.
func (s *Files) evaluation(ctx context.Context, run int64, number int) (int64, error) {
	if number == 0 {
		return 0, nil
	}
	all, err := s.db.ListEvaluations(ctx, store.EvaluationQuery{Run: run, Number: number, Limit: 1})
	if err == nil && len(all) == 0 {
		err = api.Fail(api.NotFound, "the run has no evaluation %d", number)
	}
	if err != nil {
		return 0, err
	}
	return all[0].ID, nil
}

// tables are the formats of tables, by the ends of names.
var tables = map[string]string{".csv": "csv", ".jsonl": "jsonl", ".parquet": "parquet"}

// kindOf is what a file is, by its name where that says that it is a table, and else by its content.
func (s *Files) kindOf(ctx context.Context, f store.RunFile) (string, error) {
	r, err := s.open(ctx, f)
	if err != nil {
		return "", err
	}
	head := make([]byte, min(512, f.Size))
	if _, err := r.ReadAt(head, 0); err != nil && !errors.Is(err, io.EOF) {
		var unreadable *pack.Unreadable
		if errors.As(err, &unreadable) && errors.Is(err, pack.ErrNone) {
			return "", api.Fail(api.Conflict,
				"chunk %s has not been sent; send what chunks/missing names, then try again", unreadable.Digest)
		}
		return "", err
	}
	m, format := dataset.MediaOf(head), tables[strings.ToLower(path.Ext(f.Path))]
	switch {
	case format == "parquet", format != "" && m.Kind == "text":
		return "table", nil
	case slices.Contains([]string{"picture", "sound", "text"}, m.Kind):
		return m.Kind, nil
	}
	return "other", nil
}

// DropRunFile lets the bytes of a file go.
func (s *Files) DropRunFile(ctx context.Context, who act.Who, in *api.RunFileInput) (*api.None, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if _, err := s.one(ctx, *in); err != nil {
		return nil, err
	}
	of, err := s.evaluation(ctx, run, in.Of)
	if err != nil {
		return nil, err
	}
	return &api.None{}, s.drop(ctx, store.DueRunFile{Run: run, Evaluation: of, Path: in.Path}, who.ID, "dropped")
}

func (s *Files) drop(ctx context.Context, f store.DueRunFile, person int64, verb string) error {
	err := s.db.InTx(ctx, func(q Tx) error {
		dropped, err := q.DropRunFile(ctx, f.Run, f.Evaluation, f.Path)
		if err != nil || !dropped {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "file", Verb: verb, Run: f.Run, Person: person,
			Data: map[string]any{"path": f.Path}})
	})
	s.Live.News()
	return err
}

// DropDueFiles lets files go of which the rule of their project says so. What one fails at costs that alone.
func (s *Files) DropDueFiles(ctx context.Context) error {
	due, err := s.db.DueRunFiles(ctx)
	for _, f := range due {
		if err := s.drop(ctx, f, 0, "dropped-by-rule"); err != nil {
			if ctx.Err() != nil {
				return err
			}
			s.Log.Warn("a file cannot be let go", "run", f.Run, "path", f.Path, "err", err)
		}
	}
	return err
}

// GetFileRule says how long the files of a project's runs stay.
func (s *Files) GetFileRule(ctx context.Context, _ act.Who, in *api.ProjectInput) (*api.FileRuleAnswer, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	text, err := s.db.FileRule(ctx, p.ID)
	out := &api.FileRuleAnswer{}
	if err == nil && text != nil {
		err = json.Unmarshal(text, &out.Rule)
	}
	return out, err
}

// SetFileRule sets it.
func (s *Files) SetFileRule(ctx context.Context, who act.Who, in *api.NewFileRule) (*api.FileRuleAnswer, error) {
	if !(in.Body.Days >= 1 && in.Body.Days <= 36500) {
		return nil, api.Fail(api.Invalid, "files stay for 1 to 36500 days, not %v", in.Body.Days)
	}
	return s.setRule(ctx, who, in.ProjectInput, in.Body, act.Did{Verb: "file-rule-set",
		Data: map[string]any{"days": in.Body.Days}})
}

// DropFileRule lets them stay.
func (s *Files) DropFileRule(ctx context.Context, who act.Who, in *api.ProjectInput) (*api.None, error) {
	_, err := s.setRule(ctx, who, *in, nil, act.Did{Verb: "file-rule-cleared"})
	return &api.None{}, err
}

func (s *Files) setRule(ctx context.Context, who act.Who, in api.ProjectInput, rule any,
	did act.Did) (*api.FileRuleAnswer, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.SetFileRule(ctx, p.ID, rule); err != nil {
			return err
		}
		return s.Event(ctx, q, store.Event{Kind: "project", Subject: p.Key, Project: p.ID, Person: who.ID,
			Verb: did.Verb, Data: did.Data})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.GetFileRule(ctx, who, &in)
}
