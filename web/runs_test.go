package web_test

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
)

func TestUnknownThings(t *testing.T) {
	s := serve(t)
	in := api.RunInput{ProjectInput: vessels, Number: 7}
	refuse(t, s, api.GetRun, &in, api.NotFound, `no project "vessels"`)
	s.project(t)
	refuse(t, s, api.GetRun, &in, api.NotFound, "no run vessels/7")
	refuse(t, s, api.GetProject, &api.ProjectInput{Project: "Vessels!"}, api.Invalid, "project key")
	again := &api.NewProject{}
	again.Body.Key = "vessels"
	refuse(t, s, api.CreateProject, again, api.Conflict, "vessels")
	again.Body.Key, again.Body.Objective = "other", api.Objective{Curve: "loss.val", Direction: "sideways"}
	refuse(t, s, api.CreateProject, again, api.Invalid, "direction")
	leg := s.leg(t)
	leg.Leg = 2
	refuse(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 1), api.NotFound, "no leg 2")
	refuse(t, s, api.ShowLife, &leg, api.NotFound, "no leg 2")
	leg.Leg = 1
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 1))
	refuse(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, Names: []string{"los"}}, api.NotFound,
		"it has: loss.val")
	refuse(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, From: 5, To: 4}, api.Invalid, "empty")
	refuse(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, Smooth: 1, Median: 1}, api.Invalid, "not both")
	refuse(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "best"},
		api.NotFound, "no checkpoint")
	refuse(t, s, api.GetCheckpoint, &api.CheckpointInput{RunInput: leg.RunInput, At: "first"}, api.Invalid,
		"names no checkpoint")
}

func TestStartingTwiceStartsOnce(t *testing.T) {
	s := serve(t)
	s.project(t)
	in := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	in.Body.Title, in.Body.Started = "Tug\x00 \xff", time.Now()
	first := call(t, s, api.BeginRun, in)
	second := call(t, s, api.BeginRun, in)
	require.Equal(t, first.Number, second.Number)
	in.Key = "no uuid"
	refuse(t, s, api.BeginRun, in, api.Invalid, "Idempotency-Key")
	in.Key = uuid.NewString()
	in.Body.Hyper = map[string]json.RawMessage{"x": json.RawMessage(`[[1]]`)}
	refuse(t, s, api.BeginRun, in, api.Invalid, "list within a list")
}

func TestHyperparametersKeepTypeAndEveryDigit(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	b := batch(leg, 1, 1, "loss.val", 1)
	b.Body.Hyper = map[string]json.RawMessage{"layers": json.RawMessage("[384, 6]"), "on": json.RawMessage("true"),
		"name": json.RawMessage(`"tanh"`), "a.b": json.RawMessage("1e-7")}
	call(t, s, api.SendBatch, b)
	run := call(t, s, api.GetRun, &leg.RunInput)
	require.JSONEq(t, `18446744073709551615`, string(run.Hyper["seed"]))
	require.Equal(t, "18446744073709551615", string(run.Hyper["seed"]))
	require.JSONEq(t, `[384,6]`, string(run.Hyper["layers"]))
	require.JSONEq(t, `true`, string(run.Hyper["on"]))
	late := batch(leg, 2, 2, "loss.val", 1)
	late.Body.Hyper = map[string]json.RawMessage{"lr": json.RawMessage("9")}
	require.EqualValues(t, 2, call(t, s, api.SendBatch, late).Batch, "what comes too late costs its batch nothing")
	run = call(t, s, api.GetRun, &leg.RunInput)
	require.Equal(t, "0.03", string(run.Hyper["lr"]), "the run keeps what it began with")
	require.Contains(t, run.Notes[0].Text, "lr 9 instead of 0.03")
}

