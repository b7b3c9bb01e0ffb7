package sheets

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"sync"
	"time"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/history"
	"kembrel/core/sheet"
	"kembrel/core/sheet/where"
	"kembrel/service/act"
	"kembrel/store"
)

// sheet shows a sheet of a run by its number.
func (s *Sheets) sheet(ctx context.Context, in api.RunInput, run int64, number int) (*api.Sheet, error) {
	rows, err := s.db.ListSheets(ctx, store.SheetQuery{Run: run, Number: number, Limit: 1})
	if err != nil || len(rows) == 0 {
		return nil, cmp.Or(err, store.ErrNone)
	}
	out, err := toSheet(in, rows[0])
	return &out, err
}

func toSheet(in api.RunInput, r store.Sheet) (api.Sheet, error) {
	out := api.Sheet{Run: act.RunAddress(in.Project, in.Number), Number: r.Number, Split: r.Split, Leg: r.Leg,
		Step: r.Step, Epoch: api.Float(r.Epoch), Task: sheet.Task(r.Task), Examples: r.Examples, Labelled: r.Labelled,
		Figures: []assess.Measured{}, Alarms: []api.Alarm{}, Held: r.Held, Data: r.Data, Source: r.Source, Size: r.Size,
		Who:     r.Who,
		Created: r.Created}
	var alarms []assess.Alarm
	err := errors.Join(json.Unmarshal(r.Classes, &out.Classes), json.Unmarshal(r.Figures, &out.Figures),
		json.Unmarshal(r.Alarms, &alarms))
	assess.SortAlarms(alarms)
	for _, a := range alarms {
		out.Alarms = append(out.Alarms, api.Alarm{Alarm: a, Says: sayAlarm(a), Where: whereOf(a, out.Classes)})
	}
	out.Says = saySheet(&out)
	return out, err
}

// ListSheets lists the prediction sheets of a run, the latest first.
func (s *Sheets) ListSheets(ctx context.Context, _ act.Who, in *api.SheetsInput) (*api.Page[api.Sheet], error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	below := 0
	if in.Cursor != "" {
		if below, err = strconv.Atoi(in.Cursor); err != nil || below < 1 || below > math.MaxInt32 {
			return nil, api.Fail(api.Invalid, "the cursor is none of this list")
		}
	}
	rows, err := s.db.ListSheets(ctx, store.SheetQuery{Run: run, Split: in.Split, Below: below, Limit: in.Limit + 1})
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.Sheet]{Items: []api.Sheet{}}
	for i, r := range rows {
		if i == in.Limit {
			out.Next = strconv.Itoa(rows[i-1].Number)
			break
		}
		one, err := toSheet(in.RunInput, r)
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, one)
	}
	return out, nil
}

// find finds the sheet that is asked for, with all that it comes to: by its number, or the latest of a split.
func (s *Sheets) find(ctx context.Context, in api.SheetInput) (store.Sheet, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return store.Sheet{}, err
	}
	address := act.RunAddress(in.Project, in.Number)
	queries := []store.SheetQuery{{Run: run, Number: in.Sheet, Limit: 1}}
	if in.Sheet == 0 {
		queries = nil
		for _, split := range []string{"val", "test", ""} {
			if in.Split != "" {
				split = in.Split
			}
			queries = append(queries, store.SheetQuery{Run: run, Split: split, Last: true, Limit: 1})
		}
	}
	for _, q := range queries {
		rows, err := s.db.WholeSheets(ctx, q)
		if err != nil {
			return store.Sheet{}, err
		}
		if len(rows) > 0 {
			return rows[0], nil
		}
	}
	switch {
	case in.Sheet > 0:
		return store.Sheet{}, api.Fail(api.NotFound, "%s has no sheet %d; kembrel predictions %s lists them", address,
			in.Sheet, address)
	case in.Split != "":
		return store.Sheet{}, api.Fail(api.NotFound,
			"%s has no predictions on %.60s; kembrel predictions %s lists them",
			address, in.Split, address)
	}
	return store.Sheet{}, api.Fail(api.NotFound,
		"%s has no predictions; a program hands them over, or kembrel predictions add does (docs/predictions.md)",
		address)
}

