package web_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// trained makes a finished run with hyperparameters, a recipe, and curves at epochs 1, 2, 3 ...
func (s *served) trained(t *testing.T, hyper string, recipe api.Recipe, curves map[string][]float64) int {
	t.Helper()
	in := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	require.NoError(t, json.Unmarshal([]byte(hyper), &in.Body.Hyper))
	in.Body.Started, in.Body.Recipe = time.UnixMilli(1_790_000_000_000), recipe
	run := call(t, s, api.BeginRun, in)
	open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: vessels, Number: run.Number}, Key: uuid.NewString()}
	open.Body.Recorder, open.Body.Started = uuid.NewString(), in.Body.Started
	leg := api.LegInput{RunInput: open.RunInput, Leg: call(t, s, api.OpenLeg, open).Leg, Recorder: open.Body.Recorder}
	var all *api.BatchInput
	for name, values := range curves {
		b := batch(leg, 1, 1, name, values...)
		if all == nil {
			all = b
		} else {
			all.Body.Curves = append(all.Body.Curves, b.Body.Curves...)
		}
	}
	call(t, s, api.SendBatch, all)
	end := &api.EndInput{LegInput: leg}
	end.Body.State = "finished"
	end.Body.At = in.Body.Started.Add(time.Duration(run.Number) * time.Minute)
	call(t, s, api.EndLeg, end)
	return run.Number
}

func loss(values ...float64) map[string][]float64 { return map[string][]float64{"loss.val": values} }

