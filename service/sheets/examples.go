package sheets

import (
	"cmp"
	"context"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/sheet"
	"kembrel/core/sheet/where"
	"kembrel/service/act"
	"kembrel/store"
)

// rowsOf are the examples that fulfil a condition, in an order.
func (s *Sheets) rowsOf(ctx context.Context, of store.Sheet, w *whole, text, order string) ([]int, error) {
	rows := make([]int, 0, w.Len())
	if text == "" {
		for i := range w.Len() {
			rows = append(rows, i)
		}
	} else {
		c, err := where.Parse(w.Sheet, text, time.Now())
		if err != nil {
			p := api.Fail(api.Invalid, "%v", err)
			p.Field = "where"
			return nil, p
		}
		if c.AsksMarks() {
			marks, err := s.marksOf(ctx, of, nil)
			if err != nil {
				return nil, err
			}
			latest := map[string]string{}
			for _, m := range marks {
				latest[m.Key] = m.Mark
			}
			c.Marked(latest)
		}
		for i := range w.Len() {
			if c.Holds(i) {
				rows = append(rows, i)
			}
		}
	}
	by, err := rankOf(w, order)
	if err != nil || by == nil {
		return rows, err
	}
	ranks := make(map[int]float64, len(rows))
	for _, i := range rows {
		v := by(i)
		if math.IsNaN(v) {
			v = math.Inf(1) // what cannot be said comes last
		}
		ranks[i] = v
	}
	slices.SortStableFunc(rows, func(a, b int) int { return cmp.Compare(ranks[a], ranks[b]) })
	if order == "suspect" {
		rows = slices.DeleteFunc(rows, func(i int) bool { return math.IsInf(ranks[i], 1) })
	}
	return rows, nil
}

// rankOf is the order of examples as a number that rises; nil: as they came.
func rankOf(w *whole, order string) (func(i int) float64, error) {
	if order == "" || order == "key" {
		return nil, nil
	}
	if (order == "error") == (w.Task == sheet.Classes) {
		return nil, api.Fail(api.Invalid, "examples of %s cannot be ordered by %s", w.Task, order)
	}
	switch order {
	case "error":
		return func(i int) float64 { return -math.Abs(w.Error(i)) }, nil
	case "surest":
		return func(i int) float64 { return -w.Score(i) }, nil
	case "doubtful":
		return func(i int) float64 { return w.Margin(i) }, nil
	case "loss":
		return func(i int) float64 { return -w.Loss(i) }, nil
	}
	places := w.suspects()
	return func(i int) float64 {
		if place, ok := places[i]; ok {
			return float64(place)
		}
		return math.NaN()
	}, nil
}

// ListExamples lists examples of a sheet.
func (s *Sheets) ListExamples(ctx context.Context, _ act.Who, in *api.ExamplesInput) (*api.Examples, error) {
	row, w, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return nil, err
	}
	rows, err := s.rowsOf(ctx, row, w, in.Where, in.Order)
	if err != nil {
		return nil, err
	}
	out := &api.Examples{Items: []api.Example{}, Count: len(rows)}
	suspects := w.suspects()
	for _, i := range rows {
		if _, ok := suspects[i]; ok {
			out.Suspects++
		}
	}
	for _, i := range rows[min(in.From, len(rows)):min(in.From+in.Limit, len(rows))] {
		out.Items = append(out.Items, toExample(w, i))
	}
	if err := s.withMarks(ctx, row, out.Items); err != nil {
		return nil, err
	}
	return out, s.withItems(ctx, row.Data, out.Items)
}

// withItems says which items of the snapshot the examples are, where their bytes are kept.
func (s *Sheets) withItems(ctx context.Context, data string, list []api.Example) error {
	if data == "" || len(list) == 0 {
		return nil
	}
	keys := make([]string, len(list))
	for i, e := range list {
		keys[i] = e.Key
	}
	found, err := s.items.KeptItems(ctx, data, keys)
	if err != nil { // the answers are there all the same
		s.Log.Warn("items of examples cannot be found", "data", data, "err", err)
		return nil
	}
	for i := range list {
		if item, ok := found[list[i].Key]; ok {
			list[i].Item = &item
		}
	}
	return nil
}

func float(v float64) *api.Float {
	if math.IsNaN(v) {
		return nil
	}
	f := api.Float(v)
	return &f
}

// given is an answer as a text: classes by name, several with a semicolon between them.
func given(w *whole, i int) string {
	return told(w, i, w.Predicted, w.AnswerSets, w.AnswerTexts, w.Value)
}

// truth is what is true as a text, likewise; "": not known, or nothing is.
func truth(w *whole, i int) string { return told(w, i, w.True, w.TrueSets, w.TrueTexts, w.Target) }

func told(w *whole, i int, classes []int32, sets [][]int32, texts []*string, numbers []float64) string {
	switch w.Task {
	case sheet.Labels, sheet.Masks:
		return strings.Join(w.Names(sets[i]), "; ")
	case sheet.Text:
		return sheet.Deref(texts[i])
	case sheet.Number:
		return strconv.FormatFloat(numbers[i], 'g', -1, 64)
	}
	return w.Class(classes[i])
}

