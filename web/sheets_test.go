package web_test

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/assess"
	"kembrel/core/sheet"
	"kembrel/core/tensor"
)

var ships = []string{"tug", "ferry", "trawler"}

// answers are the files of a sheet of n examples; the model takes a tug for what becomes gives.
func answers(t testing.TB, n int, strength float64, becomes func(i, class int) int) map[string][]byte {
	t.Helper()
	rng := rand.New(rand.NewPCG(4, uint64(n)))
	var lines bytes.Buffer
	data := []byte{}
	for i := range n {
		class := i % len(ships)
		z, sum := make([]float64, len(ships)), 0.0
		for c := range z {
			z[c] = rng.NormFloat64()
			if c == becomes(i, class) {
				z[c] += strength
			}
			sum += math.Exp(z[c])
		}
		for _, v := range z {
			data = binary.LittleEndian.AppendUint32(data, math.Float32bits(float32(math.Exp(v)/sum)))
		}
		fmt.Fprintf(&lines,
			`{"key": "voyage%02d/clip-%04d", "true": %q, "group": "voyage%02d", "own": {"depth": %d}}`+"\n",
			i/10, i, ships[class], i/10, i%40)
	}
	var npy bytes.Buffer
	require.NoError(t, tensor.WriteNPY(&npy, tensor.Tensor{Info: tensor.Info{Name: "scores", Dtype: "F32",
		Shape: []int64{int64(n), int64(len(ships))}}, Data: data}))
	return map[string][]byte{sheet.ExamplesFile: lines.Bytes(), sheet.ScoresFile: npy.Bytes()}
}

func honestly(_, class int) int { return class }

// newSheet sends the files of a sheet and says what it is.
func (s *served) newSheet(t testing.TB, run api.RunInput, split string, epoch int,
	files map[string][]byte) *api.NewSheet {
	t.Helper()
	in := &api.NewSheet{RunInput: run, Key: uuid.NewString()}
	in.Body.Says = sheet.Says{Task: sheet.Classes, Classes: ships}
	in.Body.Split, in.Body.Step, in.Body.Epoch = split, int64(epoch), api.Float(epoch)
	for name, content := range files {
		f, err := client.SendFile(ctx, s.Client, name, bytes.NewReader(content))
		require.NoError(t, err)
		f.Part = "sheet"
		in.Body.Files = append(in.Body.Files, f)
	}
	return in
}

func ofRun(number int) api.RunInput { return api.RunInput{ProjectInput: vessels, Number: number} }

