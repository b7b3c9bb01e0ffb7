package sheets

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"kembrel/api"
	"kembrel/core/sheet"
	"kembrel/service/act"
	"kembrel/store"
)

// People look at examples and say whether their labels are right. What they say is kept with the snapshot that the
// examples are items of, so that it holds for all runs on it, or else with the run and the split.

func scopeOf(address string, of store.Sheet) string {
	if of.Data != "" {
		snapshot, _, _ := strings.Cut(of.Data, ":")
		return snapshot
	}
	return fmt.Sprintf("%s:%s", address, of.Split)
}

// marksOf are the marks of some examples of a sheet, or of all (nil), the latest last.
func (s *Sheets) marksOf(ctx context.Context, of store.Sheet, keys []string) ([]store.Mark, error) {
	project, address, err := s.db.RunOf(ctx, of.Run)
	if err != nil {
		return nil, err
	}
	return s.db.ListMarks(ctx, project, scopeOf(address, of), keys)
}

func toMark(m store.Mark, person int64) api.Mark {
	return api.Mark{Key: m.Key, Mark: m.Mark, Label: m.Label, Was: m.Was, Who: m.Who, At: m.At, Own: m.Person == person}
}

// withMarks adds what people said of the labels of examples.
func (s *Sheets) withMarks(ctx context.Context, of store.Sheet, list []api.Example) error {
	if len(list) == 0 {
		return nil
	}
	keys := make([]string, len(list))
	places := map[string]int{}
	for i, e := range list {
		keys[i], places[e.Key] = e.Key, i
	}
	marks, err := s.marksOf(ctx, of, keys)
	who, _ := act.Asks(ctx)
	for _, m := range marks {
		e := &list[places[m.Key]]
		e.Marks = append(e.Marks, toMark(m, who.ID))
	}
	return err
}

// ListMarks lists what people said of the labels of a sheet's examples.
func (s *Sheets) ListMarks(ctx context.Context, who act.Who, in *api.MarksInput) (*api.Marks, error) {
	row, err := s.find(ctx, in.SheetInput)
	if err != nil {
		return nil, err
	}
	marks, err := s.marksOf(ctx, row, nil)
	out := &api.Marks{Scope: scopeOf(act.RunAddress(in.Project, in.Number), row), Items: []api.Mark{}}
	for _, m := range marks {
		out.Items = append(out.Items, toMark(m, who.ID))
	}
	return out, err
}

// SetMark says something of the label of an example.
func (s *Sheets) SetMark(ctx context.Context, who act.Who, in *api.NewMark) (*api.Example, error) {
	return s.changeMark(ctx, who, in.ExampleInput, func(q Tx, project int64, scope string, w *whole) error {
		m := store.Mark{Key: w.Keys[in.Row], Person: who.ID, Mark: in.Body.Mark, Label: act.Clean(in.Body.Label)}
		if !slices.Contains([]string{"right", "wrong", "unclear"}, m.Mark) {
			return api.Fail(api.Invalid, "mark %.40q is none of right, wrong, unclear", m.Mark)
		}
		if m.Label != "" && m.Mark != "wrong" {
			return api.Fail(api.Invalid, "only of a label that is wrong it is said what it should be")
		}
		if w.Task == sheet.Classes {
			if m.Was = w.Class(w.True[in.Row]); m.Label != "" && !slices.Contains(w.Classes, m.Label) {
				return api.Fail(api.Invalid, "%.60q is none of the classes: %s", m.Label, act.Few(w.Classes, 20))
			}
			if m.Label != "" && m.Label == m.Was {
				return api.Fail(api.Invalid, "%s is the label that it has", m.Label)
			}
		} else if w.Labelled(in.Row) {
			m.Was = act.Cut(truth(w, in.Row), 200)
		}
		if m.Was == "" {
			return api.Fail(api.Conflict, "%s has no label of which something could be said", m.Key)
		}
		return q.PutMark(ctx, project, scope, m)
	})
}

// DropMark takes back what one said of the label of an example.
func (s *Sheets) DropMark(ctx context.Context, who act.Who, in *api.ExampleInput) (*api.Example, error) {
	return s.changeMark(ctx, who, *in, func(q Tx, project int64, scope string, w *whole) error {
		return q.DropMark(ctx, project, scope, w.Keys[in.Row], who.ID)
	})
}

func (s *Sheets) changeMark(ctx context.Context, who act.Who, in api.ExampleInput,
	change func(q Tx, project int64, scope string, w *whole) error) (*api.Example, error) {
	row, w, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return nil, err
	}
	if in.Row >= w.Len() {
		return nil, api.Fail(api.NotFound, "sheet %d has no example %d", row.Number, in.Row)
	}
	project, address, err := s.db.RunOf(ctx, row.Run)
	if err != nil {
		return nil, err
	}
	scope := scopeOf(address, row)
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := change(q, project, scope, w); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "predictions", Verb: "marked", Run: row.Run, Person: who.ID,
			Data: map[string]any{"on": scope, "key": w.Keys[in.Row]}})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	list := []api.Example{toExample(w, in.Row)}
	return &list[0], s.withMarks(ctx, row, list)
}
