package sheets

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/assess/between"
	"kembrel/core/curve"
	"kembrel/core/dataset"
	"kembrel/core/sheet"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// KeepComparing holds sheets against the curves of their runs until ctx ends: the reading of their step often comes
// after them. One that does not come within some minutes does not come.
func (s *Sheets) KeepComparing(ctx context.Context) {
	t := time.NewTicker(comparePace)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		if err := s.CompareSome(ctx); err != nil && ctx.Err() == nil {
			s.Log.Warn("sheets wait to be held against curves", "err", err)
		}
	}
}

// patience is how long the reading of a sheet's step is waited for.
const patience = 5 * time.Minute

// CompareSome holds some sheets against the curves of their runs. One that fails costs itself.
func (s *Sheets) CompareSome(ctx context.Context) error {
	list, err := s.db.UncomparedSheets(ctx)
	if err != nil {
		return err
	}
	for _, u := range list {
		if err := s.compare(ctx, u); err != nil {
			if ctx.Err() != nil || db.Away(err) {
				return err
			}
			s.Log.Warn("a sheet cannot be held against curves", "run", u.Run, "sheet", u.ID, "err", err)
		}
	}
	return nil
}

// held are the measures whose curves are held against the figures that a sheet gives.
var held = []string{"accuracy", "log_loss", "mae", "rmse", "exact_match", "hamming_loss"}

// compare holds one sheet against the curves of its run at its step, and its data against the training data.
func (s *Sheets) compare(ctx context.Context, u store.Uncompared) error {
	row, err := s.db.SheetByID(ctx, u.Run, u.ID)
	if errors.Is(err, store.ErrNone) {
		return nil
	} else if err != nil {
		return err
	}
	var a assess.Assessment
	var alarms []assess.Alarm
	if err := errors.Join(json.Unmarshal(row.Assessed, &a), json.Unmarshal(row.Alarms, &alarms)); err != nil {
		return err
	}
	had := len(alarms)
	names := map[string]string{} // of figures, by curve
	for _, f := range a.Figures {
		if slices.Contains(held, f.Measure()) {
			names[f.Measure()+"."+row.Split] = f.Name
		}
	}
	at, err := s.said(ctx, row, append(act.SortedKeys(names), "accuracy.train"))
	if err != nil {
		return err
	}
	of, err := s.seenOf(ctx, row)
	if err != nil {
		return err
	}
	has := func(kind assess.AlarmKind, curve string) bool {
		return slices.ContainsFunc(alarms, func(a assess.Alarm) bool { return a.Kind == kind && a.Curve == curve })
	}
	var found []string
	for _, name := range act.SortedKeys(names) {
		v, ok := at[name]
		if !ok {
			continue
		}
		found = append(found, name)
		whole := of.items == 0 || of.items == row.Examples
		if alarm := a.Against(name, names[name], v, whole); alarm != nil && !has(assess.FigureDiffers, name) {
			alarms = append(alarms, *alarm)
		}
	}
	if v, ok := at["accuracy.train"]; ok && sheet.Task(row.Task) == sheet.Classes && row.Split != "train" {
		if alarm := a.NoBetterThanChance("accuracy.train", v); alarm != nil && !has(assess.Shuffled, "accuracy.train") {
			alarms = append(alarms, *alarm)
		}
	}
	if of.leaking > 0 && row.Split != "train" && !has(assess.InTraining, "") {
		alarms = append(alarms, assess.Alarm{Kind: assess.InTraining, Count: of.leaking, Of: of.items, Data: row.Data,
			Trained: of.trained})
	}
	done := len(found) == len(names) || row.Evaluation != nil || time.Since(row.Created) > patience
	if !done && len(alarms) == had && slices.Equal(found, row.Held) {
		return nil
	}
	assess.SortAlarms(alarms)
	text, err := json.Marshal(append([]assess.Alarm{}, alarms...))
	if err != nil {
		return err
	}
	return s.db.InTx(ctx, func(q Tx) error {
		first, err := q.ComparedSheet(ctx, row.Run, row.ID, row.Alarms, text, append([]string{}, found...), done)
		if err != nil || !first || len(alarms) == had {
			return err
		}
		if err := q.SetAlarms(ctx, row.Run); err != nil {
			return err
		}
		before := row.Series(1)
		before.Below = row.Number
		had, err := s.db.ListSheets(ctx, before)
		if err != nil {
			return err
		}
		return s.raise(ctx, q, row.Run, row.Split, row.Number, alarms, append(had, row))
	})
}