func toExample(w *whole, i int) api.Example {
	out := api.Example{Row: i, Key: w.Keys[i], Group: w.Group(i), Text: w.Text(i)}
	switch w.Task {
	case sheet.Number:
		out.Target, out.Value = float(w.Target[i]), float(w.Value[i])
	case sheet.Labels, sheet.Masks:
		out.Labels, out.Answered = w.Names(w.TrueSets[i]), w.Names(w.AnswerSets[i])
	case sheet.Text:
		out.True, out.Predicted = sheet.Deref(w.TrueTexts[i]), sheet.Deref(w.AnswerTexts[i])
	default:
		out.True, out.Predicted = w.Class(w.True[i]), w.Class(w.Predicted[i])
		out.Score, out.Loss = float(w.Score(i)), float(w.Loss(i))
		_, out.Suspect = w.suspects()[i]
	}
	if w.Task != sheet.Classes {
		out.Error = float(w.Error(i))
	}
	if w.Task != sheet.Number && w.Labelled(i) {
		right := w.Right(i)
		out.Right = &right
	}
	if w.Media != nil {
		out.Media = act.SortedKeys(w.Media[i])
	}
	for _, c := range w.Own {
		act.Own(&out.Own, c.Name, c.Values[i])
	}
	return out
}

// GetExample shows an example with its scores, and its answers over the epochs.
func (s *Sheets) GetExample(ctx context.Context, _ act.Who, in *api.ExampleInput) (*api.ExampleDetail, error) {
	row, w, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return nil, err
	}
	if in.Row >= w.Len() {
		return nil, api.Fail(api.NotFound, "sheet %d has no example %d", row.Number, in.Row)
	}
	out := &api.ExampleDetail{Example: toExample(w, in.Row), Over: []api.ExampleAt{},
		Sheet: api.ExampleSheet{Number: row.Number, Split: row.Split, Epoch: api.Float(row.Epoch), Task: w.Task,
			Classes: w.Classes}}
	for _, v := range w.Row(in.Row) {
		out.Scores = append(out.Scores, api.Float(shortest(v)))
	}
	list := []api.Example{out.Example}
	if err := s.withItems(ctx, row.Data, list); err != nil {
		return nil, err
	}
	if err := s.withMarks(ctx, row, list); err != nil {
		return nil, err
	}
	out.Item, out.Marks = list[0].Item, list[0].Marks
	over, err := s.db.ListSheets(ctx, row.Series(mostOver))
	if err != nil {
		return nil, err
	}
	slices.Reverse(over)
	for _, r := range spread(over, w.Bytes()) {
		other, err := s.read(ctx, r)
		if err != nil {
			return nil, err
		}
		i, ok := other.places()[out.Key]
		if !ok {
			continue
		}
		at := api.ExampleAt{Number: r.Number, Step: r.Step, Epoch: api.Float(r.Epoch)}
		switch other.Task {
		case sheet.Number:
			at.Value = float(other.Value[i])
		case sheet.Labels, sheet.Masks:
			at.Predicted, at.Error = given(other, i), float(other.Error(i))
		case sheet.Text:
			at.Predicted, at.Error = given(other, i), float(other.Error(i))
		default:
			at.Predicted, at.Score = other.Class(other.Predicted[i]), float(other.Score(i))
			if place := slices.Index(other.Classes, out.True); place >= 0 && other.Scores != nil {
				at.OfTrue = float(other.Row(i)[place])
			}
		}
		out.Over = append(out.Over, at)
	}
	return out, nil
}

// Limits of the sheets that are opened to follow the answers to one example: how many, and about how many bytes.
const (
	leastFollowed = 4
	mostFollowed  = 60
	followedBytes = 100 << 20
)

// spread are as many sheets as may be opened, each of so many bytes: the first, the last, and some between.
func spread(list []store.Sheet, each int64) []store.Sheet {
	n := int(min(mostFollowed, max(leastFollowed, followedBytes/max(1, each))))
	if len(list) <= n {
		return list
	}
	out := make([]store.Sheet, n)
	for i := range out {
		out[i] = list[i*(len(list)-1)/(n-1)]
	}
	return out
}

// GetCutoffs says what answering only from a score on comes to.
func (s *Sheets) GetCutoffs(ctx context.Context, _ act.Who, in *api.CutoffsInput) (*api.Cutoffs, error) {
	row, w, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return nil, err
	}
	if w.Scores == nil {
		return nil, api.Fail(api.Conflict, "sheet %d has no scores, so there is nothing to cut off", row.Number)
	}
	out := &api.Cutoffs{Class: in.Class}
	if in.Class == "" {
		out.Sure = assess.Sures(w.Sheet)
		return out, nil
	}
	place := slices.Index(w.Classes, in.Class)
	if place < 0 {
		return nil, api.Fail(api.NotFound, "sheet %d has no class %.60q; its classes are %s", row.Number, in.Class,
			act.Few(w.Classes, 20))
	}
	out.Table = assess.Cutoffs(w.Sheet, place)
	return out, nil
}
