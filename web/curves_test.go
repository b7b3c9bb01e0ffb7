package web_test

import (
	"encoding/json"
	"io"
	"math"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/curve"
)

// long sends n readings of loss.train, one a step, twenty steps an epoch, and loss.val at the end of each epoch.
func long(t *testing.T, s *served, leg api.LegInput, n int, value func(i int) float64) {
	b := batch(leg, 1, 1, "loss.train", make([]float64, n)...)
	val := api.Column{Name: "loss.val"}
	for i := range n {
		b.Body.Axis.Epoch[i] = float64(i+1) / 20
		b.Body.Curves[0].Values[i] = value(i)
		if (i+1)%20 == 0 {
			val.Rows, val.Values = append(val.Rows, int64(i)), append(val.Values, 0.5)
		}
	}
	b.Body.Curves = append(b.Body.Curves, val)
	call(t, s, api.SendBatch, b)
}

// A view hides nothing: a single spike, a NaN and an infinity among thousands of readings are there, and every reading
// counts once.
func TestViewHidesNothing(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	long(t, s, leg, 6000, func(i int) float64 {
		switch i {
		case 1234:
			return 99
		case 2345:
			return math.NaN()
		case 3456:
			return math.Inf(1)
		}
		return 1 + float64(i%10)/1000
	})
	require.Eventually(t, func() bool { return call(t, s, api.GetRun, &leg.RunInput).Last != nil }, 60*time.Second,
		20*time.Millisecond)
	for _, by := range []string{"step", "epoch", "time"} {
		got := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, Names: []string{"loss.train"},
			By: by, Pixels: 100})
		c := got.Curves[0]
		require.LessOrEqual(t, len(c.Value), 101, by)
		require.Greater(t, len(c.Value), 70, by)
		most, count, nan, infinite := 0.0, int64(0), int64(0), int64(0)
		for i := range c.Value {
			most, count, nan, infinite = max(most, c.Max[i]), count+c.Count[i], nan+c.NaN[i], infinite+c.Infinite[i]
		}
		require.Equal(t, []any{99.0, int64(6000), int64(1), int64(1)}, []any{most, count, nan, infinite}, by)
	}
	val := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, Names: []string{"loss.val"}, By: "epoch",
		Pixels: 700}).Curves[0]
	require.Len(t, val.Value, 300)
	require.Nil(t, val.Count, "where each pixel has one reading the lists are left out")
}

// A window read from the last pixel on, with the width of an earlier answer, goes on where that answer ended.
func TestTailOfAViewFits(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	long(t, s, leg, 3000, func(i int) float64 { return math.Sin(float64(i) / 50) })
	in := &api.CurvesInput{RunInput: leg.RunInput, Names: []string{"loss.train"}, Pixels: 64, To: 2000}
	first := call(t, s, api.GetCurves, in)
	axis := first.Axes[0].Step
	from := math.Floor(float64(axis[len(axis)-1])/first.Width) * first.Width
	tail := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, Names: in.Names, From: from,
		Width: first.Width})
	whole := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, Names: in.Names, Width: first.Width})
	require.Equal(t, whole.Curves[0].Max, append(first.Curves[0].Max[:len(axis)-1:len(axis)-1], tail.Curves[0].Max...))
	require.Equal(t, whole.Curves[0].Count, append(first.Curves[0].Count[:len(axis)-1:len(axis)-1],
		tail.Curves[0].Count...))
}

// Smoothing is of all readings, whatever the view folds, and a window deep in the curve smooths as the whole does.
func TestSmoothingIsOfAllReadings(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	value := func(i int) float64 { return float64((i*7919)%1000) / 1000 }
	long(t, s, leg, 4000, value)
	for _, smoothing := range []curve.Smoothing{{HalfLife: 25}, {Median: 40}} {
		smoother, want := smoothing.Smoother(), map[int64]float64{}
		for i := range 4000 {
			want[int64(i+1)] = smoother.Next(float64(i+1), value(i))
		}
		for _, in := range []api.CurvesInput{{Pixels: 50}, {From: 3000, To: 3500, Pixels: 50}, {From: 3990}} {
			in.RunInput, in.Names, in.Smooth, in.Median = leg.RunInput, []string{"loss.train"},
				smoothing.HalfLife, smoothing.Median
			got := call(t, s, api.GetCurves, &in)
			c, steps := got.Curves[0], got.Axes[0].Step
			require.Len(t, c.Smooth, len(c.Value))
			for i, v := range c.Smooth {
				require.InDelta(t, want[steps[i]], v, 1e-6, "%+v at step %d", smoothing, steps[i])
			}
		}
	}
}

