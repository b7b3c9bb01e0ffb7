package judging

import (
	"context"
	"encoding/json"
	"fmt"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/store"
)

// ancestry is what a branch goes on from: its parent's curves up to the checkpoint.
type ancestry struct{ train, val verdict.Series }

// ancestry reads it; empty where the run is no branch, or its parent is gone. names are the objective's curve and that
// of training, where there is one.
func (s *Judging) ancestry(ctx context.Context, run int64, names []string, by curve.By) (out ancestry, err error) {
	text, err := s.db.RunOrigin(ctx, run)
	if err != nil || text == nil {
		return out, err
	}
	var from api.Origin
	if err := json.Unmarshal(text, &from); err != nil {
		return out, fmt.Errorf("origin of run %d: %w", run, err)
	}
	if from.Kind != "branch" || from.Step < 1 {
		return out, nil
	}
	at, err := api.ParseAddress(from.From)
	if err != nil {
		return out, nil // of an older kind
	}
	parent, err := s.RunID(ctx, api.RunInput{ProjectInput: api.ProjectInput{Project: at.Project}, Number: at.Run})
	if api.Is(err, api.NotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	low, high, ok, err := s.readings.Extent(ctx, parent, by)
	if err != nil || !ok {
		return out, err
	}
	folds, err := s.readings.View(ctx, store.Span{Run: parent, Names: names, To: from.Step},
		judgedWindow(by, low, high), curve.Smoothing{})
	if err != nil {
		return out, err
	}
	out.val = verdict.FromFolds(by, folds[names[0]].Folds)
	if len(names) > 1 {
		out.train = verdict.FromFolds(by, folds[names[1]].Folds)
	}
	return out, nil
}