// A sheet is taken once, computed, and asked for by condition, order, class and example.
func TestSheets(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	in := s.newSheet(t, leg.RunInput, "val", 1, answers(t, 300, 1, honestly))
	in.Body.Leg = leg.Leg
	first := call(t, s, api.AddSheet, in)
	require.Equal(t, 1, first.Number)
	require.Equal(t, "accuracy", first.Figures[0].Name)
	require.Equal(t, 1, call(t, s, api.AddSheet, in).Number, "the same key, the same sheet")
	second := call(t, s, api.AddSheet, s.newSheet(t, leg.RunInput, "val", 2, answers(t, 300, 2.5, honestly)))
	call(t, s, api.AddSheet, s.newSheet(t, leg.RunInput, "test", 2, answers(t, 30, 2.5, honestly)))
	require.Len(t, call(t, s, api.ListSheets, &api.SheetsInput{RunInput: leg.RunInput,
		PageInput: api.PageInput{Limit: 10}}).Items, 3)
	page := call(t, s, api.ListSheets, &api.SheetsInput{RunInput: leg.RunInput, Split: "val",
		PageInput: api.PageInput{Limit: 1}})
	require.Equal(t, 2, page.Items[0].Number)
	require.NotEmpty(t, page.Next)

	latest := call(t, s, api.GetSheet, &api.SheetInput{RunInput: leg.RunInput})
	require.Equal(t, second.Number, latest.Number, "the latest of val")
	require.Len(t, latest.Over, 2)
	require.Less(t, *latest.Over[0].Recall[0], *latest.Over[1].Recall[0])
	require.Equal(t, 30, latest.Assessed.Groups)
	require.Equal(t, []string{"depth"}, latest.Own)
	require.Contains(t, latest.Says, "taken for")
	require.Contains(t, latest.Quiet, "no class is never answered")

	at := api.SheetInput{RunInput: leg.RunInput, Sheet: 2}
	wrong := call(t, s, api.ListExamples, &api.ExamplesInput{SheetInput: at, Where: `right == false && depth < 20`,
		Order: "loss", Limit: 1000})
	require.NotZero(t, wrong.Count)
	for i, e := range wrong.Items {
		require.NotEqual(t, e.True, e.Predicted)
		require.True(t, i == 0 || *e.Loss <= *wrong.Items[i-1].Loss)
	}
	pair := latest.Pairs[0]
	cell := call(t, s, api.ListExamples, &api.ExamplesInput{SheetInput: at, Limit: 1,
		Where: fmt.Sprintf("true == %q && predicted == %q", pair.True, pair.Predicted)})
	require.EqualValues(t, pair.Count, cell.Count, "a cell of the matrix lists its examples")
	one := call(t, s, api.GetExample, &api.ExampleInput{SheetInput: at, Row: cell.Items[0].Row})
	require.Len(t, one.Scores, 3)
	require.Len(t, one.Over, 2)
	require.Equal(t, pair.Predicted, one.Over[1].Predicted)
	cutoffs := call(t, s, api.GetCutoffs, &api.CutoffsInput{SheetInput: at, Class: "ferry"})
	require.Equal(t, 1.0, *cutoffs.Table[len(cutoffs.Table)-1].Recall)
	require.Len(t, call(t, s, api.GetCutoffs, &api.CutoffsInput{SheetInput: at}).Sure, 100)

	_, table := s.raw(t, "GET", "/api/v1/projects/vessels/runs/1/sheets/2/file?format=csv&cutoff=0.9", "",
		s.bearer()...)
	require.Contains(t, table, "key,true,predicted,group,score.tug,score.ferry,score.trawler,depth\n")
	require.Equal(t, 301, strings.Count(table, "\n"))
	require.Contains(t, table, "tug,,voyage", "an answer below the cutoff is left out")

	for _, bad := range []*api.ExamplesInput{{SheetInput: at, Where: "label == 3"}, {SheetInput: at, Order: "error"}} {
		bad.Limit = 10
		refuse(t, s, api.ListExamples, bad, api.Invalid, "")
	}
	refuse(t, s, api.GetSheet, &api.SheetInput{RunInput: leg.RunInput, Sheet: 9}, api.NotFound, "has no sheet 9")
	refuse(t, s, api.GetSheet, &api.SheetInput{RunInput: leg.RunInput, Split: "dusk"}, api.NotFound, "on dusk")
	refuse(t, s, api.GetExample, &api.ExampleInput{SheetInput: at, Row: 300}, api.NotFound, "no example 300")
	refuse(t, s, api.GetCutoffs, &api.CutoffsInput{SheetInput: at, Class: "barge"}, api.NotFound, "barge")
}