// The mean of a pixel stays finite where float32 would not hold it.
func TestMeanOfHugeReadings(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	long(t, s, leg, 400, func(i int) float64 { return 1e300 })
	c := call(t, s, api.GetCurves, &api.CurvesInput{RunInput: leg.RunInput, Names: []string{"loss.train"},
		Pixels: 10}).Curves[0]
	for _, v := range c.Mean {
		require.InEpsilon(t, 1e300, v, 1e-12)
	}
}

func TestCBORSaysWhatJSONSays(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	long(t, s, leg, 500, func(i int) float64 { return []float64{0.1, math.NaN(), 2}[i%3] })
	path := "/api/v1/projects/vessels/runs/1/curves?by=epoch&pixels=40"
	var texts []string
	for _, accept := range []string{"application/json", api.CBOR} {
		request, err := http.NewRequest("GET", s.URL+path, nil)
		require.NoError(t, err)
		request.Header.Set("Accept", accept)
		request.Header.Set("Authorization", "Bearer "+s.Token)
		response, err := http.DefaultClient.Do(request)
		require.NoError(t, err)
		content, err := io.ReadAll(response.Body)
		response.Body.Close()
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, response.StatusCode, string(content))
		require.Contains(t, response.Header.Get("Content-Type"), accept)
		var got api.Curves
		if accept == api.CBOR {
			require.NoError(t, api.UnmarshalCBOR(content, &got))
		} else {
			require.NoError(t, json.Unmarshal(content, &got))
		}
		text, err := json.Marshal(got)
		require.NoError(t, err)
		texts = append(texts, string(text))
	}
	require.Equal(t, texts[0], texts[1])
}

func TestHistories(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	long(t, s, leg, 60, func(i int) float64 { return float64(i) })
	for format, starts := range map[string]string{"csv": "epoch,step,time,loss.train,loss.val\n",
		"csv-long": "run,curve,step,epoch,time,value\nvessels/1,loss.train,1,0.05,",
		"jsonl":    `{"run":"vessels/1","curve":"loss.train","step":1,"epoch":0.05,`, "parquet": "PAR1",
		"json": "[\n" + `{"run":"vessels/1","curve":"loss.train","step":1,"epoch":0.05,`} {
		response, text := s.raw(t, "GET", "/api/v1/projects/vessels/history?runs=1&format="+format, "", s.bearer()...)
		require.Equal(t, http.StatusOK, response.StatusCode)
		require.True(t, strings.HasPrefix(text, starts), "%s: %.200q", format, text)
		require.Contains(t, response.Header.Get("Content-Disposition"), "vessels-1-curves.")
	}
	refuseRaw := func(query string, status int) {
		response, text := s.raw(t, "GET", "/api/v1/projects/vessels/history?"+query, "", s.bearer()...)
		require.Equal(t, status, response.StatusCode, text)
	}
	refuseRaw("runs=9", http.StatusNotFound)
	refuseRaw("format=xml", http.StatusUnprocessableEntity)
	refuseRaw("names=loss.val,loss.trian", http.StatusUnprocessableEntity)
	refuseRaw("what=runs&names=loss.trian", http.StatusUnprocessableEntity)
	s.summarised(t)
	for query, count := range map[string]int{"": 63, "&names=loss.val": 3, "&what=runs": 1, "&what=runs&columns=best": 1} {
		response, text := s.raw(t, "GET", "/api/v1/projects/vessels/history?format=json"+query, "", s.bearer()...)
		require.Equal(t, http.StatusOK, response.StatusCode, text)
		var rows []map[string]any
		require.NoError(t, json.Unmarshal([]byte(text), &rows), text)
		require.Len(t, rows, count)
		if query == "&what=runs" {
			require.EqualValues(t, 0.5, rows[0]["best"])
			require.EqualValues(t, 0.5, rows[0]["last"])
			require.NotContains(t, rows[0], "note")
		}
	}

	in := &api.NewHistory{ProjectInput: vessels, Key: uuid.NewString()}
	b := batch(leg, 1, 1, "loss.val", 3, 2, 1)
	in.Body.Axis, in.Body.Curves, in.Body.Source = b.Body.Axis, b.Body.Curves, "theirs.csv"
	refuse(t, s, api.AddHistory, in, api.Invalid, "when it started")
	in.Body.Started, in.Body.Ended = time.UnixMilli(b.Body.Axis.Time[0]), time.UnixMilli(b.Body.Axis.Time[2])
	in.Body.Curves = append(in.Body.Curves, api.Column{Name: "bad/name", Values: api.Floats{1, 2, 3}})
	refuse(t, s, api.AddHistory, in, api.Invalid, "bad/name")
	in.Body.Curves[1].Name = "loss.val"
	refuse(t, s, api.AddHistory, in, api.Invalid, "there twice")
	in.Body.Curves = in.Body.Curves[:1]
	run := call(t, s, api.AddHistory, in)
	require.Equal(t, "finished", run.State)
	require.EqualValues(t, 2, run.Number, "what was refused made no run")
	require.EqualValues(t, 1, run.Best.Value)
	require.Equal(t, run.Number, call(t, s, api.AddHistory, in).Number, "the same once")
	detail := call(t, s, api.GetRun, &api.RunInput{ProjectInput: vessels, Number: 2})
	require.Contains(t, detail.Notes[0].Text, "theirs.csv")
}

