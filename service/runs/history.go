package runs

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/filter"
	"kembrel/core/history"
	"kembrel/core/hyper"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

// maxWide is how many readings of one run a wide CSV holds: its rows are put together in memory.
const maxWide = 5_000_000

// History is what is asked for, found and ready to be written.
type History struct {
	service   *Runs
	in        *api.HistoryInput
	runs      []store.Run
	objective verdict.Objective
	columns   []*filter.Node // of a table of runs; nil: all
	headings  []string       // of the columns
	query     store.RunQuery
}

// runsChosen finds runs of a project: those named, the first first, or those that a query chooses, in its order; read
// reads them.
func (s *Runs) runsChosen(ctx context.Context, q store.RunQuery, wanted []int,
	read func(context.Context, int64, []int64) ([]store.Run, error)) ([]store.Run, error) {
	numbers := make([]int64, len(wanted))
	for i, n := range wanted {
		numbers[i] = int64(n)
	}
	slices.Sort(numbers)
	q.Limit = 500
	var out []store.Run
	for {
		if wanted == nil {
			places, err := s.db.FindRuns(ctx, q)
			if err != nil {
				return nil, finding.OrOutOfRange(err)
			}
			numbers = numbers[:0]
			for _, p := range places {
				numbers, q.After = append(numbers, p.Number), &p
			}
		}
		rows, err := read(ctx, q.Project, numbers)
		if err != nil {
			return nil, err
		}
		slices.SortFunc(rows, func(a, b store.Run) int {
			return slices.Index(numbers, int64(a.Number)) - slices.Index(numbers, int64(b.Number))
		})
		if out = append(out, rows...); wanted != nil || len(numbers) < q.Limit {
			return out, nil
		}
	}
}

// OpenHistory finds the runs whose history is wanted.
func (s *Runs) OpenHistory(ctx context.Context, in *api.HistoryInput) (*History, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	h := &History{service: s, in: in, objective: p.Objective}
	if h.query, err = finding.RunQuery(p.ID, p.Objective, in.RunChoice); err != nil {
		return nil, err
	}
	if in.Sort == "" && in.Order == "" { // a history begins with the first run
		h.query.Descending = false
	}
	if h.columns, h.headings, err = finding.ColumnsOf(p.Objective, in.Columns); err != nil {
		return nil, err
	}
	read := s.db.RunsByNumber
	if h.columns != nil {
		read = s.db.RunTitles
	}
	if h.runs, err = s.runsChosen(ctx, h.query, in.Runs, read); err != nil {
		return nil, err
	}
	for _, n := range in.Runs {
		if !slices.ContainsFunc(h.runs, func(r store.Run) bool { return r.Number == n }) {
			return nil, api.Fail(api.NotFound, "there is no run %s", act.RunAddress(in.Project, n))
		}
	}
	if err := h.checkNames(ctx); err != nil || in.What == "runs" || in.Format != "csv" {
		return h, err
	}
	for _, r := range h.runs {
		sums, err := s.db.Summaries(ctx, []int64{r.ID}, "")
		if err != nil {
			return nil, err
		}
		total := int64(0)
		for _, c := range sums {
			total += c.Count
		}
		if total > maxWide {
			return nil, api.Fail(api.Invalid,
				"%s has %d readings, too many for a wide CSV; take csv-long, jsonl or parquet",
				act.RunAddress(in.Project, r.Number), total)
		}
	}
	return h, nil
}

// checkNames refuses a name of which no run has a curve.
func (h *History) checkNames(ctx context.Context) error {
	missing := map[string]bool{}
	for _, name := range h.in.Names {
		missing[name] = true
	}
	some := []string{}
	for _, r := range h.runs {
		if len(missing) == 0 {
			return nil
		}
		known, err := h.service.db.CurveIDs(ctx, r.ID, nil)
		if err != nil {
			return err
		}
		for name := range known {
			delete(missing, name)
		}
		some = slices.Sorted(maps.Keys(known))
	}
	if len(missing) == 0 || len(h.runs) == 0 {
		return nil
	}
	return api.Fail(api.Invalid, "no run that is exported has a curve %s; %s has: %s",
		act.Few(slices.Sorted(maps.Keys(missing)), 5), act.RunAddress(h.in.Project, h.runs[len(h.runs)-1].Number),
		act.Few(some, 40))
}