// The questions of a comparison are answered with the numbers that a person would calculate by hand.
func TestComparing(t *testing.T) {
	s := serve(t)
	s.project(t)
	a, b := api.Recipe{Commit: "aaaa", Host: "hydra-1", Packages: map[string]string{"sonar": "1"}},
		api.Recipe{Commit: "bbbb", Host: "hydra-2", Changes: "+x\n",
			Packages: map[string]string{"sonar": "2", "ping": "1"}}
	for i, best := range []float64{0.352, 0.359, 0.361} { // 1 to 3
		s.trained(t, fmt.Sprintf(`{"dropout": 0.3, "lr": 0.03, "seed": %d}`, i), a, loss(1, best, best+0.1))
	}
	for i, best := range []float64{0.383, 0.389, 0.392} { // 4 to 6
		s.trained(t, fmt.Sprintf(`{"dropout": 0, "lr": 3e-2, "seed": %d}`, i), a, loss(1.1, best, best+0.2))
	}
	s.trained(t, `{"dropout": 0, "lr": 0.01, "depth": 2, "seed": 1}`, b, loss(2, 1, 0.5)) // 7

	c := call(t, s, api.Compare, &api.CompareInput{ProjectInput: vessels,
		Runs: []int{7, 1, 2, 3, 4, 5, 6}, Baseline: 4})
	require.Len(t, c.Groups, 3)
	require.Equal(t, []int{1, 2, 3}, c.Groups[0].Runs)
	require.InDelta(t, 0.357333, float64(c.Groups[0].Best.Mean), 1e-6)
	require.InDelta(t, 0.004726, float64(c.Groups[0].Best.Deviation), 1e-6)
	require.InDelta(t, 0.457333, float64(c.Groups[0].Last.Mean), 1e-6)
	next := c.Groups[0].Next
	require.InDelta(t, -0.030667, float64(next.Difference), 1e-6)
	require.True(t, next.Beyond)
	require.Less(t, float64(next.High), -0.01)
	require.Equal(t, "student", next.Method)
	require.Equal(t, "prediction", c.Groups[1].Next.Method, "one run against three")
	require.NotNil(t, c.Groups[0].Baseline)
	require.Nil(t, c.Groups[1].Baseline, "the baseline's own group")
	require.Contains(t, c.Answers.Best, "by 0.03067 over")
	rows := map[string]api.FactRow{}
	for _, r := range c.Differ {
		rows[r.Section+" "+r.Name] = r
	}
	require.Len(t, rows, 9, "dropout, lr, depth, seed, commit, uncommitted change, sonar, ping, host: %v", rows)
	require.Equal(t, []string{"0.3", "0", "0"}, rows["hyperparameter dropout"].Groups)
	require.Equal(t, []bool{true, false, false}, rows["hyperparameter dropout"].Apart,
		"held against the baseline's group")
	require.Equal(t, []string{"0, 1, 2", "0, 1, 2", "1"}, rows["seed seed"].Groups)
	require.Equal(t, []string{"·", "·", "1"}, rows["package ping"].Groups)
	require.Equal(t, []string{"1", "1", "2"}, rows["package sonar"].Groups)
	require.Len(t, c.Changes, 1)
	require.Contains(t, c.Answers.Differed, "3 hyperparameters, the seed, the code, 2 packages and the machine.")

	two := call(t, s, api.Compare, &api.CompareInput{ProjectInput: vessels, Runs: []int{1, 7}})
	require.Contains(t, two.Answers.Best, "one each: cannot tell")
	require.Empty(t, two.Groups[0].Next.Method)
	refuse(t, s, api.Compare, &api.CompareInput{ProjectInput: vessels, Runs: []int{1, 99}}, api.NotFound, "vessels/99")
	refuse(t, s, api.Compare, &api.CompareInput{ProjectInput: vessels, RunChoice: api.RunChoice{Where: "stat"}},
		api.Invalid, "column 1")

	// Curves: the groups' means with what lies between, and differences from the baseline.
	l := call(t, s, api.GetLearning,
		&api.LearningInput{CompareInput: api.CompareInput{ProjectInput: vessels, Runs: []int{1, 2, 3, 4, 5, 6},
			Baseline: 4}, Names: []string{"loss.val", "none"}, By: "epoch", Pixels: 100, Groups: true})
	require.Len(t, l.Lines, 2)
	require.InDeltaSlice(t, []float64{1, 0.357333, 0.457333}, l.Lines[0].Y, 1e-6)
	require.InDeltaSlice(t, []float64{1, 0.352, 0.452}, l.Lines[0].Low, 1e-9)
	require.InDeltaSlice(t, []float64{-0.1, -0.030667, -0.130667}, l.Lines[0].LessY, 1e-6)
	require.True(t, l.Lines[1].Baseline)
	each := call(t, s, api.GetLearning,
		&api.LearningInput{CompareInput: api.CompareInput{ProjectInput: vessels, Runs: []int{1, 2}, Baseline: 7},
			Names: []string{"loss.val"}, By: "time", Pixels: 100})
	require.InDeltaSlice(t, []float64{0, 0.001, 0.002}, each.Lines[0].X, 1e-9, "seconds since the start")
	require.InDeltaSlice(t, []float64{-1, -0.648, -0.048}, each.Lines[0].LessY, 1e-9,
		"a baseline that is none of the runs")

	// Trade-offs: best loss against number of the run.
	trade := call(t, s, api.GetTradeOff, &api.TradeOffInput{CompareInput: api.CompareInput{ProjectInput: vessels},
		Figures: "best,hyper.seed"})
	marked := map[int]bool{}
	for _, p := range trade.Points {
		marked[p.Run] = p.Undominated
	}
	require.Equal(t, map[int]bool{1: true, 2: false, 3: false, 4: false, 5: false, 6: false, 7: false}, marked)
	refuse(t, s, api.GetTradeOff, &api.TradeOffInput{CompareInput: api.CompareInput{ProjectInput: vessels},
		Figures: "best"}, api.Invalid, "two or three")

	// Documents stand alone.
	for format, want := range map[string]string{"html": "<svg", "csv": "vessels/1,"} {
		_, content := s.raw(t, "GET",
			api.Base+"/projects/vessels/comparison/document?runs=1,2,3,4,5,6,7&format="+format, "", s.bearer()...)
		require.Contains(t, content, want)
		require.NotContains(t, content, "http://127", "no outside address")
	}
	_, content := s.raw(t, "GET", api.Base+"/projects/vessels/comparison/document?runs=1,2,3,4,5,6,7&format=markdown",
		"", s.bearer()...)
	z, err := zip.NewReader(bytes.NewReader([]byte(content)), int64(len(content)))
	require.NoError(t, err)
	names := ""
	for _, f := range z.File {
		names += f.Name + " "
		if f.Name == "comparison.md" {
			r, err := f.Open()
			require.NoError(t, err)
			text, err := io.ReadAll(r)
			require.NoError(t, err)
			require.Contains(t, string(text), "| dropout | 0.3 | 0 | 0 |")
			require.Contains(t, string(text), "(loss.val.svg)")
		}
	}
	require.Contains(t, names, "ranking.svg")
}

