package sheets

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"math"
	"slices"
	"strconv"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/chunk"
	"kembrel/core/sheet"
	"kembrel/service/act"
	"kembrel/store"
	"kembrel/store/pack"
)

// Limits of the files of a sheet, in bytes.
const (
	mostScores = 8*sheet.MaxScores + 4096
	mostMedia  = 4 << 30
)

// kind is what assessing a sheet is called among the work that requests begin.
const kind = "sheet"

// AddSheet takes a prediction sheet whose chunks have been sent, computes what it comes to and raises its alarms. A
// large one takes longer than a request may: then the answer is that it is being assessed, and the same request again
// returns the result.
func (s *Sheets) AddSheet(ctx context.Context, who act.Who, in *api.NewSheet) (*api.Sheet, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	if _, err := uuid.Parse(in.Key); err != nil {
		return nil, api.Fail(api.Invalid, "Idempotency-Key %.60q is not a UUID", in.Key)
	}
	if made, err := s.byKey(ctx, in, run); made != nil || err != nil {
		return made, err
	}
	n, chunks, err := s.check(ctx, in, run)
	if err != nil {
		return nil, err
	}
	if err := s.Safe(ctx, s.chunks, chunks); err != nil {
		return nil, err
	}
	request, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	row, err := s.work.Request(ctx, store.Work{Key: in.Key, Kind: kind, Run: &run, Person: who.ID, Request: request})
	if err != nil {
		return nil, err
	}
	if row.Ended == nil {
		return underWay(in, row, n.Size), nil
	}
	made, err := s.byKey(ctx, in, run)
	if err == nil && made == nil {
		err = api.Fail(api.NotFound, "the sheet was deleted at this moment")
	}
	return made, err
}

// byKey shows the sheet that came with a key; nil: none did.
func (s *Sheets) byKey(ctx context.Context, in *api.NewSheet, run int64) (*api.Sheet, error) {
	owner, number, err := s.db.SheetByKey(ctx, in.Key)
	switch {
	case errors.Is(err, store.ErrNone):
		return nil, nil
	case err != nil:
		return nil, err
	case owner != run:
		return nil, api.Fail(api.Conflict, "this key was used for a sheet of another run")
	}
	return s.sheet(ctx, in.RunInput, run, number)
}

// underWay is a sheet that is being assessed.
func underWay(in *api.NewSheet, row store.Work, size int64) *api.Sheet {
	return &api.Sheet{Run: act.RunAddress(in.Project, in.Number), Split: in.Body.Split, Leg: in.Body.Leg,
		Step: in.Body.Step, Epoch: in.Body.Epoch, Of: in.Body.Of, Source: act.Clean(in.Body.Source),
		State: api.Assessing, Progress: row.Progress, Figures: []assess.Measured{}, Alarms: []api.Alarm{}, Size: size,
		Who: row.Who, Created: row.Created, Says: sayUnderWay(row.Progress)}
}

// underWayOf lists the sheets of a run that are being assessed.
func (s *Sheets) underWayOf(ctx context.Context, in *api.SheetsInput, run int64) (*api.Page[api.Sheet], error) {
	rows, err := s.work.Of(ctx, run, kind)
	if err != nil {
		return nil, err
	}
	out := &api.Page[api.Sheet]{Items: []api.Sheet{}}
	for _, row := range rows {
		var n api.NewSheet
		if err := json.Unmarshal(row.Request, &n); err != nil {
			return nil, err
		}
		step := strconv.FormatInt(n.Body.Step, 10)
		if in.Split != "" && in.Split != n.Body.Split || in.Step != "" && in.Step != step {
			continue
		}
		size := int64(0)
		for _, f := range n.Body.Files {
			size += f.Size
		}
		out.Items = append(out.Items, *underWay(&n, row, size))
	}
	return out, nil
}

// check checks the description of a sheet, before its files are read.
func (s *Sheets) check(ctx context.Context, in *api.NewSheet, run int64) (n store.NewSheet,
	chunks map[chunk.Digest]int64, err error) {
	bad := func(err error) (store.NewSheet, map[chunk.Digest]int64, error) { return n, nil, err }
	if err := api.CheckUse(in.Body.Split); err != nil {
		return bad(api.Fail(api.Invalid, "split: %v", err))
	}
	epoch := float64(in.Body.Epoch)
	if math.IsNaN(epoch) || math.IsInf(epoch, 0) || epoch < 0 {
		return bad(api.Fail(api.Invalid, "epoch %v is not a number from 0 up", epoch))
	}
	for i := range in.Body.Files {
		in.Body.Files[i].Part = "sheet"
	}
	files, chunks, size, err := act.ToFiles(in.Body.Files)
	if err != nil {
		return bad(err)
	}
	n = store.NewSheet{Sheet: store.Sheet{Run: run, Key: in.Key, Leg: in.Body.Leg, Step: in.Body.Step,
		Epoch: epoch, Split: in.Body.Split, Probabilities: in.Body.Probabilities, Source: act.Clean(in.Body.Source),
		Size: size}}
	for _, f := range files {
		if !slices.Contains(sheet.Names, f.Path) {
			return bad(api.Fail(api.Invalid, "%s: a sheet has no such file; its files are %s", f.Path,
				act.Few(sheet.Names, len(sheet.Names))))
		}
		most := map[string]int64{sheet.ExamplesFile: sheet.MaxBytes, sheet.ScoresFile: mostScores,
			sheet.PredictedFile: mostScores, sheet.MediaFile: mostMedia}[f.Path]
		if f.Size > most {
			return bad(api.Fail(api.TooLarge, "%s has %s; at most %s", f.Path, api.Bytes(f.Size), api.Bytes(most)))
		}
		n.Files = append(n.Files, store.SheetFile{Name: f.Path, Size: f.Size, Chunks: f.Chunks})
	}
	if in.Body.Of > 0 {
		err = s.of(ctx, &n, in.Body.Of)
	} else {
		n.Data, err = s.used(ctx, run, n.Split)
	}
	return n, chunks, err
}