func TestBatches(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	first := batch(leg, 1, 10, "loss.val", 0.5, math.NaN(), math.Inf(1), math.Inf(-1), math.Copysign(0, -1), 5e-324)
	require.Equal(t, &api.Counted{Leg: 1, Batch: 1, Upto: 10, Readings: 6}, call(t, s, api.SendBatch, first))
	require.Equal(t, &api.Counted{Leg: 1, Batch: 1, Upto: 10}, call(t, s, api.SendBatch, first), "repeated")
	p := refuse(t, s, api.SendBatch, batch(leg, 3, 20, "loss.val", 1), api.BatchGap, "last one counted is 1")
	require.EqualValues(t, 1, p.Batch)
	require.EqualValues(t, 10, p.Upto)
	refuse(t, s, api.SendBatch, batch(leg, 2, 14, "loss.val", 1), api.Invalid, "step 15 to step 14")
	refuse(t, s, api.SendBatch, batch(leg, 2, 20, "loss\u0007", 1), api.Invalid, "control")
	twice := batch(leg, 2, 20, "loss.val", 1)
	twice.Body.Curves = append(twice.Body.Curves, twice.Body.Curves[0])
	refuse(t, s, api.SendBatch, twice, api.Invalid, "twice")
	short := batch(leg, 2, 20, "loss.val", 1, 2)
	short.Body.Curves[0].Values = short.Body.Curves[0].Values[:1]
	refuse(t, s, api.SendBatch, short, api.Invalid, "1 values for 2 points")
	back := batch(leg, 2, 20, "loss.val", 1, 2)
	back.Body.Axis.Step[1] = 19
	refuse(t, s, api.SendBatch, back, api.Invalid, "goes back")
	response, content := s.raw(t, "POST", "/api/v1/projects/vessels/runs/1/legs/1/batches",
		`{"number":2,"upto":20,"axis":{"step":[20],"epoch":[1],"time":[1]},"curves":[{"name":"loss.val","values":["high"]}]}`,
		append(s.bearer(), "Content-Type", "application/json", "Kembrel-Recorder", leg.Recorder)...)
	require.Equal(t, http.StatusUnprocessableEntity, response.StatusCode, content)

	got := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput})
	require.Equal(t, 1, got.Legs)
	require.Len(t, got.Curves, 1, "none of what was refused is there")
	for i, v := range first.Body.Curves[0].Values {
		require.Equal(t, math.IsNaN(v), math.IsNaN(got.Curves[0].Value[i]))
		if !math.IsNaN(v) {
			require.Equal(t, math.Float64bits(v), math.Float64bits(got.Curves[0].Value[i]))
		}
	}
	_, text := s.raw(t, "GET", "/api/v1/projects/vessels/history?runs=1&format=csv-long", "", s.bearer()...)
	rows, err := csv.NewReader(strings.NewReader(text)).ReadAll()
	require.NoError(t, err)
	require.Equal(t, []string{"run", "curve", "step", "epoch", "time", "value"}, rows[0])
	var column []string
	for _, r := range rows[1:] {
		column = append(column, r[5])
	}
	require.Equal(t, []string{"0.5", "NaN", "Infinity", "-Infinity", "-0", "5e-324"}, column)

	require.Eventually(t, func() bool {
		run := call(t, s, api.GetRun, &leg.RunInput)
		return run.Best != nil && run.Best.Step == 14 && len(run.Curves) == 1 && run.Curves[0].NaN == 1
	}, 60*time.Second, 50*time.Millisecond, "the best is the lowest finite value")
	runs := call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10}})
	require.Len(t, runs.Items[0].Sketch, 6)
}

func TestSmoothing(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 4, 2))
	got := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, Smooth: 1})
	require.InDelta(t, (4*0.5+2)/1.5, got.Curves[0].Smooth[1], 1e-12)
}