// What does not fit is refused at once, by file and line, and nothing is half kept.
func TestSheetsRefused(t *testing.T) {
	s := serve(t)
	s.project(t)
	run := s.leg(t).RunInput
	good := answers(t, 30, 1, honestly)
	with := func(name, content string) map[string][]byte {
		out := map[string][]byte{}
		for n, c := range good {
			out[n] = c
		}
		out[name] = []byte(content)
		return out
	}
	for want, files := range map[string]map[string][]byte{
		"line 1: unexpected EOF":    with(sheet.ExamplesFile, `{"key": "a"`),
		"is there twice":            with(sheet.ExamplesFile, "{\"key\": \"a\"}\n{\"key\": \"a\"}\n"),
		"is none of the classes":    with(sheet.ExamplesFile, `{"key": "a", "true": "barge"}`),
		"its shape is [30 3]":       with(sheet.ExamplesFile, `{"key": "a", "true": "tug"}`),
		"scores.npy":                with(sheet.ScoresFile, "none"),
		"a sheet has no such file":  with("notes.txt", "x"),
		"examples.jsonl: it is not": {sheet.ScoresFile: good[sheet.ScoresFile]},
	} {
		refuse(t, s, api.AddSheet, s.newSheet(t, run, "val", 1, files), api.Invalid, want)
	}
	in := s.newSheet(t, run, "val", 1, good)
	in.Body.Files[0].Chunks[0].Digest = "b3:" + strings.Repeat("0", 64)
	in.Body.Files[0].Digest = in.Body.Files[0].Chunks[0].Digest
	refuse(t, s, api.AddSheet, in, api.Conflict, "has not been sent")
	in = s.newSheet(t, run, "val", 1, good)
	in.Body.Epoch = api.Float(math.NaN())
	refuse(t, s, api.AddSheet, in, api.Invalid, "epoch")
	require.Empty(t, call(t, s, api.ListSheets, &api.SheetsInput{RunInput: run,
		PageInput: api.PageInput{Limit: 9}}).Items)
	refuse(t, s, api.GetSheet, &api.SheetInput{RunInput: run}, api.NotFound, "has no predictions")
}

// An alarm is on the run as soon as its sheet is, also one that a curve raises which comes later; it goes with the next
// sheet that is as it should be.
func TestAlarms(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	run := func() *api.RunDetail { return call(t, s, api.GetRun, &leg.RunInput) }
	found := func(where string) int {
		return len(call(t, s, api.ListRuns, &api.RunsInput{ProjectInput: vessels, PageInput: api.PageInput{Limit: 9},
			RunChoice: api.RunChoice{Where: where}}).Items)
	}
	require.Zero(t, found("alarmed"))
	swapped := answers(t, 300, 3, func(_, class int) int { return []int{1, 0, 2}[class] })
	made := call(t, s, api.AddSheet, s.newSheet(t, leg.RunInput, "val", 1, swapped))
	require.Len(t, made.Alarms, 1)
	require.Equal(t, assess.Swapped, made.Alarms[0].Kind)
	listed := call(t, s, api.ListExamples, &api.ExamplesInput{SheetInput: api.SheetInput{RunInput: leg.RunInput},
		Where: made.Alarms[0].Where, Limit: 1})
	require.EqualValues(t, made.Alarms[0].Count, listed.Count, "an alarm leads to its examples")
	require.Equal(t, []string{"swapped-labels"}, run().Alarms)
	require.Len(t, run().Raised, 1)
	for where, n := range map[string]int{"alarmed": 1, `"swapped-labels" in alarms`: 1, `"one-answer" in alarms`: 0,
		"!alarmed": 0, "alarmed == false": 0} {
		require.Equal(t, n, found(where), where)
	}

	fine := call(t, s, api.AddSheet, s.newSheet(t, leg.RunInput, "val", 2, answers(t, 300, 3, honestly)))
	require.Empty(t, fine.Alarms)
	require.Empty(t, run().Alarms, "the latest is as it should be")
	require.NoError(t, s.service.CompareSome(ctx))
	in := batch(leg, 1, 2, "accuracy.val", fine.Figures[0].Value-0.2)
	call(t, s, api.SendBatch, in)
	require.Eventually(t, func() bool {
		require.NoError(t, s.service.CompareSome(ctx))
		return len(run().Alarms) > 0
	}, 10*time.Second, 50*time.Millisecond)
	require.Equal(t, []string{"figure-differs"}, run().Alarms)
	require.Contains(t, run().Raised[0], "one of the two is computed wrongly")
	told := 0
	for _, e := range call(t, s, api.GetProjectAudit, &api.ProjectAuditInput{ProjectInput: vessels,
		AuditInput: api.AuditInput{PageInput: api.PageInput{Limit: 100}}}).Items {
		if e.Kind == "alarm" {
			told++
		}
	}
	require.Equal(t, 2, told, "each alarm is an event once")
}

