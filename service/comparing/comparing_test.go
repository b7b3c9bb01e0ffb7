package comparing

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/service/finding"
	"kembrel/service/slicetest"
	"kembrel/store"
)

// bench is a storage of runs that differ in two hyperparameters.
type bench struct {
	*slicetest.Harbour
	recipes map[int64]string
	used    []store.RunData
	found   []store.LatestEvaluation
}

func (b *bench) CachedCurves(context.Context, int64, []string, int) (*store.RunCurves, error) {
	return store.NewRunCurves(map[string]int{"loss.val": 1}), nil
}

func (b *bench) FindRuns(_ context.Context, q store.RunQuery) (out []store.RunPlace, err error) {
	if q.Limit == 1 && q.Sort == nil && len(b.Runs) > 0 { // the newest
		return []store.RunPlace{{Number: int64(len(b.Runs))}}, nil
	}
	for n := 1; n <= len(b.Runs) && len(out) < q.Limit; n++ {
		out = append(out, store.RunPlace{Number: int64(n)})
	}
	return out, nil
}

func (b *bench) Landmarks(context.Context, store.RunQuery, int) ([]store.Landmark, error) {
	return []store.Landmark{{Place: int64(len(b.Runs))}}, nil
}

func (b *bench) LatestEvaluations(context.Context, []int64) ([]store.LatestEvaluation, error) {
	return b.found, nil
}

func (b *bench) RunData(context.Context, []int64) ([]store.RunData, error) { return b.used, nil }

func (b *bench) Recipes(_ context.Context, runs []int64) (map[int64]json.RawMessage, error) {
	out := map[int64]json.RawMessage{}
	for _, r := range runs {
		if text, there := b.recipes[r]; there {
			out[r] = json.RawMessage(text)
		}
	}
	return out, nil
}

func (b *bench) RunValues(_ context.Context, _ store.RunQuery, numbers []int64,
	expressions []*filter.Node) (map[int64][]json.RawMessage, error) {
	out := map[int64][]json.RawMessage{}
	for _, n := range numbers {
		for _, e := range expressions {
			text := fmt.Sprint(b.Sums[100+n][0].LowValue)
			if e.Op == filter.Field {
				text = fmt.Sprint(10 * n)
			}
			out[n] = append(out[n], json.RawMessage(text))
		}
	}
	return out, nil
}

// fresh has four runs of two settings, the second setting better, and one of no setting like them.
func fresh() (*Comparing, *bench) {
	b := &bench{Harbour: slicetest.New(5), recipes: map[int64]string{}}
	for n, best := range map[int]float64{1: 0.50, 2: 0.52, 3: 0.30, 4: 0.32, 5: 0.9} {
		r := b.Runs[n]
		lr := map[bool]string{true: "0.1", false: "0.01"}[n <= 2]
		r.Hyper = json.RawMessage(fmt.Sprintf(`{"lr":%s,"seed":%d,"batch":32}`, lr, n))
		if n == 5 {
			r.Hyper = json.RawMessage(`{"lr":0.5,"seed":5,"batch":32,"dropout":0.5}`)
		}
		b.Runs[n] = r
		b.Sums[r.ID] = []store.Summary{{Name: "loss.val", Count: 20, LowValue: best, LowEpoch: 9, LowStep: 360,
			LastValue: best + 0.1, LastEpoch: 20, LastStep: 800, HighValue: 2}}
		b.recipes[r.ID] = fmt.Sprintf(`{"command":["harbour","train"],"host":"quay-%d","commit":"c0ffee"}`, n%2)
	}
	return New(finding.New(b.Finder().Act, b), b, nil), b
}