func TestVerdictSetAside(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	in := &api.DisputeInput{RunInput: leg.RunInput}
	in.Body.Reason = "the sea was rough"
	refuse(t, s, api.DisputeVerdict, in, api.Invalid, "no verdict yet")
	values := make([]float64, 30)
	for i := range values {
		values[i] = 1 / float64(i+1)
	}
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", values...))
	require.Eventually(t, func() bool {
		r := call(t, s, api.GetRun, &leg.RunInput)
		return r.Verdict.Kind == "improving" && strings.HasPrefix(r.Answers.Learning, "Still improving: loss.val fell ")
	}, 60*time.Second, 50*time.Millisecond)
	v := call(t, s, api.DisputeVerdict, in)
	require.Equal(t, []string{"improving", "the sea was rough", "Ines"},
		[]string{v.Dispute.Kind, v.Dispute.Reason, v.Dispute.Who})
	// It stays through later readings, and is in the list.
	call(t, s, api.SendBatch, batch(leg, 2, 31, "loss.val", 0.03))
	list := call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 5}})
	require.Equal(t, "the sea was rough", list.Items[0].Verdict.Dispute.Reason)
	require.Nil(t, call(t, s, api.UndisputeVerdict, &leg.RunInput).Dispute)
	in.Body.Reason = ""
	_, text := s.raw(t, "PUT", "/api/v1/projects/vessels/runs/1/verdict/dispute", `{"reason":""}`,
		append(s.bearer(), "Content-Type", "application/json")...)
	require.Contains(t, text, "invalid")
}