// said are the figures that the program said of a sheet's moment, by curve.
func (s *Sheets) said(ctx context.Context, row store.Sheet, names []string) (map[string]float64, error) {
	if row.Evaluation == nil {
		return s.readings(ctx, row, names)
	}
	all, err := s.db.ListEvaluations(ctx, store.EvaluationQuery{Run: row.Run, Number: *row.Evaluation, Limit: 1})
	if err != nil || len(all) == 0 {
		return nil, err
	}
	var figures map[string]api.Float
	if err := json.Unmarshal(all[0].Figures, &figures); err != nil {
		return nil, err
	}
	out := map[string]float64{}
	for _, name := range names {
		measure, _ := curve.SplitName(name)
		for _, as := range []string{measure, name} { // the program may leave the split out
			if v, ok := figures[as]; ok && !math.IsNaN(float64(v)) {
				out[name] = float64(v)
			}
		}
	}
	return out, nil
}

// errPassed ends reading a curve that is behind the sheet's epoch.
var errPassed = errors.New("passed")

// readings are the values of curves at the step or, where they have none there, in the epoch of a sheet, by the leg
// that counts.
func (s *Sheets) readings(ctx context.Context, row store.Sheet, names []string) (map[string]float64, error) {
	out := map[string]float64{}
	for _, name := range names {
		err := s.db.Scan(ctx, store.Span{Run: row.Run, Names: []string{name}, From: row.Step},
			func(_ string, points []curve.Point, values []float64) error {
				for i, p := range points {
					if p.Step > row.Step && !(p.Epoch <= row.Epoch) {
						return errPassed
					}
					if (p.Step == row.Step || p.Epoch == row.Epoch) && !math.IsNaN(values[i]) {
						out[name] = values[i]
					}
				}
				return nil
			})
		if err != nil && !errors.Is(err, errPassed) {
			return nil, err
		}
	}
	return out, nil
}

// seen says how many items of a sheet's data the run was trained on too, and on what.
type seen struct {
	items, leaking int64
	trained        string // "": another split of the same snapshot
}

// seenOf says of the split of a snapshot that a sheet is on how many items it has, and how many of them training has
// seen; 0: not known.
func (s *Sheets) seenOf(ctx context.Context, row store.Sheet) (out seen, err error) {
	at, err := api.ParseData(row.Data)
	if err != nil {
		return out, nil // none is known
	}
	snapshot, err := s.db.FindSnapshot(ctx, at.Dataset, at.Number)
	if errors.Is(err, store.ErrNone) {
		return out, nil
	} else if err != nil {
		return out, err
	}
	var found *dataset.Findings
	if json.Unmarshal(snapshot.Answers, &found) != nil || found == nil {
		return out, nil
	}
	leaking := int64(0)
	for _, c := range found.Splits {
		if c.Name == at.Split {
			out.items, leaking = c.Items, c.Leaking
		}
	}
	uses, err := s.db.RunData(ctx, []int64{row.Run})
	if err != nil {
		return out, err
	}
	for _, u := range uses {
		if u.Snapshot == nil {
			continue
		}
		if *u.Snapshot == snapshot.ID && out.trained == "" {
			out.leaking = leaking
		} else if *u.Snapshot != snapshot.ID && u.Use == "train" {
			out.trained = u.Address
			if out.leaking, err = s.items.SharedItems(ctx, row.Data, u.Address); err != nil {
				return out, err
			}
		}
	}
	return out, nil
}