// What mattered: of 40 runs whose loss follows the rate alone, the rate.
func TestWhatMattered(t *testing.T) {
	s := serve(t)
	s.project(t)
	for i := range 40 {
		rate := 0.001 * math.Pow(1.2, float64((i*17)%40))
		s.trained(t, fmt.Sprintf(`{"lr": %g, "width": %d, "batch": 32, "seed": %d}`, rate, 16+(i*7)%5, i), api.Recipe{},
			loss(3, 1+math.Log(rate)/10))
	}
	m := call(t, s, api.GetMattered, &api.InfluenceInput{CompareInput: api.CompareInput{ProjectInput: vessels}})
	require.Len(t, m.Influences, 2, "neither what is the same nor the seed")
	require.Equal(t, "lr", m.Influences[0].Name)
	require.InDelta(t, 1, float64(m.Influences[0].Correlation), 1e-12)
	require.Contains(t, m.Says, "lr mattered most")
	require.Len(t, m.Points, 40)
	last := call(t, s, api.GetMattered,
		&api.InfluenceInput{CompareInput: api.CompareInput{ProjectInput: vessels,
			RunChoice: api.RunChoice{Where: "number <= 8"}}, Figure: `last("loss.val")`})
	require.Equal(t, 8, last.Runs)
	require.True(t, last.Few)
}

// Columns bring any value; a curve's value where the objective was best is known, also when another objective is set
// later.
func TestColumnsAndFiguresAtTheBest(t *testing.T) {
	s := serve(t)
	s.project(t)
	s.trained(t, `{"lr": 0.1, "optimiser": "adam"}`, api.Recipe{},
		map[string][]float64{"loss.val": {3, 1, 2}, "accuracy.val": {0.2, 0.7, 0.9}})
	s.trained(t, `{"optimiser": "momentum", "layers": [3, 2]}`, api.Recipe{},
		map[string][]float64{"loss.val": {0.5, 4, 5}, "accuracy.val": {0.3, 0.4, 0.6}})
	columns := `best,at("accuracy.val"),last("loss.val") - best("loss.val"),hyper.lr,hyper.layers,state,took`
	read := func() map[int]string {
		out := map[int]string{}
		for _, r := range call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels,
			PageInput: api.PageInput{Limit: 10}, Columns: columns}).Items {
			text, err := json.Marshal(r.Values)
			require.NoError(t, err)
			out[r.Number] = string(text)
		}
		return out
	}
	want := map[int]string{1: `[1,0.7,1,0.1,null,"finished",60]`, 2: `[0.5,0.3,4.5,null,[3,2],"finished",120]`}
	require.EventuallyWithT(t, func(c *assert.CollectT) { require.Equal(c, want, read()) }, 30*time.Second,
		50*time.Millisecond, "figures at the best come with the summaries")
	objective := api.Objective{Curve: "accuracy.val", Direction: "higher"}
	edit := &api.ProjectEdit{ProjectInput: vessels}
	edit.Body.Objective = &objective
	call(t, s, api.ChangeProject, edit)
	columns = `best,at("loss.val")`
	require.Eventually(t, func() bool {
		got := read()
		return got[1] == `[0.9,2]` && got[2] == `[0.6,5]`
	}, 60*time.Second, 100*time.Millisecond, "looked up anew")
	p := refuse(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10},
		Columns: "best,hyper"}, api.Invalid, "column 2 (hyper)")
	require.Equal(t, 1, p.Column)

	// Words sort as texts where no run has a number; the file has what is shown.
	sorted := call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10},
		RunChoice: api.RunChoice{Sort: "hyper.optimiser", Order: "descending"}})
	require.Equal(t, 2, sorted.Items[0].Number)
	_, content := s.raw(t, "GET",
		api.Base+"/projects/vessels/history?what=runs&format=csv&sort=best&columns="+url.QueryEscape("hyper.optimiser,hyper.lr,best"), "", s.bearer()...)
	require.Equal(t, "run,title,hyper.optimiser,hyper.lr,best\nvessels/1,,adam,0.1,0.9\nvessels/2,,momentum,,0.6\n",
		strings.ReplaceAll(content, "\r", ""))

	// The baseline is named, and others are held against it.
	base := &api.BaselineInput{ProjectInput: vessels}
	base.Body.Run = 2
	require.Equal(t, 2, call(t, s, api.SetBaseline, base).Baseline)
	list := call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10}})
	require.Nil(t, list.Items[0].Against)
	require.InDelta(t, 0.3, float64(*list.Items[1].Against), 1e-12)
	base.Body.Run = 77
	refuse(t, s, api.SetBaseline, base, api.NotFound, "vessels/77")
}