// Write writes the history.
func (h *History) Write(ctx context.Context, to io.Writer) error {
	buffered := bufio.NewWriterSize(to, 1<<16)
	if err := h.write(ctx, buffered); err != nil {
		return err
	}
	return buffered.Flush()
}

func (h *History) write(ctx context.Context, to io.Writer) error {
	if h.in.What == "runs" {
		return h.writeRuns(ctx, to)
	}
	names := map[string]bool{}
	for _, r := range h.runs {
		known, err := h.service.db.CurveIDs(ctx, r.ID, nil)
		if err != nil {
			return err
		}
		for name := range known {
			if h.in.Names == nil || slices.Contains(h.in.Names, name) {
				names[name] = true
			}
		}
	}
	columns := make([]string, 0, len(names))
	for name := range names {
		columns = append(columns, name)
	}
	sort.Strings(columns)
	w, err := history.NewWriter(h.in.Format, to, columns, len(h.in.Runs) != 1)
	if err != nil {
		return err
	}
	for _, r := range h.runs {
		address := act.RunAddress(h.in.Project, r.Number)
		err := h.service.readings.Scan(ctx, store.Span{Run: r.ID, Names: h.in.Names},
			func(name string, points []curve.Point, values []float64) error {
				return w.Write(address, name, points, values)
			})
		if err != nil {
			return err
		}
	}
	return w.Close()
}

// writeRuns writes a row per run: what it is, its hyperparameters, and each curve's last, lowest and highest reading.
func (h *History) writeRuns(ctx context.Context, to io.Writer) error {
	table := history.NewTable(h.in.Format, to)
	if h.columns != nil {
		if err := h.addColumns(ctx, table); err != nil {
			return err
		}
		return table.Close()
	}
	sums := map[int64][]store.Summary{}
	for i, r := range h.runs {
		if i%100 == 0 { // of as many runs at a time
			clear(sums)
			var ids []int64
			for _, r := range h.runs[i:min(i+100, len(h.runs))] {
				ids = append(ids, r.ID)
			}
			found, err := h.service.db.Summaries(ctx, ids, "")
			if err != nil {
				return err
			}
			for _, c := range found {
				sums[c.Run] = append(sums[c.Run], c)
			}
		}
		row := history.Row{{Name: "run", Value: act.RunAddress(h.in.Project, r.Number)},
			{Name: "title", Value: r.Title}, {Name: "state", Value: r.State},
			{Name: "who", Value: r.Who}, {Name: "host", Value: r.Host}, {Name: "started", Value: r.Started}}
		ended := history.Cell{Name: "ended"}
		if r.Ended != nil {
			ended.Value = *r.Ended
		}
		row = append(row, ended, history.Cell{Name: "step", Value: r.Step}, history.Cell{Name: "epoch"})
		if !math.IsNaN(r.Epoch) { // it reported some
			row[len(row)-1].Value = r.Epoch
		}
		row = append(row, h.judged(r, sums[r.ID])...)
		var hyper map[string]any
		if err := exactly(r.Hyper, &hyper); err != nil {
			return fmt.Errorf("hyperparameters of run %d: %w", r.ID, err)
		}
		names := make([]string, 0, len(hyper))
		for name := range hyper {
			names = append(names, name)
		}
		sort.Strings(names)
		for _, name := range names {
			row = append(row, history.Cell{Name: "hyper." + name, Value: hyper[name]})
		}
		for _, c := range sums[r.ID] {
			if h.in.Names == nil || slices.Contains(h.in.Names, c.Name) {
				row = append(row, history.Cell{Name: "last." + c.Name, Value: c.LastValue},
					history.Cell{Name: "lowest." + c.Name, Value: c.LowValue},
					history.Cell{Name: "highest." + c.Name, Value: c.HighValue})
			}
		}
		table.Add(row)
	}
	return table.Close()
}