func TestTwoRecordersClaimOneLeg(t *testing.T) {
	s := serve(t)
	s.project(t)
	begin := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	begin.Body.Started = time.Now()
	in := &api.NewLeg{RunInput: api.RunInput{ProjectInput: vessels, Number: call(t, s, api.BeginRun, begin).Number},
		Key: uuid.NewString()}
	in.Body.Recorder = uuid.NewString()
	leg := api.LegInput{RunInput: in.RunInput, Leg: call(t, s, api.OpenLeg, in).Leg, Recorder: in.Body.Recorder}
	require.Equal(t, leg.Leg, call(t, s, api.OpenLeg, in).Leg, "the same key is the same leg")
	other := *in
	other.Key = uuid.NewString()
	refuse(t, s, api.OpenLeg, &other, api.Conflict, "is being recorded: leg 1")
	rival := *in
	rival.Body.Recorder = uuid.NewString()
	refuse(t, s, api.OpenLeg, &rival, api.LegClaimed, "only one may")
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 1))

	rival.Body.Previous = []string{uuid.NewString(), leg.Recorder} // whoever holds the spool knows
	require.EqualValues(t, 1, call(t, s, api.OpenLeg, &rival).Batch)
	refuse(t, s, api.SendBatch, batch(leg, 2, 2, "loss.val", 1), api.LegClaimed, "this one must stop")
	refuse(t, s, api.ShowLife, &leg, api.LegClaimed, "another recorder")
	end := &api.EndInput{LegInput: leg}
	end.Body.State = "finished"
	refuse(t, s, api.EndLeg, end, api.LegClaimed, "another recorder")
	leg.Recorder = rival.Body.Recorder
	call(t, s, api.SendBatch, batch(leg, 2, 2, "loss.val", 1))
}

func TestLostAndHeardOfAgain(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	state := func() string { return call(t, s, api.GetRun, &leg.RunInput).State }
	require.Equal(t, "running", state())
	require.Eventually(t, func() bool { return state() == "lost" }, 60*time.Second, 100*time.Millisecond)
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 1))
	require.Equal(t, "running", state())
	code := 3
	end := &api.EndInput{LegInput: leg}
	end.Body.State, end.Body.ExitCode, end.Body.Tail, end.Body.Why = "failed", &code, "out of clips", ""
	call(t, s, api.EndLeg, end)
	call(t, s, api.EndLeg, end)
	run := call(t, s, api.GetRun, &leg.RunInput)
	require.Equal(t, "failed", run.State)
	require.Equal(t, 3, *run.Legs[0].ExitCode)
	require.Contains(t, run.Answers.Happened, "exit code 3")
}

func TestPagesCoverEveryRunOnce(t *testing.T) {
	s := serve(t)
	s.project(t)
	for range 7 {
		s.leg(t)
	}
	var numbers []int
	in := &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 3}}
	all, err := client.All(ctx, s.Client, api.ListRuns, in, func(in *api.RunsInput, c string) { in.Cursor = c })
	require.NoError(t, err)
	for _, r := range all {
		numbers = append(numbers, r.Number)
	}
	require.Equal(t, []int{7, 6, 5, 4, 3, 2, 1}, numbers)
	response, _ := s.raw(t, "GET", "/api/v1/projects/vessels/runs?limit=3", "", s.bearer()...)
	require.Equal(t, `<?cursor=eyJ2Ijo1LCJuIjo1fQ>; rel="next"`, response.Header.Get("Link"))
	in.Cursor = "x"
	refuse(t, s, api.ListRuns, in, api.Malformed, "cursor")
}

// stream reads the live stream until want kinds have come.
func (s *served) stream(t *testing.T, last string, want ...string) (ids []string) {
	t.Helper()
	limited, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	body, err := client.Stream(limited, s.Client, api.GetEvents, &api.EventsInput{Project: "vessels", Last: last})
	require.NoError(t, err)
	defer body.Close()
	scanner := bufio.NewScanner(body)
	for scanner.Scan() && len(want) > 0 {
		line := scanner.Text()
		if id, ok := strings.CutPrefix(line, "id: "); ok {
			ids = append(ids, id)
		}
		if kind, ok := strings.CutPrefix(line, "event: "); ok && kind == want[0] {
			want = want[1:]
		}
	}
	require.Empty(t, want, "these did not come")
	return ids
}