// read opens the sheet of a row.
func (s *Sheets) read(ctx context.Context, row store.Sheet) (*whole, error) {
	if w, ok := s.open.get(row.ID); ok {
		return w, nil
	}
	files, err := s.db.SheetFiles(ctx, row.Run, row.ID)
	if err != nil {
		return nil, err
	}
	from := map[string]sheet.File{}
	for _, f := range files {
		r, err := s.reader(ctx, fmt.Sprintf("%s of sheet %d", f.Name, row.Number), f.Chunks)
		if err != nil {
			return nil, err
		}
		from[f.Name] = r
	}
	says := sheet.Says{Task: sheet.Task(row.Task), Probabilities: row.Probabilities}
	if err := json.Unmarshal(row.Classes, &says.Classes); err != nil {
		return nil, err
	}
	select {
	case s.asking <- struct{}{}:
		defer func() { <-s.asking }()
	case <-ctx.Done():
		return nil, ctx.Err()
	}
	if w, ok := s.open.get(row.ID); ok {
		return w, nil
	}
	got, err := sheet.Read(says, from)
	if err != nil {
		return nil, err
	}
	w := &whole{Sheet: got}
	w.suspects = sync.OnceValue(func() map[int]int {
		out := map[int]int{}
		for place, i := range assess.Suspects(got) {
			out[i] = place
		}
		return out
	})
	w.places = sync.OnceValue(func() map[string]int {
		out := make(map[string]int, got.Len())
		for i, key := range got.Keys {
			out[key] = i
		}
		return out
	})
	s.open.put(row.ID, w)
	return w, nil
}

// openSheet finds a sheet and opens it.
func (s *Sheets) openSheet(ctx context.Context, in api.SheetInput) (store.Sheet, *whole, error) {
	row, err := s.find(ctx, in)
	if err != nil {
		return row, nil, err
	}
	w, err := s.read(ctx, row)
	return row, w, err
}

// mostOver is how many sheets of a split are shown over the epochs, mostPairs how many pairs of classes.
const (
	mostOver  = 500
	mostPairs = 50
)

// GetSheet shows what a sheet comes to.
func (s *Sheets) GetSheet(ctx context.Context, _ act.Who, in *api.SheetInput) (*api.SheetDetail, error) {
	row, err := s.find(ctx, *in)
	if err != nil {
		return nil, err
	}
	one, err := toSheet(in.RunInput, row)
	if err != nil {
		return nil, err
	}
	out := &api.SheetDetail{Sheet: one, Over: []api.SheetAt{}, Pairs: []api.SheetPair{}, Own: []string{},
		Media: []string{}}
	if err := json.Unmarshal(row.Assessed, &out.Assessed); err != nil {
		return nil, err
	}
	out.Scores, out.Quiet = out.Assessed.Scores != "", sayQuiet(&out.Sheet)
	out.Pairs = pairsOf(&out.Assessed)
	if len(out.Pairs) > mostPairs {
		out.Pairs = out.Pairs[:mostPairs]
	}
	out.Says = sayDetail(out)
	w, err := s.read(ctx, row)
	if err != nil {
		return nil, err
	}
	for _, c := range w.Own {
		out.Own = append(out.Own, c.Name)
	}
	seen := map[string]bool{}
	for _, m := range w.Media {
		for name := range m {
			seen[name] = true
		}
	}
	out.Media, out.Texts = act.SortedKeys(seen), w.Texts != nil
	over, err := s.db.WholeSheets(ctx, store.SheetQuery{Run: row.Run, Split: row.Split, Last: true, Limit: mostOver})
	if err != nil {
		return nil, err
	}
	slices.Reverse(over)
	for _, r := range over {
		at, err := toAt(r, out.Classes)
		if err != nil {
			return nil, err
		}
		out.Over = append(out.Over, at)
	}
	return out, nil
}

func toAt(r store.Sheet, classes []string) (api.SheetAt, error) {
	out := api.SheetAt{Number: r.Number, Step: r.Step, Epoch: api.Float(r.Epoch), Figures: map[string]float64{}}
	var a assess.Assessment
	var alarms []json.RawMessage
	if err := errors.Join(json.Unmarshal(r.Assessed, &a), json.Unmarshal(r.Alarms, &alarms)); err != nil {
		return out, err
	}
	out.Alarms = len(alarms)
	for _, f := range a.Figures {
		out.Figures[f.Name] = f.Value
	}
	for _, name := range classes {
		var recall *float64
		for _, c := range a.Classes {
			if c.Name == name && c.Recall != nil {
				recall = &c.Recall.Value
			}
		}
		out.Recall = append(out.Recall, recall)
	}
	return out, nil
}