// Any part of a long list is one page away.
func TestLandmarks(t *testing.T) {
	s := serve(t)
	s.project(t)
	for i := range 25 {
		s.trained(t, fmt.Sprintf(`{"lr": %d}`, (i*7)%25), api.Recipe{}, loss(1))
	}
	choice := api.RunChoice{Where: "hyper.lr < 23", Sort: "hyper.lr"}
	marks := call(t, s, api.ListLandmarks, &api.LandmarksInput{ProjectInput: vessels, RunChoice: choice, Every: 10})
	require.Equal(t, int64(23), marks.Total)
	require.Len(t, marks.Cursors, 2)
	page := call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels,
		PageInput: api.PageInput{Limit: 10, Cursor: marks.Cursors[1]}, RunChoice: choice})
	require.Len(t, page.Items, 3)
	require.Equal(t, "20", string(page.Items[0].Hyper["lr"]))
}

// Views are one's own or everybody's; archived and doomed runs are out of the way, come back, and are deleted when
// their stay is over.
func TestViewsAndWhatBecomesOfRuns(t *testing.T) {
	s := serve(t)
	s.project(t)
	view := &api.ViewInput{ProjectInput: vessels}
	view.Body.Name, view.Body.Look = "by rate", "sort=hyper.lr"
	mine := call(t, s, api.KeepView, view)
	view.Body.Look = "sort=hyper.lr&order=descending"
	require.Equal(t, mine.ID, call(t, s, api.KeepView, view).ID, "the same name, the same view")
	view.Body.Everybody = true
	call(t, s, api.KeepView, view)
	require.Len(t, call(t, s, api.ListViews, &vessels).Items, 2)
	other := s.as(t, "Teo", map[string]string{"": "member"})
	require.Len(t, call(t, other, api.ListViews, &vessels).Items, 1)
	refuse(t, other, api.DropView, &api.ViewIDInput{ProjectInput: vessels, ID: mine.ID}, api.NotFound, "no view")
	call(t, s, api.DropView, &api.ViewIDInput{ProjectInput: vessels, ID: mine.ID})

	for range 3 {
		s.trained(t, `{}`, api.Recipe{}, loss(1, 2))
	}
	shown := func(what string) (out []int) {
		for _, r := range call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels,
			PageInput: api.PageInput{Limit: 10}, RunChoice: api.RunChoice{Shown: what}}).Items {
			out = append(out, r.Number)
		}
		return out
	}
	run := func(n int) api.RunInput { return api.RunInput{ProjectInput: vessels, Number: n} }
	archive := &api.ArchiveInput{RunInput: run(1)}
	archive.Body.Archived = true
	call(t, s, api.ArchiveRun, archive)
	refuse(t, other, api.DeleteRun, &api.LeaveInput{RunInput: run(2), Days: 3}, api.Denied, "another made it")
	call(t, s, api.DeleteRun, &api.LeaveInput{RunInput: run(2), Days: 3})
	require.Equal(t, []int{3}, shown(""))
	require.Equal(t, []int{1}, shown("archived"))
	require.Equal(t, []int{2}, shown("deleted"))
	require.Equal(t, int64(1), call(t, s, api.GetProject, &vessels).Runs)
	in := run(2)
	require.Nil(t, call(t, s, api.KeepRun, &in).DeleteAt)
	archive.Body.Archived = false
	call(t, s, api.ArchiveRun, archive)
	require.Equal(t, []int{3, 2, 1}, shown(""))
	running := s.leg(t)
	refuse(t, s, api.DeleteRun, &api.LeaveInput{RunInput: running.RunInput, Days: 1}, api.Conflict, "is running")
	call(t, s, api.DeleteRun, &api.LeaveInput{RunInput: run(2), Days: 1e-9})
	require.Eventually(t, func() bool { return len(shown("all")) == 3 }, 60*time.Second, 100*time.Millisecond)
	refuse(t, s, api.GetRun, &in, api.NotFound, "vessels/2")
	for _, table := range []string{"journal", "block", "curve_summary", "curve", "hyper", "leg"} {
		var n int
		require.NoError(t, s.db.Pool.QueryRow(ctx,
			"select count(*) from "+table+" where run not in (select id from run)").Scan(&n))
		require.Zero(t, n, table)
	}
}