// GetDisagreement says where two models disagree on the examples that both answered, by key.
func (s *Sheets) GetDisagreement(ctx context.Context, who act.Who,
	in *api.DisagreementInput) (*api.SheetDisagreement, error) {
	first, a, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return nil, err
	}
	address, err := api.ParseAddress(in.Run)
	if err != nil || address.At != (api.At{}) {
		return nil, api.Fail(api.Invalid, "run %.60q is no address of a run, such as vessels/8", in.Run)
	}
	other := api.SheetInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: address.Project},
		Number: address.Run}, Sheet: in.Other, Split: first.Split}
	second, b, err := s.openSheet(ctx, other)
	if err != nil {
		return nil, err
	}
	if a.Task == sheet.Number || a.Task != b.Task {
		return nil, api.Fail(api.Conflict, "answers that are %s and %s do not agree or disagree", a.Task, b.Task)
	}
	out := &api.SheetDisagreement{Classes: []api.ClassDisagreement{}, Items: []api.TwoAnswers{}}
	if out.First, err = toSheet(in.RunInput, first); err != nil {
		return nil, err
	}
	if out.Second, err = toSheet(other.RunInput, second); err != nil {
		return nil, err
	}
	rows, err := s.rowsOf(ctx, first, a, in.Where, "")
	if err != nil {
		return nil, err
	}
	var all [4]int64
	classes := make([][4]int64, len(a.Classes))
	places := b.places()
	var listed [][2]int
	for _, i := range rows {
		j, ok := places[a.Keys[i]]
		if !ok {
			continue
		}
		answers := given(a, i) != given(b, j)
		if !a.Labelled(i) {
			if answers && in.Kind == "answers" {
				listed = append(listed, [2]int{i, j})
			}
			continue
		}
		kind := map[[2]bool]int{{true, true}: 0, {true, false}: 1, {false, true}: 2,
			{false, false}: 3}[[2]bool{a.Right(i), rightOf(a, i, b, j)}]
		all[kind]++
		if a.Task == sheet.Classes {
			classes[a.True[i]][kind]++
		}
		if [...]string{"both", "first", "second", "neither"}[kind] == in.Kind || answers && in.Kind == "answers" {
			listed = append(listed, [2]int{i, j})
		}
	}
	out.Disagreement, _ = between.Differ(all[0], all[1], all[2], all[3])
	out.Shared = all[0] + all[1] + all[2] + all[3]
	for c, n := range classes {
		if d, ok := between.Differ(n[0], n[1], n[2], n[3]); ok {
			out.Classes = append(out.Classes, api.ClassDisagreement{Name: a.Classes[c], Disagreement: d})
		}
	}
	out.Says, out.Count = sayDisagreement(out), len(listed)
	for _, at := range listed[min(in.From, len(listed)):min(in.From+in.Limit, len(listed))] {
		two := api.TwoAnswers{Example: toExample(a, at[0]), OtherRow: at[1], Other: given(b, at[1]),
			OtherScore: float(b.Score(at[1]))}
		if a.Labelled(at[0]) {
			right := rightOf(a, at[0], b, at[1])
			two.OtherRight = &right
		}
		out.Items = append(out.Items, two)
	}
	list := make([]api.Example, len(out.Items))
	for i, x := range out.Items {
		list[i] = x.Example
	}
	err = s.withItems(ctx, first.Data, list)
	for i := range list {
		out.Items[i].Item = list[i].Item
	}
	return out, err
}

// rightOf reports whether the second's answer is right by what the first says is true; of masks each has its own.
func rightOf(a *whole, i int, b *whole, j int) bool {
	switch {
	case a.Task == sheet.Masks:
		return b.Right(j)
	case a.Task == sheet.Labels && b.AnswerSets[j] == nil, a.Task == sheet.Text && b.AnswerTexts[j] == nil:
		return false
	}
	return given(b, j) == truth(a, i)
}