// Examples of validation that are in training, by the snapshot that the run named, are an alarm.
func TestAlarmOfLeakingData(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	items := honest(300)
	items[0].Split = "val" // of a voyage that is in training
	snapshot := s.snapshot(t, items...)
	in := batch(leg, 1, 1, "loss.val", 1)
	in.Body.Data = []api.DataUse{{Use: "val", Asked: snapshot.Address + ":val"}}
	call(t, s, api.SendBatch, in)
	made := call(t, s, api.AddSheet, s.newSheet(t, leg.RunInput, "val", 1, answers(t, 300, 2, honestly)))
	require.Equal(t, snapshot.Address+":val", made.Data)
	require.NoError(t, s.service.CompareSome(ctx))
	got := call(t, s, api.GetSheet, &api.SheetInput{RunInput: leg.RunInput})
	require.Len(t, got.Alarms, 1)
	require.Equal(t, assess.InTraining, got.Alarms[0].Kind)
}

// Where two models disagree is told with its chance, and by class.
func TestDisagreement(t *testing.T) {
	s := serve(t)
	s.project(t)
	one, other := s.leg(t).RunInput, ofRun(s.trained(t, `{"lr": 0.1}`, api.Recipe{}, loss(1)))
	call(t, s, api.AddSheet, s.newSheet(t, one, "val", 1, answers(t, 300, 4, honestly)))
	call(t, s, api.AddSheet, s.newSheet(t, other, "val", 1, answers(t, 300, 4, func(i, class int) int {
		if class == 0 && i%2 == 0 {
			return 2
		}
		return class
	})))
	in := &api.DisagreementInput{SheetInput: api.SheetInput{RunInput: one}, Run: fmt.Sprintf("vessels/%d",
		other.Number),
		Kind: "first", Limit: 100}
	d := call(t, s, api.GetDisagreement, in)
	require.EqualValues(t, 300, d.Shared)
	require.EqualValues(t, 300, d.Both+d.Disagreement.First+d.Disagreement.Second+d.Neither)
	require.Greater(t, d.Disagreement.First, 30+d.Disagreement.Second)
	require.Less(t, d.P, 1e-6)
	require.Contains(t, d.Says, "vessels/1 alone is right on")
	require.EqualValues(t, d.Disagreement.First, d.Count)
	for _, e := range d.Items {
		require.Equal(t, e.True, e.Predicted)
		require.NotEqual(t, e.True, e.Other)
	}
	require.Len(t, d.Classes, 3)
	in.Run = "vessels/9"
	refuse(t, s, api.GetDisagreement, in, api.NotFound, "")
	in.Run = "vessels"
	refuse(t, s, api.GetDisagreement, in, api.NotFound, "")
}

// What examples show is told by its content, and can run nothing.
func TestExampleMedia(t *testing.T) {
	s := serve(t)
	s.project(t)
	run := s.leg(t).RunInput
	picture, script := pngOf(t, 8, 4), "<html><script>alert(1)</script></html>"
	lines := fmt.Sprintf(`{"key":"a","true":"tug","predicted":"tug","media":{"picture":{"at":0,"size":%d}}}
{"key":"b","true":"tug","predicted":"tug","media":{"picture":{"at":%d,"size":%d}}}
`, len(picture), len(picture), len(script))
	call(t, s, api.AddSheet, s.newSheet(t, run, "val", 1, map[string][]byte{sheet.ExamplesFile: []byte(lines),
		sheet.MediaFile: []byte(picture + script)}))
	got := call(t, s, api.GetSheet, &api.SheetInput{RunInput: run})
	require.Equal(t, []string{"picture"}, got.Media)
	path := "/api/v1/projects/vessels/runs/1/sheets/1/examples/%d/media/picture"
	r, body := s.raw(t, "GET", fmt.Sprintf(path, 0), "", s.bearer()...)
	require.Equal(t, "image/png", r.Header.Get("Content-Type"))
	require.Equal(t, picture, body)
	r, body = s.raw(t, "GET", fmt.Sprintf(path, 1), "", s.bearer()...)
	require.Equal(t, script, body)
	require.Equal(t, "text/plain; charset=utf-8", r.Header.Get("Content-Type"))
	require.Contains(t, r.Header.Get("Content-Security-Policy"), "sandbox")
	require.Contains(t, r.Header.Get("Content-Disposition"), "attachment")
	r, _ = s.raw(t, "GET", fmt.Sprintf(path, 2), "", s.bearer()...)
	require.Equal(t, http.StatusNotFound, r.StatusCode)
}