// take assesses a sheet and keeps it.
func (s *Sheets) take(ctx context.Context, w store.Work, at func(float64)) (any, error) {
	var in api.NewSheet
	if err := json.Unmarshal(w.Request, &in); err != nil {
		return nil, err
	}
	run := act.Deref(w.Run)
	if _, _, err := s.db.SheetByKey(ctx, in.Key); !errors.Is(err, store.ErrNone) {
		return nil, err // who kept it ended before the work did
	}
	n, chunks, err := s.check(ctx, &in, run)
	if err != nil {
		return nil, err
	}
	n.Person = w.Person
	alarms, err := s.assess(ctx, &n, in.Body.Says, at)
	if err != nil {
		return nil, err
	}
	before, err := s.db.ListSheets(ctx, n.Series(1))
	if err != nil {
		return nil, err
	}
	measures, err := measuresOf(n)
	if err != nil {
		return nil, err
	}
	number := 0
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := act.UseChunks(ctx, q, chunks); err != nil {
			return err
		}
		if number, err = q.AddSheet(ctx, n); err != nil {
			return err
		}
		if err := q.SetAlarms(ctx, run); err != nil {
			return err
		}
		if n.EvaluationID != 0 {
			if err := q.MeasureEvaluation(ctx, run, n.EvaluationID, measures); err != nil {
				return err
			}
		}
		if err := s.RunEvent(ctx, q, store.Event{Kind: "predictions", Verb: "handed-over", Run: run, Person: w.Person,
			Data: map[string]any{"sheet": number, "split": n.Split, "examples": n.Examples}}); err != nil {
			return err
		}
		return s.raise(ctx, q, run, n.Split, number, alarms, before)
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	if n.EvaluationID != 0 { // whose figures are known: there is nothing to wait for
		if err := s.compareNow(ctx, run, number); err != nil {
			s.Log.Warn("a sheet waits to be held against what was said", "run", run, "sheet", number, "err", err)
		}
	}
	return map[string]int{"number": number}, nil
}

func (s *Sheets) compareNow(ctx context.Context, run int64, number int) error {
	rows, err := s.db.ListSheets(ctx, store.SheetQuery{Run: run, Number: number, Limit: 1})
	if err != nil || len(rows) == 0 {
		return err
	}
	return s.compare(ctx, store.Uncompared{Run: run, ID: rows[0].ID})
}

// readShare is the part of assessing a sheet that reading it takes, and assessShare what has been done when its figures
// are computed.
const (
	readShare   = 0.35
	assessShare = 0.95
)

// followed is a file that says what share of it has been read, front to back, and that is read no further than ctx
// lasts.
type followed struct {
	sheet.File
	ctx context.Context
	at  func(share float64)
}

func (f *followed) ReadAt(p []byte, at int64) (int, error) {
	if err := f.ctx.Err(); err != nil {
		return 0, err
	}
	n, err := f.File.ReadAt(p, at)
	f.at(float64(at+int64(n)) / float64(max(f.Size(), 1)))
	return n, err
}