func TestCompare(t *testing.T) {
	s, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	in := &api.CompareInput{ProjectInput: slicetest.In, Runs: []int{1, 2, 3, 4, 5, 3}}
	got, err := s.Compare(ctx, who, in)
	require.NoError(t, err)
	require.Len(t, got.Runs, 5, "each once")
	require.Len(t, got.Groups, 3, "runs that differ in their seed alone are of one setting")
	require.ElementsMatch(t, []int{3, 4}, got.Groups[0].Runs, "the best first")
	require.Contains(t, got.Answers.Best, "0.31")
	var differ, same []string
	for _, r := range got.Differ {
		differ = append(differ, r.Name)
	}
	for _, r := range got.Same {
		same = append(same, r.Name)
	}
	require.Subset(t, differ, []string{"lr", "dropout", "host"})
	require.Subset(t, same, []string{"batch", "commit"})
	require.False(t, slices.Contains(same, "lr"))
	require.Equal(t, api.Objective{Curve: "loss.val", Direction: "lower"}, got.Objective)

	in.Runs = []int{1, 9}
	_, err = s.Compare(ctx, who, in)
	require.ErrorContains(t, err, "vessels/9")
	in.Runs = nil
	got, err = s.Compare(ctx, who, in)
	require.NoError(t, err)
	require.Len(t, got.Runs, 5, "all that the filter chooses")
	in.Project = "quays"
	_, err = s.Compare(ctx, who, in)
	require.True(t, api.Is(err, api.NotFound))
}

// Figures against each other: which run no other beats in both.
func TestTradeOff(t *testing.T) {
	s, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	in := &api.TradeOffInput{CompareInput: api.CompareInput{ProjectInput: slicetest.In, Runs: []int{1, 2, 3, 4, 5}},
		Figures: "best,took"}
	got, err := s.GetTradeOff(ctx, who, in)
	require.NoError(t, err)
	require.Equal(t, []bool{true, true}, got.Lower)
	var marked []int
	for _, p := range got.Points {
		if p.Undominated {
			marked = append(marked, p.Run)
		}
	}
	require.ElementsMatch(t, []int{1, 3}, marked, "the quickest, and the best")
	in.Figures = "weather"
	_, err = s.GetTradeOff(ctx, who, in)
	require.True(t, api.Is(err, api.Invalid))
}

func TestDirections(t *testing.T) {
	for text, lower := range map[string]bool{`best("loss.val")`: true, `last("accuracy.val")`: false, "took": true,
		"size": true, "parameters": true, "pace": true} {
		n, err := finding.ValueOf(slicetest.New(0).Projects["vessels"].Objective, text, time.Now())
		require.NoError(t, err)
		require.Equal(t, lower, lowerIsBetterOf(slicetest.New(0).Projects["vessels"].Objective, n), text)
	}
}

// Few runs say nothing of what mattered, and it says so.
func TestMatteredNeedsRuns(t *testing.T) {
	s, _ := fresh()
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	got, err := s.GetMattered(ctx, who, &api.InfluenceInput{CompareInput: api.CompareInput{ProjectInput: slicetest.In,
		Runs: []int{1, 2}}})
	require.NoError(t, err)
	require.Empty(t, got.Influences)
	require.Contains(t, got.Says, "runs")
}

// Of a project with more runs than are weighed a stated sample is taken, spread over old and new ones.
func TestMatteredOfALargeProject(t *testing.T) {
	s, b := fresh()
	now := time.Now()
	for n := 5; n <= 5000; n++ {
		b.Runs[n] = store.Run{ID: int64(100 + n), Number: n, State: "finished", Hyper: json.RawMessage(`{"lr":0.1}`)}
		b.Sums[int64(100+n)] = []store.Summary{{Name: "loss.val", Count: 1, LowValue: 0.5}}
	}
	gone := b.Runs[5000]
	gone.Archived = &now
	b.Runs[5000] = gone
	ctx, who := slicetest.Ctx(t.Context(), "reader")
	got, err := s.GetMattered(ctx, who, &api.InfluenceInput{CompareInput: api.CompareInput{ProjectInput: slicetest.In}})
	require.NoError(t, err)
	require.Equal(t, 5000, got.Sampled)
	require.Len(t, got.Points, mostSampled-1, "not what is archived")
	require.Equal(t, 1, got.Points[0].Run)
	require.Less(t, got.Points[1].Run-got.Points[0].Run, 7)
	require.Greater(t, got.Points[mostSampled-2].Run, 4985)
}
