package comparing

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/compare"
	"kembrel/core/filter"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/service/slicetest"
	"kembrel/store"
)

// sea answers curves: run n's loss at epochs 1, 2, 3 is n/10, n/20, n/30, twice that where smoothing is asked for.
type sea struct{ asked []*api.CurvesInput }

func (s *sea) GetCurves(_ context.Context, _ act.Who, in *api.CurvesInput) (*api.Curves, error) {
	s.asked = append(s.asked, in)
	n := float64(in.Number)
	c := api.Curve{Name: "loss.val", Value: []float64{n / 10, n / 20, n / 30}}
	if in.Smooth > 0 {
		c.Smooth = []float64{n / 5, n / 10, n / 15}
	}
	return &api.Curves{Curves: []api.Curve{c}, Axes: []api.Axis{{Step: []int64{40, 80, 120},
		Epoch: []float64{1, 2, 3}, Time: []int64{1000, 2000, 3000}}}}, nil
}

func TestLearning(t *testing.T) {
	s, b := fresh()
	curves := &sea{}
	s.curves = curves
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	ask := func(more func(*api.LearningInput)) *api.Learning {
		in := &api.LearningInput{CompareInput: api.CompareInput{ProjectInput: slicetest.In, Runs: []int{1, 2, 3}},
			Names: []string{"loss.val", "never"}}
		more(in)
		got, err := s.GetLearning(ctx, who, in)
		require.NoError(t, err)
		return got
	}
	got := ask(func(*api.LearningInput) {})
	require.Equal(t, "epoch", got.By)
	require.Len(t, got.Lines, 3, "a curve that no run has draws nothing")
	require.EqualValues(t, []float64{1, 2, 3}, got.Lines[2].X)
	require.EqualValues(t, []float64{0.3, 0.15, 0.1}, got.Lines[2].Y)
	require.Empty(t, got.Lines[2].LessY, "without a baseline nothing is taken off")

	got = ask(func(in *api.LearningInput) { in.By, in.From, in.To, in.Smooth = "time", 2, 9, 3 })
	r := b.Runs[1]
	began := float64(r.Started.UnixMilli())
	last := curves.asked[len(curves.asked)-3]
	require.Equal(t, [3]float64{began + 2000, began + 9000, 3000}, [3]float64{last.From, last.To, last.Smooth},
		"seconds since the start are milliseconds since 1970")
	require.Equal(t, (1000-began)/1000, got.Lines[0].X[0])
	require.EqualValues(t, []float64{0.2, 0.1, 1.0 / 15}, got.Lines[0].Y)
	require.EqualValues(t, []float64{0.1, 0.05, 1.0 / 30}, got.Lines[0].Raw, "the raw line stays beside the smooth one")

	got = ask(func(in *api.LearningInput) { in.Groups = true })
	require.Len(t, got.Lines, 2, "1 and 2 differ in the seed only")
	require.Equal(t, []int{1, 2}, got.Lines[0].Runs)
	near(t, []float64{0.15, 0.075, 0.05}, got.Lines[0].Y)
	near(t, []float64{0.1, 0.05, 1.0 / 30}, got.Lines[0].Low)

	got = ask(func(in *api.LearningInput) { in.Baseline = 1 })
	near(t, []float64{0, 0, 0}, got.Lines[0].LessY)
	require.True(t, got.Lines[0].Baseline)
	near(t, []float64{0.2, 0.1, 0.2 / 3}, got.Lines[2].LessY)

	got = ask(func(in *api.LearningInput) { in.Baseline = 5 })
	require.Len(t, got.Lines, 3, "a baseline beside those compared is no line of them")
	near(t, []float64{-0.4, -0.2, -0.4 / 3}, got.Lines[0].LessY)

	in := &api.LearningInput{CompareInput: api.CompareInput{ProjectInput: slicetest.In, Runs: []int{1}, Baseline: 44},
		Names: []string{"loss.val"}}
	_, err := s.GetLearning(ctx, who, in)
	require.True(t, api.Is(err, api.NotFound))
}

