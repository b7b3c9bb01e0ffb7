package sheets

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"sync"
	"time"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/sheet"
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
		Who: r.Who, Created: r.Created, Pending: !r.Compared && time.Since(r.Created) < patience}
	if r.Evaluation != nil {
		out.Of = *r.Evaluation
	}
	var alarms []assess.Alarm
	err := errors.Join(json.Unmarshal(r.Classes, &out.Classes), json.Unmarshal(r.Figures, &out.Figures),
		json.Unmarshal(r.Alarms, &alarms))
	assess.SortAlarms(alarms)
	for _, a := range alarms {
		out.Alarms = append(out.Alarms, api.Alarm{Alarm: a, Says: sayAlarm(a),
			Where: whereOf(out.Task, a, out.Classes)})
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
	if in.State == api.Assessing {
		return s.underWayOf(ctx, in, run)
	}
	below, err := act.CursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	below = min(below, math.MaxInt32)
	q := store.SheetQuery{Run: run, Split: in.Split, Below: int(below), Limit: in.Limit + 1}
	if in.Step != "" {
		step, err := strconv.ParseInt(in.Step, 10, 64)
		if err != nil {
			return nil, api.Fail(api.Invalid, "step %.40q is no whole number", in.Step)
		}
		q.At = &step
	}
	rows, err := s.db.ListSheets(ctx, q)
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
		if from[f.Name] = r; f.Name != sheet.MediaFile { // which is read later too
			from[f.Name] = &followed{r, ctx, func(float64) {}}
		}
	}
	says := sheet.Says{Task: sheet.Task(row.Task), Probabilities: row.Probabilities}
	if err := json.Unmarshal(row.Classes, &says.Classes); err != nil {
		return nil, err
	}
	if who, asks := act.Asks(ctx); asks {
		done, err := s.turns.Take(ctx, who.ID)
		if err != nil {
			return nil, err
		}
		defer done()
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
		return nil, cmp.Or(ctx.Err(), err)
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
	out.Pairs = pairsOf(out.Task, &out.Assessed)
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
	over, err := s.db.WholeSheets(ctx, row.Series(mostOver))
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

// pairsOf are the classes that are taken for others, the most frequent first, of masks by share; of several labels
// those that are missed or added.
func pairsOf(task sheet.Task, a *assess.Assessment) []api.SheetPair {
	counts := map[[2]int]int64{}
	var cells []assess.Cell
	for _, c := range a.Cells {
		if counts[[2]int{c.True, c.Predicted}] = c.Count; c.True != c.Predicted {
			cells = append(cells, c)
		}
	}
	rank := func(c assess.Cell) float64 {
		if a.Pixels > 0 && c.True >= 0 { // counts would say how large things are
			return float64(c.Count) / float64(a.Classes[c.True].True)
		}
		return float64(c.Count)
	}
	slices.SortStableFunc(cells, func(x, y assess.Cell) int { return cmp.Compare(rank(y), rank(x)) })
	out := []api.SheetPair{}
	for _, c := range cells {
		p := api.SheetPair{Count: c.Count}
		of := int64(0)
		if c.Predicted >= 0 {
			p.Predicted, of = a.Classes[c.Predicted].Name, a.Classes[c.Predicted].Predicted
		}
		if c.True >= 0 {
			p.True, of = a.Classes[c.True].Name, a.Classes[c.True].True
		}
		if p.Share = *assess.Wilson(c.Count, of); a.Pixels > 0 { // which are not independent
			p.Share.Low, p.Share.High = nil, nil
		}
		p.Says = sayPair(task, p, of, counts[[2]int{c.Predicted, c.True}])
		p.Where = wherePair(task, p.True, p.Predicted)
		out = append(out, p)
	}
	return out
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
		if seen[r.Split] || r.Evaluation != nil {
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