// A search is made once, its trials are settings in their order, and say what became of them.
func TestSearches(t *testing.T) {
	s := serve(t)
	s.project(t)
	in := &api.NewSearch{ProjectInput: vessels, Key: uuid.NewString()}
	in.Body.Strategy, in.Body.Budget, in.Body.Command = "grid", 10, []string{"./harbour", "--lr", "{lr}"}
	in.Body.Space = "space: 1\nhyperparameters: {lr: {choice: [0.1, 0.2]}, depth: {integer: [1, 3]}}"
	made := call(t, s, api.CreateSearch, in)
	require.Equal(t, 1, made.Number)
	require.Len(t, made.Trials, 6)
	require.Equal(t, "3", string(made.Trials[2].Setting["depth"]))
	require.Equal(t, 1, call(t, s, api.CreateSearch, in).Number, "the same key, the same search")
	trial := func(n int, state, signal string, code *int) {
		run := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
		run.Body.Search, run.Body.Trial, run.Body.Started = 1, n, time.Now()
		open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: vessels, Number: call(t, s, api.BeginRun, run).Number},
			Key: uuid.NewString()}
		open.Body.Recorder, open.Body.Started = uuid.NewString(), time.Now()
		leg := api.LegInput{RunInput: open.RunInput, Leg: call(t, s, api.OpenLeg, open).Leg,
			Recorder: open.Body.Recorder}
		call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", float64(n)))
		end := &api.EndInput{LegInput: leg}
		end.Body.State, end.Body.Signal, end.Body.ExitCode = state, signal, code
		call(t, s, api.EndLeg, end)
	}
	zero, two := 0, 2
	trial(1, "finished", "", &zero)
	trial(2, "failed", "", &two)
	trial(3, "failed", "interrupt", nil)
	trial(4, "failed", "", nil) // nobody saw it end: its machine went down
	found := call(t, s, api.GetSearch, &api.SearchInput{ProjectInput: vessels, Number: 1})
	require.Equal(t, []bool{true, true, false, false}, []bool{found.Trials[0].Done, found.Trials[1].Done,
		found.Trials[2].Done, found.Trials[3].Done})
	require.Contains(t, found.Says, "2 of 6 trials are done, 3 failed; best so far 1 by vessels/1 (trial 1)")
	require.Len(t, call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10},
		RunChoice: api.RunChoice{Where: "search == 1 && trial > 1"}}).Items, 3)
	in.Key, in.Body.Command = uuid.NewString(), []string{"{rate}"}
	refuse(t, s, api.CreateSearch, in, api.Invalid, "{rate}")
	in.Body.Command, in.Body.Space = []string{"x"}, "space: 1\nhyperparameters: {lr: {real: [0, 1]}}"
	refuse(t, s, api.CreateSearch, in, api.Invalid, "steps")
	refuse(t, s, api.GetSearch, &api.SearchInput{ProjectInput: vessels, Number: 9}, api.NotFound, "no search 9")
}