// assess reads the files of a sheet and fills in what it comes to.
func (s *Sheets) assess(ctx context.Context, n *store.NewSheet, says sheet.Says,
	at func(float64)) ([]assess.Alarm, error) {
	files := map[string]sheet.File{}
	var media sheet.File
	for _, f := range n.Files {
		r, err := s.reader(ctx, f.Name, f.Chunks)
		if err != nil {
			return nil, err
		}
		switch files[f.Name] = r; f.Name {
		case sheet.MediaFile:
			media = r
		case sheet.ExamplesFile: // which takes most of the reading
			files[f.Name] = &followed{r, ctx, func(share float64) { at(readShare * share) }}
		}
	}
	got, err := sheet.Read(says, files)
	var wrong *sheet.Wrong
	var unreadable *pack.Unreadable
	if errors.As(err, &unreadable) && errors.Is(err, pack.ErrNone) {
		return nil, api.Fail(api.Conflict, "chunk %s has not been sent; send what chunks/missing names, then try again",
			unreadable.Digest)
	}
	if errors.As(err, &wrong) {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	if err != nil {
		return nil, err
	}
	if got.Numbered && len(says.Classes) == 0 {
		if says.Classes = s.namesOf(ctx, n.Run, n.Step, len(got.Classes)); says.Classes != nil {
			if got, err = sheet.Read(says, files); err != nil {
				return nil, err // it was read a moment ago
			}
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	at(readShare)
	a := assess.Of(got)
	at(assessShare)
	if a.Doubled, a.Blank, err = got.Inputs(media); err != nil {
		return nil, err
	}
	alarms := append([]assess.Alarm{}, a.Alarms(got)...)
	classes := append([]string{}, got.Classes...)
	figures := append([]assess.Measured{}, a.Figures...)
	n.Task, n.Examples, n.Labelled = string(got.Task), a.Examples, a.Labelled
	for to, v := range map[*json.RawMessage]any{&n.Classes: classes, &n.Figures: figures, &n.Assessed: a,
		&n.Alarms: alarms} {
		if *to, err = json.Marshal(v); err != nil {
			return nil, err
		}
	}
	return alarms, nil
}

// namesOf are the names of so many classes that the run saved with a checkpoint, in its part preprocess; nil: it saved
// none, or they cannot be read now.
func (s *Sheets) namesOf(ctx context.Context, run, step int64, classes int) []string {
	list, err := s.db.NamesFiles(ctx, run, step, sheet.MaxNamesFile)
	if err != nil {
		s.Log.Warn("names of classes cannot be looked for", "run", run, "err", err)
		return nil
	}
	for _, f := range list {
		content := make([]byte, f.Size)
		r, err := s.reader(ctx, f.Path, f.Chunks)
		if err == nil {
			_, err = io.ReadFull(r, content)
		}
		if err != nil {
			s.Log.Warn("names of classes cannot be read", "run", run, "file", f.Path, "err", err)
			continue
		}
		if names := sheet.NamesIn(content, classes); names != nil {
			return names[:classes]
		}
	}
	return nil
}

// of puts a sheet to the evaluation that it is of, whose checkpoint and data count.
func (s *Sheets) of(ctx context.Context, n *store.NewSheet, number int) error {
	all, err := s.db.ListEvaluations(ctx, store.EvaluationQuery{Run: n.Run, Number: number, Limit: 1})
	if err != nil {
		return err
	}
	if len(all) == 0 {
		return api.Fail(api.NotFound, "the run has no evaluation %d", number)
	}
	e := all[0]
	n.EvaluationID, n.Evaluation, n.Leg, n.Step, n.Epoch = e.ID, &e.Number, e.Leg, e.Step, e.Epoch
	if e.Split != "" && e.Split != n.Split {
		return api.Fail(api.Invalid, "the answers are on %s, and %s was evaluated", n.Split, e.Split)
	}
	n.Data = e.Data
	return nil
}

// measuresOf are the figures of a sheet by measure.
func measuresOf(n store.NewSheet) (json.RawMessage, error) {
	var figures []assess.Measured
	if err := json.Unmarshal(n.Figures, &figures); err != nil {
		return nil, err
	}
	out := map[string]api.Float{}
	for _, f := range figures {
		out[f.Measure()] = api.Float(f.Value)
	}
	return json.Marshal(out)
}

// used is the split of a snapshot that a run used for a split; "": none that is known.
func (s *Sheets) used(ctx context.Context, run int64, split string) (string, error) {
	uses, err := s.db.RunData(ctx, []int64{run})
	if err != nil {
		return "", err
	}
	for _, u := range uses {
		if u.Use == split {
			return u.Address, nil
		}
	}
	return "", nil
}

// raise writes events of alarms that the sheets before did not have.
func (s *Sheets) raise(ctx context.Context, q Tx, run int64, split string, number int, alarms []assess.Alarm,
	before []store.Sheet) error {
	var had []assess.Alarm
	for _, b := range before {
		var list []assess.Alarm
		if err := json.Unmarshal(b.Alarms, &list); err != nil {
			return err
		}
		had = append(had, list...)
	}
	for _, a := range alarms {
		if slices.ContainsFunc(had, func(b assess.Alarm) bool {
			return a.Kind == b.Kind && a.Class == b.Class && a.Other == b.Other && a.Curve == b.Curve
		}) {
			continue
		}
		if err := s.RunEvent(ctx, q, store.Event{Kind: "alarm", Verb: string(a.Kind), Run: run,
			Data: dataOf(number, split, a)}); err != nil {
			return err
		}
	}
	return nil
}

// dataOf are the fields of an alarm's event.
func dataOf(number int, split string, a assess.Alarm) map[string]any {
	out := map[string]any{"sheet": number, "split": split}
	for name, text := range map[string]string{"class": a.Class, "other": a.Other, "curve": a.Curve, "data": a.Data} {
		if text != "" {
			out[name] = text
		}
	}
	for name, v := range map[string]*float64{"recorded": a.Recorded, "given": a.Given} {
		if v != nil {
			out[name] = *v
		}
	}
	if a.Of > 0 {
		out["count"], out["of"] = a.Count, a.Of
	}
	return out
}