func TestLiveStreamAndReplay(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	go func() {
		time.Sleep(300 * time.Millisecond)
		client.Call(ctx, s.Client, api.SendBatch, batch(leg, 1, 1, "loss.val", 1))
	}()
	ids := s.stream(t, "", "hello", "readings", "summary")
	edit := &api.RunEdit{RunInput: leg.RunInput}
	title := "Renamed while nobody listened"
	edit.Body.Title = &title
	call(t, s, api.ChangeRun, edit)
	s.stream(t, ids[len(ids)-1], "hello", "run")
	response, _ := s.raw(t, "GET", "/api/v1/events", "", append(s.bearer(), "Last-Event-ID", "nonsense")...)
	require.Equal(t, 422, response.StatusCode)
}

func TestOutputArrivesOnce(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	in := &api.OutputInput{LegInput: leg}
	in.Body.Stream, in.Body.Offset, in.Body.Size, in.Body.Text = "stdout", 0, 9, "epoch 1\x00\n"
	call(t, s, api.SendOutput, in)
	call(t, s, api.SendOutput, in)
	got := call(t, s, api.GetOutput, &api.OutputsInput{RunInput: leg.RunInput})
	require.Len(t, got.Items, 1)
	require.Equal(t, "epoch 1\uFFFD\n", got.Items[0].Text)
}

// Curves named once, batches by number: as JSON and as CBOR, also together with hyperparameters and notes, which take
// another path.
func TestBatchesByNumber(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	in := &api.CurveNames{LegInput: leg}
	in.Body.Names = []string{"loss.train", "loss.val"}
	numbers := call(t, s, api.NameCurves, in).Curves
	require.Equal(t, []int{1, 2}, numbers)
	require.Equal(t, numbers, call(t, s, api.NameCurves, in).Curves, "they stay")
	send := func(number int, change func(*api.Batch)) error {
		b := batch(leg, int64(number), int64(number), "", float64(number))
		b.Body.Curves = []api.Column{{Curve: 1, Values: api.Floats{float64(number)}},
			{Curve: 2, Values: api.Floats{-1}}}
		change(&b.Body)
		_, err := client.Call(t.Context(), s.Client, api.SendBatch, b)
		return err
	}
	require.NoError(t, send(1, func(b *api.Batch) {
		b.Hyper = map[string]json.RawMessage{"width": json.RawMessage("3")}
	}))
	require.NoError(t, send(2, func(b *api.Batch) {}))
	require.NoError(t, send(3, func(b *api.Batch) { b.Notes = []api.NewNote{{At: time.Now(), Text: "fog"}} }))
	require.NoError(t, send(4, func(b *api.Batch) {
		b.Curves[1] = api.Column{Name: "host.cpu",
			Values: api.Floats{0.5}}
	}))
	response, content := s.raw(t, "POST", "/api/v1/projects/vessels/runs/1/legs/1/batches",
		`{"number":5,"upto":5,"axis":{"step":[20],"epoch":[1],"time":[1]},"curves":[{"curve":1,"values":[5]}]}`,
		append(s.bearer(), "Content-Type", "application/json", "Kembrel-Recorder", leg.Recorder)...)
	require.Equal(t, http.StatusOK, response.StatusCode, content)
	require.ErrorContains(t, send(6, func(b *api.Batch) { b.Curves[0].Curve = 9 }), "no curve has the number 9")
	require.ErrorContains(t, send(6, func(b *api.Batch) { b.Curves[0].Curve = 2 }), "there twice")
	require.ErrorContains(t, send(6, func(b *api.Batch) { b.Curves[0].Name = "loss.train" }), "a name and a number")
	require.ErrorContains(t, send(6,
		func(b *api.Batch) { b.Curves[0] = api.Column{Name: "loss.val", Values: api.Floats{1}} }), "there twice")
	got := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput})
	require.Len(t, got.Curves, 3)
	require.Equal(t, "host.cpu", got.Curves[0].Name)
	require.Equal(t, api.Floats{1, 2, 3, 4, 5}, got.Curves[1].Value)
	require.Len(t, got.Curves[2].Value, 3)
}