// pairsOf are the classes that are taken for others, the most frequent first.
func pairsOf(a *assess.Assessment) []api.SheetPair {
	counts := map[[2]int]int64{}
	var cells []assess.Cell
	for _, c := range a.Cells {
		if counts[[2]int{c.True, c.Predicted}] = c.Count; c.True != c.Predicted {
			cells = append(cells, c)
		}
	}
	slices.SortStableFunc(cells, func(x, y assess.Cell) int { return cmp.Compare(y.Count, x.Count) })
	out := []api.SheetPair{}
	for _, c := range cells {
		t := a.Classes[c.True]
		p := api.SheetPair{True: t.Name, Count: c.Count, Share: *assess.Wilson(c.Count, t.True)}
		if c.Predicted >= 0 {
			p.Predicted = a.Classes[c.Predicted].Name
		}
		p.Says = sayPair(p, t.True, counts[[2]int{c.Predicted, c.True}])
		out = append(out, p)
	}
	return out
}

// rowsOf are the examples that fulfil a condition, in an order.
func rowsOf(w *whole, text, order string) ([]int, error) {
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
	if (order == "error") != (w.Task == sheet.Number) {
		return nil, api.Fail(api.Invalid, "examples of %s cannot be ordered by %s", w.Task, order)
	}
	switch order {
	case "error":
		return func(i int) float64 { return -math.Abs(w.Value[i] - w.Target[i]) }, nil
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
	rows, err := rowsOf(w, in.Where, in.Order)
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

func toExample(w *whole, i int) api.Example {
	out := api.Example{Row: i, Key: w.Keys[i], Group: w.Group(i), Text: w.Text(i)}
	if w.Task == sheet.Number {
		out.Target, out.Value = float(w.Target[i]), float(w.Value[i])
	} else {
		out.True, out.Predicted = w.Class(w.True[i]), w.Class(w.Predicted[i])
		out.Score, out.Loss = float(w.Score(i)), float(w.Loss(i))
		if w.Labelled(i) {
			right := w.Right(i)
			out.Right = &right
		}
		_, out.Suspect = w.suspects()[i]
	}
	if w.Media != nil {
		out.Media = act.SortedKeys(w.Media[i])
	}
	for _, c := range w.Own {
		v := c.Values[i]
		if x, ok := v.(float64); ok {
			v = api.Float(x)
		}
		if v == nil {
			continue
		}
		if text, err := json.Marshal(v); err == nil {
			if out.Own == nil {
				out.Own = map[string]json.RawMessage{}
			}
			out.Own[c.Name] = text
		}
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
		Sheet: api.ExampleSheet{Number: row.Number, Split: row.Split, Epoch: api.Float(row.Epoch), Classes: w.Classes}}
	for _, v := range w.Row(in.Row) {
		out.Scores = append(out.Scores, api.Float(shortest(v)))
	}
	list := []api.Example{out.Example}
	if err := s.withItems(ctx, row.Data, list); err != nil {
		return nil, err
	}
	out.Item = list[0].Item
	over, err := s.db.ListSheets(ctx, store.SheetQuery{Run: row.Run, Split: row.Split, Last: true, Limit: mostOver})
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
		if other.Task == sheet.Number {
			at.Value = float(other.Value[i])
		} else {
			at.Predicted, at.Score = other.Class(other.Predicted[i]), float(other.Score(i))
			if place := slices.Index(other.Classes, out.True); place >= 0 && other.Scores != nil {
				at.OfTrue = float(float64(other.Row(i)[place]))
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

// Media opens what an example shows of itself.
func (s *Sheets) Media(ctx context.Context, in *api.ExampleMediaInput) (r *io.SectionReader, name string, err error) {
	row, w, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return nil, "", err
	}
	at, ok := sheet.Span{}, false
	if in.Row < w.Len() && w.Media != nil {
		at, ok = w.Media[in.Row][in.Name]
	}
	if !ok {
		return nil, "", api.Fail(api.NotFound, "example %d of sheet %d has no %.40q to show", in.Row, row.Number,
			in.Name)
	}
	files, err := s.db.SheetFiles(ctx, row.Run, row.ID)
	if err != nil {
		return nil, "", err
	}
	for _, f := range files {
		if f.Name != sheet.MediaFile {
			continue
		}
		media, err := s.reader(ctx, in.Name, f.Chunks)
		if err != nil {
			return nil, "", err
		}
		return io.NewSectionReader(media, at.At, at.Size), w.Keys[in.Row], media.Prime(at.At)
	}
	return nil, "", api.Fail(api.NotFound, "sheet %d has no media", row.Number)
}

// ExamplesTable writes a sheet as a table, to what begin gives for the first bytes of it: what is wrong before them is
// an error, and nothing was begun.
func (s *Sheets) ExamplesTable(ctx context.Context, in *api.ExamplesFileInput,
	begin func(name string) io.Writer) error {
	row, w, err := s.openSheet(ctx, in.SheetInput)
	if err != nil {
		return err
	}
	rows, err := rowsOf(w, in.Where, "")
	if err != nil {
		return err
	}
	t := history.NewTable(in.Format, begin(fmt.Sprintf("%s-%d-%s-%d", in.Project, in.Number, row.Split, row.Number)))
	t.Declare("key", "true", "predicted")
	if w.Groups != nil {
		t.Declare("group")
	}
	if w.Texts != nil {
		t.Declare("text")
	}
	scores := make([]string, 0, len(w.Classes))
	if w.Scores != nil {
		for _, c := range w.Classes {
			scores = append(scores, "score."+c)
		}
	}
	t.Declare(scores...)
	for _, c := range w.Own {
		t.Declare(c.Name)
	}
	t.Fixed()
	for n, i := range rows {
		if n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		t.Add(tableRow(w, i, scores, in.Cutoff))
	}
	return t.Close()
}

// shortest is the number that is written with the fewest digits of those that are stored as v.
func shortest(v float32) float64 {
	out, err := strconv.ParseFloat(strconv.FormatFloat(float64(v), 'g', -1, 32), 64)
	if err != nil {
		return float64(v)
	}
	return out
}

func tableRow(w *whole, i int, scores []string, cutoff float64) history.Row {
	row := history.Row{{Name: "key", Value: w.Keys[i]}}
	given := func(text string) any {
		if text == "" {
			return nil
		}
		return text
	}
	if w.Task == sheet.Number {
		row = append(row, history.Cell{Name: "true", Value: w.Target[i]},
			history.Cell{Name: "predicted", Value: w.Value[i]})
	} else {
		answer := w.Class(w.Predicted[i])
		if cutoff > 0 && !(w.Score(i) >= cutoff) {
			answer = ""
		}
		row = append(row, history.Cell{Name: "true", Value: given(w.Class(w.True[i]))},
			history.Cell{Name: "predicted", Value: given(answer)})
	}
	if w.Groups != nil {
		row = append(row, history.Cell{Name: "group", Value: given(w.Groups[i])})
	}
	if w.Texts != nil {
		row = append(row, history.Cell{Name: "text", Value: given(w.Texts[i])})
	}
	for c, name := range scores {
		row = append(row, history.Cell{Name: name, Value: shortest(w.Row(i)[c])})
	}
	for _, c := range w.Own {
		row = append(row, history.Cell{Name: c.Name, Value: c.Values[i]})
	}
	return row
}

// Raised are the alarms of a run by the latest sheet of each split, as a person reads them.
func (s *Sheets) Raised(ctx context.Context, run store.Run) ([]string, error) {
	if len(run.Alarms) == 0 {
		return nil, nil
	}
	rows, err := s.db.ListSheets(ctx, store.SheetQuery{Run: run.ID, Last: true, Limit: mostOver})
	if err != nil {
		return nil, err
	}
	var out []string
	seen := map[string]bool{}
	for _, r := range rows {
		if seen[r.Split] {
			continue
		}
		seen[r.Split] = true
		var alarms []assess.Alarm
		if err := json.Unmarshal(r.Alarms, &alarms); err != nil {
			return nil, err
		}
		for _, a := range alarms {
			out = append(out, fmt.Sprintf("Predictions on %s at epoch %s: %s", r.Split,
				strconv.FormatFloat(r.Epoch, 'f', -1, 64), sayAlarm(a)))
		}
	}
	return out, nil
}