// judged is what is said of a run: its best and last by the objective, its verdict, and what people wrote.
func (h *History) judged(r store.Run, sums []store.Summary) history.Row {
	row := history.Row{{Name: "best"}, {Name: "best.epoch"}, {Name: "last"}, {Name: "verdict"}, {Name: "tags"},
		{Name: "note"}}
	for _, c := range sums {
		if c.Name != h.objective.Curve || c.Count == 0 {
			continue
		}
		if best, ok := h.objective.Best(c.Core()); ok {
			row[0].Value = best.Value
			if !math.IsNaN(best.Epoch) {
				row[1].Value = best.Epoch
			}
		}
		row[2].Value = c.LastValue
	}
	if v := finding.ToVerdict(r.Verdict, r.Dispute); v != nil && v.Kind != "" {
		row[3].Value = string(v.Kind)
	}
	if len(r.Tags) > 0 {
		row[4].Value = strings.Join(r.Tags, ", ")
	}
	if r.Note != "" {
		row[5].Value = r.Note
	}
	return row
}

// addColumns adds a row per run with the columns asked for.
func (h *History) addColumns(ctx context.Context, table *history.Table) error {
	table.Declare(append([]string{"run", "title"}, h.headings...)...)
	table.Fixed()
	type part struct {
		runs   []store.Run
		values map[int64][]json.RawMessage
	}
	parts := make(chan part) // the next is read while one is put into the table
	readers, ctx := errgroup.WithContext(ctx)
	readers.Go(func() error {
		defer close(parts)
		for runs := range slices.Chunk(h.runs, 500) {
			numbers := make([]int64, len(runs))
			for i, r := range runs {
				numbers[i] = int64(r.Number)
			}
			values, err := h.service.db.RunValues(ctx, h.query, numbers, h.columns)
			if err != nil {
				return finding.OrOutOfRange(err)
			}
			select {
			case parts <- part{runs, values}:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	readers.Go(func() error {
		for p := range parts {
			for _, r := range p.runs {
				row, err := h.row(r, p.values[int64(r.Number)])
				if err != nil {
					return err
				}
				table.Add(row)
			}
		}
		return nil
	})
	return readers.Wait()
}

// row is a run's with the columns asked for.
func (h *History) row(r store.Run, values []json.RawMessage) (history.Row, error) {
	row := history.Row{{Name: "run", Value: act.RunAddress(h.in.Project, r.Number)}, {Name: "title", Value: r.Title}}
	for i, v := range values {
		if v == nil {
			continue
		}
		value, err := plainly(v)
		if err != nil {
			return nil, err
		}
		if text, ok := value.(string); ok && h.columns[i].Kind == filter.Time {
			value = history.Moment(text)
		}
		row = append(row, history.Cell{Name: h.headings[i], Value: value})
	}
	return row, nil
}

// plainly reads a JSON value that the database wrote; a number is so found without a decoder, as tables have hundreds
// of thousands.
func plainly(text json.RawMessage) (value any, err error) {
	if c := text[0]; c == '-' || '0' <= c && c <= '9' {
		return json.Number(text), nil
	}
	err = exactly(text, &value)
	return value, err
}

// exactly reads JSON whose numbers keep all their digits.
func exactly(text []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	return d.Decode(into)
}

// FileName is what a saved history is called.
func (h *History) FileName() string {
	name := h.in.Project
	if len(h.in.Runs) == 1 {
		name += fmt.Sprint("-", h.in.Runs[0])
	}
	return name + "-" + h.in.What + "." + history.Extension(h.in.Format)
}

// importPoints is how many points of an imported run go into one row of the journal.
const importPoints = 4096

// AddHistory keeps a run that was trained elsewhere, in one transaction.
func (s *Runs) AddHistory(ctx context.Context, who act.Who, in *api.NewHistory) (*api.Run, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	if _, err := uuid.Parse(in.Key); err != nil {
		return nil, api.Fail(api.Invalid, "%.60q is not a UUID; the key is", in.Key)
	}
	b := in.Body
	if err := hyper.Check(b.Hyper); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	for _, c := range b.Curves {
		if c.Name == "" {
			return nil, api.Fail(api.Invalid, "a history's curves have names, not numbers")
		}
	}
	batch, _, err := s.toBatch(ctx, 0, api.Batch{Number: 1, Axis: b.Axis, Curves: b.Curves})
	if err != nil {
		return nil, err
	}
	if len(batch.Axis) == 0 || len(batch.Columns) == 0 {
		return nil, api.Fail(api.Invalid, "there is no reading in it")
	}
	if b.Started.IsZero() || b.Ended.Before(b.Started) {
		return nil, api.Fail(api.Invalid, "a history says when it started and, not before, when it ended")
	}
	_, number, project, err := s.db.RunByKey(ctx, in.Key)
	var run int64
	switch {
	case err == nil && project != p.ID:
		return nil, api.Fail(api.Conflict, "this key made a run of another project")
	case err == nil:
		return s.Run(ctx, api.RunInput{ProjectInput: in.ProjectInput, Number: number})
	}
	err = s.db.InTx(ctx, func(q Tx) (err error) {
		run, number, err = q.AddRun(ctx, store.NewRun{Project: p.ID, Creator: who.ID, Key: in.Key,
			Title: act.Clean(b.Title), Recipe: api.Recipe{}, Started: b.Started})
		if err == nil {
			err = q.SetHyper(ctx, run, b.Hyper)
		}
		if err != nil {
			return err
		}
		return s.keepHistory(ctx, q, run, who, in, batch)
	})
	if err != nil {
		return nil, err
	}
	if _, err := s.db.SummariseRun(ctx, run); err != nil {
		s.Log.Warn("summaries of curves wait", "err", err)
	}
	s.Live.News()
	return s.Run(ctx, api.RunInput{ProjectInput: in.ProjectInput, Number: number})
}

func (s *Runs) keepHistory(ctx context.Context, q Tx, run int64, who act.Who, in *api.NewHistory,
	batch readBatch) error {
	b := in.Body
	recorder := uuid.NewString()
	leg, err := q.AddLeg(ctx, run, store.NewLeg{Key: uuid.NewString(), Recorder: recorder, FromStep: batch.Axis[0].Step,
		FromEpoch: math.NaN(), Started: b.Started})
	if err != nil {
		return err
	}
	ids, err := q.CurveIDs(ctx, run, batch.names)
	if err != nil {
		return err
	}
	for i, name := range batch.names {
		batch.Columns[i].Curve = ids[name]
	}
	number := int64(0)
	for part := range batch.Parts(importPoints) {
		number++
		_, err := q.CountBatch(ctx, store.Count{Run: run, Leg: leg, Recorder: recorder, Number: number, Upto: number,
			Points: len(part.Axis), Batch: part})
		if err != nil {
			return fmt.Errorf("keep part %d of a history: %w", number, err)
		}
	}
	if _, err := q.EndLeg(ctx, store.Ending{Run: run, Leg: leg, Recorder: recorder, State: "finished",
		Ended: b.Ended}); err != nil {
		return err
	}
	if _, err := q.SetRunState(ctx, run, "finished", &b.Ended); err != nil {
		return err
	}
	if err := q.AddNote(ctx, run,
		store.Note{Leg: leg, At: time.Now(), Text: act.Clean("Brought in from " + b.Source)}); err != nil {
		return err
	}
	return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Person: who.ID, Verb: "imported"})
}