// A rule of the project holds for its runs, a run's own goes before it, and none is a rule of its own. What it said
// stays said.
func TestStopRules(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	rule := api.StopRule{Patience: 2, Margin: 0.01}
	refuse(t, s, api.SetStopRule, &api.RuleInput{ProjectInput: vessels}, api.Invalid, "patience")
	refuse(t, s, api.SetStopRule, &api.RuleInput{ProjectInput: vessels,
		Body: api.StopRule{Objective: api.Objective{Curve: "loss.val", Direction: "down"}, Patience: 1}},
		api.Invalid, "direction")
	require.Equal(t, "project", call(t, s, api.SetStopRule, &api.RuleInput{ProjectInput: vessels, Body: rule}).From)
	state := func() api.StopState { return call(t, s, api.GetRun, &leg.RunInput).Stop }
	require.Equal(t, "no improvement by 0.01 in 2 epochs", state().Said)
	call(t, s, api.SendBatch, batch(leg, 1, 1, "loss.val", 1, 0.5, 0.6))
	require.EqualValues(t, 1, state().Left)
	require.Empty(t, call(t, s, api.ShowLife, &leg).Stop)

	own := &api.RunRuleInput{RunInput: leg.RunInput}
	refuse(t, s, api.SetRunRule, own, api.Invalid, "or say none")
	own.Body.None = true
	require.Equal(t, "run", call(t, s, api.SetRunRule, own).From)
	call(t, s, api.SendBatch, batch(leg, 2, 4, "loss.val", 0.7, 0.8))
	require.Empty(t, call(t, s, api.ShowLife, &leg).Stop, "no rule stops it")
	require.Nil(t, call(t, s, api.ShowLife, &leg).Rule)

	back := call(t, s, api.DropRunRule, &leg.RunInput)
	require.NotNil(t, back.Stopped, "the project's rule holds again, and says stop on what is there")
	require.EqualValues(t, 4, back.Stopped.At.Epoch)
	require.EqualValues(t, 0.5, back.Stopped.Best.Value)
	require.Contains(t, call(t, s, api.ShowLife, &leg).Stop, "in epoch 4")

	own.Body.None, own.Body.Rule = false, &api.StopRule{Patience: 10}
	require.Nil(t, call(t, s, api.SetRunRule, own).Stopped, "another rule begins anew")
	own.Body.Rule = &api.StopRule{Objective: api.Objective{Curve: "accuracy.val", Direction: "higher"}, Patience: 1}
	call(t, s, api.SetRunRule, own)
	call(t, s, api.SendBatch, batch(leg, 3, 6, "accuracy.val", 0.5, 0.5))
	require.Contains(t, call(t, s, api.ShowLife, &leg).Stop, "accuracy.val")

	try := &api.TryInput{ProjectInput: vessels}
	try.Body.Rule, try.Body.Runs = rule, []int{1}
	got := call(t, s, api.TryStopRule, try)
	require.EqualValues(t, 4, got.Runs[0].Stop.Epoch)
	require.EqualValues(t, 1, got.Runs[0].SavedEpochs)
	try.Body.Runs = []int{7}
	refuse(t, s, api.TryStopRule, try, api.NotFound, "vessels/7")
	require.Equal(t, "none", call(t, s, api.DropStopRule, &api.ProjectInput{Project: "vessels"}).From)
}

// A rule that the run brings holds from its start.
func TestStopRuleFromTheStart(t *testing.T) {
	s := serve(t)
	s.project(t)
	in := &api.NewRun{ProjectInput: vessels, Key: uuid.NewString()}
	in.Body.Stop = &api.StopRule{Patience: -1}
	refuse(t, s, api.BeginRun, in, api.Invalid, "patience is -1")
	in.Body.Stop = &api.StopRule{Patience: 3}
	run := call(t, s, api.BeginRun, in)
	stop := call(t, s, api.GetRun, &api.RunInput{ProjectInput: vessels, Number: run.Number}).Stop
	require.Equal(t, []any{"run", 3.0}, []any{stop.From, stop.Rule.Patience})
}

// Whatever the machine reports, hyperparameters may still be told until training begins.
func TestMachineReadingsAreNoTraining(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	call(t, s, api.SendBatch, batch(leg, 1, 0, "host.cpu", 0.5))
	late := batch(leg, 2, 0, "loss.val", 1)
	late.Body.Hyper = map[string]json.RawMessage{"lr": json.RawMessage("0.1")}
	call(t, s, api.SendBatch, late)
	require.Equal(t, "0.1", string(call(t, s, api.GetRun, &leg.RunInput).Hyper["lr"]))
	require.Eventually(t, func() bool {
		return strings.Contains(call(t, s, api.GetRun, &leg.RunInput).Answers.Happened, "At most 50 % of the CPU.")
	}, 60*time.Second, 50*time.Millisecond, "peaks are said")
}

// A rule that was replaced while a run was judged by it says nothing any more.
func TestStopRuleReplacedMeanwhile(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	own := &api.RunRuleInput{RunInput: leg.RunInput}
	own.Body.Rule = &api.StopRule{Patience: 7}
	call(t, s, api.SetRunRule, own)
	run := int64(0)
	require.NoError(t, s.db.Pool.QueryRow(ctx, "select id from run where number = $1", leg.Number).Scan(&run))
	row, err := s.db.Judgements(ctx, []int64{run})
	require.NoError(t, err)
	own.Body.Rule.Patience = 8
	call(t, s, api.SetRunRule, own)
	first, err := s.db.SetStopped(ctx, row[0].ID, row[0].Rule, api.Stopped{Why: "the rule before"})
	require.NoError(t, err)
	require.False(t, first)
	row, err = s.db.Judgements(ctx, []int64{row[0].ID})
	require.NoError(t, err)
	first, err = s.db.SetStopped(ctx, row[0].ID, row[0].Rule, api.Stopped{Why: "the rule in force"})
	require.NoError(t, err)
	require.True(t, first)
}