// The chunks of a sheet are held as long as its run is there, and go with it.
func TestSheetsHoldTheirChunks(t *testing.T) {
	s := serve(t)
	s.project(t)
	run := s.leg(t).RunInput
	files := answers(t, 300, 1, honestly)
	in := s.newSheet(t, run, "val", 1, files)
	call(t, s, api.AddSheet, in)
	call(t, s, api.AddSheet, s.newSheet(t, run, "val", 2, files))
	uses := func() (n int) {
		require.NoError(t, s.db.Pool.QueryRow(ctx, "select coalesce(sum(uses), 0) from chunk").Scan(&n))
		return n
	}
	require.Equal(t, 4, uses(), "two sheets of the same two files")
	var stored int
	require.NoError(t, s.db.Pool.QueryRow(ctx, "select count(*) from chunk").Scan(&stored))
	require.Equal(t, 2, stored, "which are stored once")
	var id int64
	require.NoError(t, s.db.Pool.QueryRow(ctx, "select id from run where number = $1", run.Number).Scan(&id))
	require.NoError(t, s.db.ReleaseChunks(ctx, id, 0))
	require.Zero(t, uses())
}

// Fifty thousand examples of a hundred classes: the matrix, and the examples of a cell.
func BenchmarkSheet(b *testing.B) {
	s := serve(b)
	s.project(b)
	run := s.leg(b).RunInput
	in := s.newSheet(b, run, "val", 1, large(b))
	in.Body.Classes = nil
	in.Body.Says = sheet.Says{Task: sheet.Classes}
	began := time.Now()
	call(b, s, api.AddSheet, in)
	b.Logf("taken and assessed in %v", time.Since(began))
	at := api.SheetInput{RunInput: run}
	b.Run("matrix", func(b *testing.B) {
		for range b.N {
			call(b, s, api.GetSheet, &at)
		}
	})
	b.Run("cell", func(b *testing.B) {
		for range b.N {
			call(b, s, api.ListExamples, &api.ExamplesInput{SheetInput: at, Limit: 60, Order: "surest",
				Where: `true == "7" && predicted == "12"`})
		}
	})
}

// large is a sheet of 50,000 examples of 100 classes.
func large(t testing.TB) map[string][]byte {
	rng := rand.New(rand.NewPCG(1, 1))
	var lines bytes.Buffer
	data := make([]byte, 0, 50_000*400)
	for i := range 50_000 {
		l, err := json.Marshal(sheet.Line{Key: fmt.Sprintf("val/voyage%05d/clip-%d.npy", i/8, i%8),
			True: json.RawMessage(fmt.Sprint(i % 100)), Group: fmt.Sprintf("voyage%05d", i/8)})
		require.NoError(t, err)
		lines.Write(append(l, '\n'))
		z, sum := make([]float64, 100), 0.0
		for c := range z {
			z[c] = rng.NormFloat64()
			if c == i%100 {
				z[c] += 2.5
			}
			sum += math.Exp(z[c])
		}
		for _, v := range z {
			data = binary.LittleEndian.AppendUint32(data, math.Float32bits(float32(math.Exp(v)/sum)))
		}
	}
	var npy bytes.Buffer
	require.NoError(t, tensor.WriteNPY(&npy, tensor.Tensor{Info: tensor.Info{Name: "scores", Dtype: "F32",
		Shape: []int64{50_000, 100}}, Data: data}))
	return map[string][]byte{sheet.ExamplesFile: lines.Bytes(), sheet.ScoresFile: npy.Bytes()}
}