func TestWhatIsSaid(t *testing.T) {
	row := func(section, name string) compare.Row { return compare.Row{Section: section, Name: name} }
	for _, c := range []struct {
		differ, same []compare.Row
		want         string
	}{
		{nil, nil, "Nothing that went in differs."},
		{nil, []compare.Row{row("command", "folder")}, "Nothing that went in differs. 1 other values are the same."},
		{[]compare.Row{row("seed", "seed")}, nil, "The seed. No data, no code, no package, no machine differs."},
		{[]compare.Row{row("hyperparameter", "lr"), row("hyperparameter", "batch"), row("seed", "seed"),
			row("data", "data"), row("code", "commit"), row("package", "x"), row("machine", "host")}, nil,
			"2 hyperparameters, the seed, the data, the code, one package and the machine."},
	} {
		require.Equal(t, c.want, sayDiffered(c.differ, c.same))
	}
	run := func(address, kind, said string) api.Run {
		return api.Run{Address: address, Verdict: &api.Verdict{Kind: kind, Said: said}}
	}
	few := []api.Run{run("vessels/1", "converged", "Converged. It fell."), run("vessels/2", "", ""), {}}
	require.Equal(t, "vessels/1: Converged.", sayLearned(few))
	several := []api.Run{{}, run("a", "overfitting", "x"), run("b", "overfitting", "x"), run("c", "converged", "x"), {}}
	require.Equal(t, "Of 5 runs 2 not judged, 2 overfitting and 1 converged.", sayLearned(several))
	require.Equal(t, "All 5 are not judged.", sayLearned(make([]api.Run, 5)))
}

// What went into a run is told apart: what names data and seeds is no hyperparameter to weigh.
func TestFacts(t *testing.T) {
	run := api.Run{Hyper: map[string]json.RawMessage{"lr": json.RawMessage("0.1"), "seed": json.RawMessage("3"),
		"data.split": json.RawMessage(`"voyage"`)}, Origin: &api.Origin{Kind: "rerun", From: "vessels/2"}}
	recipe := api.Recipe{Commit: "c0ffee", Changes: "+a\n+b\n", Command: []string{"harbour", "train"}, Memory: 1 << 30,
		Packages: map[string]string{"arrays": "2.1"}, GPUs: []string{"G", "G"}}
	used := []store.RunData{{Use: "train", Address: "hydrophone#3:train"}, {Use: "val", Asked: "quay#1"}, {Use: "test", Items: 9}}
	got := map[string]string{}
	for _, f := range factsOf(run, recipe, store.Run{Start: json.RawMessage(`{"weights":"fresh"}`)}, used) {
		got[f.Section+" "+f.Name] = f.Value
	}
	require.Contains(t, got["code uncommitted change"], "2 lines, ")
	delete(got, "code uncommitted change")
	require.Equal(t, map[string]string{"hyperparameter lr": "0.1", "seed seed": "3", "data data.split": `"voyage"`,
		"data train": "hydrophone#3:train", "data val": "quay#1, not known", "data test": "9 items, not known",
		"code commit": "c0ffee", "package arrays": "2.1", "machine memory": api.Bytes(1 << 30), "machine GPUs": "G, G",
		"start weights": "fresh", "start origin": "rerun of vessels/2", "command command": "harbour train"}, got)
	recipe.Changes, recipe.ChangesSize = "", 9<<20
	for _, f := range factsOf(run, recipe, store.Run{}, nil) {
		if f.Name == "uncommitted change" {
			require.Equal(t, api.Bytes(9<<20)+", too large to record", f.Value)
		}
	}
}

// Figures are one list a figure, a value a run; more runs than can be compared are refused.
func TestFiguresOfRuns(t *testing.T) {
	s, b := fresh()
	ctx, _ := slicetest.Ctx(t.Context(), "reader")
	c, err := s.chosen(ctx, &api.CompareInput{ProjectInput: slicetest.In, Runs: []int{1, 3}}, 10)
	require.NoError(t, err)
	n, err := finding.ValueOf(verdict.Objective{Curve: "loss.val", Direction: verdict.Lower}, "best", b.Runs[1].Started)
	require.NoError(t, err)
	figures, err := s.figuresOf(ctx, c, []*filter.Node{n})
	require.NoError(t, err)
	require.Len(t, figures, 2)
	_, err = s.chosen(ctx, &api.CompareInput{ProjectInput: slicetest.In, Runs: []int{1, 2, 3}}, 2)
	require.True(t, api.Is(err, api.Invalid), "too many")
}

func near(t *testing.T, want []float64, got api.Floats) {
	t.Helper()
	require.InDeltaSlice(t, want, []float64(got), 1e-12)
}