// Searches are listed without their trials, however many those are; archived ones are out of the list, and a deleted
// one leaves its runs.
func TestSearchesArchivedAndDeleted(t *testing.T) {
	s := serve(t)
	s.project(t)
	make := func(budget int) *api.Search {
		in := &api.NewSearch{ProjectInput: vessels, Key: uuid.NewString()}
		in.Body.Strategy, in.Body.Space, in.Body.Budget, in.Body.Command = "random",
			"space: 1\nhyperparameters: {lr: {real: [0.0001, 0.1], log: true}}", budget, []string{"train", "{lr}"}
		return call(t, s, api.CreateSearch, in)
	}
	large, small := make(10_000), make(3)
	require.Len(t, large.Trials, 10_000)
	run := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	run.Body.Started, run.Body.Search, run.Body.Trial = time.Now(), small.Number, 2
	run.Body.Hyper = map[string]json.RawMessage{"lr": small.Trials[1].Setting["lr"]}
	begun := call(t, s, api.BeginRun, run)
	list := func(shown string) (numbers []int, items []api.Search) {
		found := call(t, s, api.ListSearches, &api.SearchesInput{ProjectInput: vessels,
			PageInput: api.PageInput{Limit: 100}, Shown: shown})
		for _, one := range found.Items {
			numbers = append(numbers, one.Number)
			require.Empty(t, one.Trials)
		}
		return numbers, found.Items
	}
	numbers, items := list("active")
	require.Equal(t, []int{small.Number, large.Number}, numbers)
	require.Equal(t, 10_000, items[1].Count)
	require.Contains(t, items[0].Says, "0 of 3 trials are done, 1 running")
	require.Equal(t, items[0].Says,
		call(t, s, api.GetSearch, &api.SearchInput{ProjectInput: vessels, Number: small.Number}).Says,
		"the list says what the page says")

	in := &api.SearchArchiveInput{SearchInput: api.SearchInput{ProjectInput: vessels, Number: small.Number}}
	in.Body.Archived = true
	require.True(t, call(t, s, api.ArchiveSearch, in).Archived)
	numbers, _ = list("active")
	require.Equal(t, []int{large.Number}, numbers)
	numbers, _ = list("archived")
	require.Equal(t, []int{small.Number}, numbers)
	in.Body.Archived = false
	call(t, s, api.ArchiveSearch, in)
	numbers, _ = list("active")
	require.Len(t, numbers, 2)

	call(t, s, api.DeleteSearch, &in.SearchInput)
	refuse(t, s, api.GetSearch, &in.SearchInput, api.NotFound, "no search")
	left := call(t, s, api.GetRun, &api.RunInput{ProjectInput: vessels, Number: begun.Number})
	require.Zero(t, left.Search)
	stray := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()} // by a process that did not hear of it
	stray.Body.Started, stray.Body.Search, stray.Body.Trial = time.Now(), small.Number, 3
	shown := call(t, s, api.GetRun, &api.RunInput{ProjectInput: vessels,
		Number: call(t, s, api.BeginRun, stray).Number})
	require.Empty(t, shown.Untaken, "its page is there, and nobody knows what the search asked")
	require.Equal(t, small.Number+1, make(1).Number, "the number stays used")
	call(t, s, api.DeleteSearch, &api.SearchInput{ProjectInput: vessels, Number: small.Number + 1})
	numbers, _ = list("all")
	require.Equal(t, []int{large.Number}, numbers)
}