// What people say of labels is kept with the snapshot, one word a person, and chooses examples; the labels that should
// be are told for a new snapshot.
func TestMarks(t *testing.T) {
	s := serve(t)
	s.project(t)
	leg := s.leg(t)
	snapshot := s.snapshot(t, honest(300)...)
	in := batch(leg, 1, 1, "loss.val", 1)
	in.Body.Data = []api.DataUse{{Use: "val", Asked: snapshot.Address + ":val"}}
	call(t, s, api.SendBatch, in)
	call(t, s, api.AddSheet, s.newSheet(t, leg.RunInput, "val", 1, answers(t, 300, 2, honestly)))
	at := api.SheetInput{RunInput: leg.RunInput}
	say := func(who *served, row int, mark, label string) *api.Example {
		in := &api.NewMark{ExampleInput: api.ExampleInput{SheetInput: at, Row: row}}
		in.Body.Mark, in.Body.Label = mark, label
		return call(t, who, api.SetMark, in)
	}
	teo := s.as(t, "Teo", map[string]string{"vessels": "member"})
	require.Equal(t, "right", say(s, 0, "right", "").Marks[0].Mark)
	got := say(teo, 0, "wrong", "ferry").Marks
	require.Equal(t, []any{"right", "Ines", false, "wrong", "ferry", "tug", "Teo", true},
		[]any{got[0].Mark, got[0].Who, got[0].Own, got[1].Mark, got[1].Label, got[1].Was, got[1].Who, got[1].Own})
	say(s, 1, "wrong", "")
	say(s, 1, "unclear", "")
	all := call(t, s, api.ListMarks, &api.MarksInput{SheetInput: at})
	require.Equal(t, snapshot.Address, all.Scope)
	require.Len(t, all.Items, 3, "one of each person on each example")
	for where, want := range map[string]int{`mark == "wrong"`: 1, `mark in ["wrong", "unclear"]`: 2,
		`mark == "right"`: 0} {
		list := call(t, s, api.ListExamples, &api.ExamplesInput{SheetInput: at, Where: where, Order: "key", Limit: 10})
		require.Equal(t, want, list.Count, where)
	}
	// Another run on the same snapshot knows them.
	other := ofRun(s.trained(t, `{"lr": 0.1}`, api.Recipe{}, loss(1)))
	e := call(t, s, api.AddEvaluation, newEvaluation(api.CheckpointInput{RunInput: leg.RunInput,
		At: s.keepWeights(t, leg, 10, tensor.Float64("w", []int64{1}, []float64{1})).At}, snapshot.Address+":val", nil))
	sheet := s.newSheet(t, leg.RunInput, "val", 1, answers(t, 300, 2, honestly))
	sheet.Body.Of = e.Number
	made := call(t, s, api.AddSheet, sheet)
	require.Len(t, call(t, s, api.GetExample, &api.ExampleInput{SheetInput: api.SheetInput{RunInput: leg.RunInput,
		Sheet: made.Number}}).Marks, 2)
	// Without a snapshot they stay with the run.
	call(t, s, api.AddSheet, s.newSheet(t, other, "val", 1, answers(t, 300, 2, honestly)))
	require.Equal(t, "vessels/2:val", call(t, s, api.ListMarks,
		&api.MarksInput{SheetInput: api.SheetInput{RunInput: other}}).Scope)
	require.Empty(t, call(t, teo, api.DropMark, &api.ExampleInput{SheetInput: at, Row: 0}).Marks[1:])

	bad := &api.NewMark{ExampleInput: api.ExampleInput{SheetInput: at}}
	for says, body := range map[string][2]string{"none of the classes": {"wrong", "dredger"},
		"is the label that it has":      {"wrong", "tug"},
		"only of a label that is wrong": {"right", "ferry"}, "": {"maybe", ""}} {
		bad.Body.Mark, bad.Body.Label = body[0], body[1]
		refuse(t, s, api.SetMark, bad, api.Invalid, says)
	}
	bad.Body.Mark, bad.Body.Label, bad.Row = "right", "", 300
	refuse(t, s, api.SetMark, bad, api.NotFound, "no example 300")
	bad.Row = 0
	refuse(t, s.as(t, "Rolf", map[string]string{"vessels": "reader"}), api.SetMark, bad, api.Denied, "")
}