// A run may have 5,000 curves, each with a reading in one batch, and no more.
func TestFiveThousandCurves(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	in := &api.CurveNames{LegInput: leg}
	for i := range 5000 {
		in.Body.Names = append(in.Body.Names, fmt.Sprintf("overlap.%d.val", i))
	}
	numbers := call(t, s, api.NameCurves, in).Curves
	for n := range int64(3) {
		b := batch(leg, n+1, n+1, "", float64(n))
		b.Body.Curves = nil
		for _, id := range numbers {
			b.Body.Curves = append(b.Body.Curves, api.Column{Curve: id, Values: api.Floats{float64(id) + float64(n)/4}})
		}
		call(t, s, api.SendBatch, b)
	}
	got := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput})
	require.Len(t, got.Curves, 5000)
	require.Len(t, got.Axes, 1, "they share their axis")
	require.Len(t, got.Curves[17].Value, 3)
	in.Body.Names = []string{"one.more"}
	refuse(t, s, api.NameCurves, in, api.Invalid, "more than 5000 curves")
	refuse(t, s, api.SendBatch, batch(leg, 4, 4, "one.more", 1), api.Invalid, "more than 5000 curves")
}

// Runs are filtered and sorted; what is wrong is said with its column; tags and notes are changed; the filter is
// completed.
func TestFilteredRuns(t *testing.T) {
	s := serve(t)
	s.project(t)
	for i, loss := range []float64{0.5, 0.2, 0.9} {
		leg := s.leg(t)
		call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", loss, loss+0.1))
		end := &api.EndInput{LegInput: leg}
		end.Body.State = "finished"
		call(t, s, api.EndLeg, end)
		edit := &api.RunEdit{RunInput: leg.RunInput}
		note := []string{"calm sea", "", "rough sea"}[i]
		edit.Body.Note, edit.Body.Tags = &note, &[]string{"t" + fmt.Sprint(i), "t" + fmt.Sprint(i), " all "}
		changed := call(t, s, api.ChangeRun, edit)
		require.Equal(t, []string{"t" + fmt.Sprint(i), "all"}, changed.Tags)
		require.Equal(t, note, changed.Note)
	}
	find := func(where, sort, order string) (out []int) {
		for _, r := range call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels,
			PageInput: api.PageInput{Limit: 10}, RunChoice: api.RunChoice{Where: where, Sort: sort,
				Order: order}}).Items {
			out = append(out, r.Number)
		}
		return out
	}
	require.Equal(t, []int{3, 2, 1}, find("", "", ""))
	require.Equal(t, []int{1, 2, 3}, find("", "", "ascending"))
	require.Equal(t, []int{2, 1, 3}, find("", "best", ""))
	require.Equal(t, []int{2, 1}, find(`best("loss.val") < 0.6 && hyper.lr == 0.03`, "best", ""))
	require.Equal(t, []int{3, 1}, find(`text("SEA")`, "", ""))
	require.Equal(t, []int{2}, find(`"t1" in tags`, "", ""))
	require.Empty(t, find(`hyper.lr > 1`, "", ""))
	require.Equal(t, []int{2, 1}, find(`best < 0.6 && last < 0.7`, "", ""), "of the objective")
	for sort, want := range map[string][]int{`best("loss.val")`: {2, 1, 3}, `at("loss.val")`: {2, 1, 3},
		"hyper.seed": {3, 2, 1}, "number": {1, 2, 3}} {
		require.Equal(t, want, find("", sort, ""), "the better first, by %s", sort)
	}
	for where, says := range map[string]string{
		`hyper.lr > 1`: "", `best("loss.val") < 0`: "", `state == "lost"`: "",
		`best("los.val") < 1`:                 `None of the latest runs of vessels has a curve "los.val" (there is "loss.val").`,
		`hyper.depth > 1 && best("zeal") > 0`: `None of the latest runs of vessels has a hyperparameter "depth", or a curve "zeal".`} {
		page := call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10},
			RunChoice: api.RunChoice{Where: where}})
		require.Empty(t, page.Items)
		require.Equal(t, says, page.Says, where)
	}
	objective := api.Objective{Curve: "loss.val", Direction: "higher"}
	edit := &api.ProjectEdit{ProjectInput: vessels}
	edit.Body.Objective = &objective
	call(t, s, api.ChangeProject, edit)
	require.Equal(t, []int{3, 1, 2}, find("", "best", ""), "another objective, another best")
	p := refuse(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10},
		RunChoice: api.RunChoice{Where: "hyper.lr < 1 && stat"}}, api.Invalid, `where, column 17: there is no "stat"`)
	require.Equal(t, 17, p.Column)
	refuse(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 10},
		RunChoice: api.RunChoice{Sort: "tags"}}, api.Invalid, "sort, column 1")
	found := call(t, s, api.CompleteFilter, &api.CompletionInput{ProjectInput: vessels,
		Text: `"t2" in tags && best("lo`})
	require.Equal(t, `"t2" in tags && best("loss.val")`, found.Items[0].Text)
	bad := &api.RunEdit{RunInput: api.RunInput{ProjectInput: vessels, Number: 1}}
	bad.Body.Tags = &[]string{"\n"}
	refuse(t, s, api.ChangeRun, bad, api.Invalid, "tag")
}

// An archived project is out of lists and goes on otherwise; a deleted one had nothing left in it, and one that takes
// its key goes on with its numbers.
func TestProjectsComeAndGo(t *testing.T) {
	s := serve(t)
	s.project(t)
	keys := func(shown string) (out []string) {
		for _, p := range call(t, s, api.ListProjects, &api.ProjectsInput{PageInput: api.PageInput{Limit: 9},
			Shown: shown}).Items {
			out = append(out, p.Key)
		}
		return out
	}
	archive := func(yes bool) *api.Project {
		edit := &api.ProjectEdit{ProjectInput: vessels}
		edit.Body.Archived = &yes
		return call(t, s, api.ChangeProject, edit)
	}
	since := archive(true).Archived
	require.NotNil(t, since)
	require.Equal(t, since, archive(true).Archived, "since it was first")
	require.Empty(t, keys(""))
	require.Equal(t, []string{"vessels"}, keys("archived"))
	require.Equal(t, []string{"vessels"}, keys("all"))
	leg := s.leg(t)
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 1))
	require.Nil(t, archive(false).Archived)
	require.Equal(t, []string{"vessels"}, keys(""))

	refuse(t, s, api.DeleteProject, &vessels, api.Conflict, "has runs")
	member := s.as(t, "Maud", map[string]string{"vessels": "member"})
	refuse(t, member, api.DeleteProject, &vessels, api.Denied, "role owner")
	end := &api.EndInput{LegInput: leg}
	end.Body.State = "finished"
	call(t, s, api.EndLeg, end)
	call(t, s, api.DeleteRun, &api.LeaveInput{RunInput: leg.RunInput, Days: 1e-9})
	require.Eventually(t, func() bool {
		_, err := client.Call(ctx, s.Client, api.DeleteProject, &vessels)
		return err == nil
	}, 60*time.Second, 100*time.Millisecond)
	refuse(t, s, api.GetProject, &vessels, api.NotFound, "vessels")
	s.project(t)
	require.Equal(t, 2, s.leg(t).Number, "an address never means two things")
	require.NotEmpty(t, call(t, s, api.GetAudit, &api.ServiceAuditInput{AuditInput: api.AuditInput{
		PageInput: api.PageInput{Limit: 50}, Kind: "project", Verb: "deleted"}}).Items)
}
