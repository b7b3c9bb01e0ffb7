package compare

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func hypers(t *testing.T, text string) map[string]json.RawMessage {
	var out map[string]json.RawMessage
	require.NoError(t, json.Unmarshal([]byte(text), &out))
	return out
}

func TestRunsThatDifferOnlyInTheSeedStandTogether(t *testing.T) {
	run := func(name, h, code string, best float64) Run {
		return Run{Name: name, Hyper: hypers(t, h), Code: code, Best: best, Last: best + 1}
	}
	runs := []Run{
		run("vessels/1", `{"dropout": 0.3, "lr": 0.03, "seed": 1}`, "a", 3),
		run("vessels/2", `{"dropout": 0, "lr": 0.03, "seed": 1}`, "a", 5),
		run("vessels/3", `{"dropout": 3e-1, "lr": 0.030, "seed": 2}`, "a", 1),
		run("vessels/4", `{"dropout": 0.3, "lr": 0.03, "seed": 2}`, "a", 1), // the same seed again
		run("vessels/5", `{"dropout": 0.3, "lr": 0.03, "seed": 3}`, "b", 9), // other code
		run("vessels/6", `{"dropout": 0, "lr": 0.03, "seed": 2}`, "a", math.NaN()),
	}
	groups := Groups(runs)
	require.Len(t, groups, 3)
	require.Equal(t, []int{0, 2, 3}, groups[0].Runs)
	require.Equal(t, []int{3}, groups[0].Twice)
	require.Equal(t, []float64{3, 1}, groups[0].Best.Values)
	require.Equal(t, 2.0, groups[0].Best.Mean)
	require.InDelta(t, math.Sqrt2, groups[0].Best.Deviation, 1e-15)
	require.Equal(t, []float64{5}, groups[1].Best.Values, "a run without a figure does not count")
	require.True(t, math.IsNaN(groups[1].Best.Deviation))
	require.Equal(t, "dropout 0.3, vessels/1", groups[0].Label)
	require.Equal(t, "dropout 0", groups[1].Label)
	many := Groups([]Run{run("vessels/1", `{"a": 1, "b": 1, "c": 5}`, "", 1),
		run("vessels/2", `{"a": 1, "b": 2, "c": 6}`, "", 1), run("vessels/3", `{"a": 2, "b": 2, "d": 1}`, "", 1)})
	require.Equal(t, "c 6", many[1].Label, "the fewest that tell all apart")
	require.Equal(t, "no c", many[2].Label)
	titled := run("vessels/4", `{"a": 3}`, "", 1)
	titled.Title = "Wide net"
	again := titled
	again.Name, again.Hyper = "vessels/5", hypers(t, `{"a": 4}`)
	named := Groups([]Run{titled, again, run("vessels/6", `{"a": 5}`, "", 1)})
	require.Equal(t, []string{"Wide net, vessels/4", "Wide net, vessels/5", "a 5"},
		[]string{named[0].Label, named[1].Label, named[2].Label})
	Rank(groups, false)
	require.Equal(t, []int{4}, groups[0].Runs)
	require.True(t, IsSeed("net.seed") && IsSeed("data_seed") && !IsSeed("seeds") && !IsSeed("seed.count"))
}

func TestPlain(t *testing.T) {
	for text, want := range map[string]string{"1.0": "1", "1e0": "1", "9007199254740993": "9007199254740993",
		`[64, 3.20]`: "[64, 3.2]", `"a"`: `"a"`, "true": "true"} {
		require.Equal(t, want, Plain(json.RawMessage(text)))
	}
}

func TestBetween(t *testing.T) {
	far := Between(Describe([]float64{0.352, 0.359, 0.361}), Describe([]float64{0.383, 0.389, 0.392}))
	require.InDelta(t, -0.0306667, far.Difference, 1e-6)
	require.Equal(t, Student, far.Method)
	require.True(t, far.Beyond)
	// difference ± t(4; 0.975) s = ±2.7764 x 0.003801
	require.InDelta(t, -0.0306667-0.010554, far.Low, 1e-5)
	require.InDelta(t, -0.0306667+0.010554, far.High, 1e-5)
	six := Describe([]float64{1, 2, 3, 4, 5, 6})
	require.Equal(t, Welch, Between(six, six).Method)

	one := Between(Describe([]float64{0.4}), Describe([]float64{0.5}))
	require.Equal(t, "", one.Method)
	require.False(t, one.Beyond)
	require.Contains(t, one.Say(Group{Best: Describe([]float64{0.4})}, Group{Best: Describe([]float64{0.5})}),
		"one each: cannot tell")

	// One more of 1, 2, 3 falls within 2 ± 4.3027 x 1 x sqrt(4/3).
	single := Between(Describe([]float64{8}), Describe([]float64{1, 2, 3}))
	require.Equal(t, Prediction, single.Method)
	require.InDelta(t, 6-4.968275, single.Low, 1e-4)
	require.True(t, single.Beyond)
	require.False(t, Between(Describe([]float64{6}), Describe([]float64{1, 2, 3})).Beyond)
	require.Equal(t, "", Between(Describe(nil), Describe([]float64{1, 2})).Method)
	for _, ties := range [][2][]float64{{{1, 1}, {2, 2}}, {{1}, {2, 2}}, {{1, 1, 1}, {1, 1, 1}}} {
		same := [2]Sample{Describe(ties[0]), Describe(ties[1])}
		v := Between(same[0], same[1])
		require.False(t, v.Beyond, "ties do not prove that there is no noise")
		require.Contains(t, v.Say(Group{Best: same[0]}, Group{Best: same[1]}), "the noise between seeds is not known")
	}
}

// Of groups that do not differ, 5 in 100 are claimed to, whatever their sizes; and docs/comparing.md states what is
// found of a true difference.
func TestClaimsBeyondNoise(t *testing.T) {
	t.Parallel()
	const times = 10_000
	r := rand.New(rand.NewPCG(7, 7))
	claims := func(n, m int, apart float64) float64 {
		normal := func(n int, mean float64) Sample {
			values := make([]float64, n)
			for i := range values {
				values[i] = mean + r.NormFloat64()
			}
			return Describe(values)
		}
		count := 0
		for range times {
			if Between(normal(n, 0), normal(m, apart)).Beyond {
				count++
			}
		}
		return float64(count) / times
	}
	for n := 1; n <= 7; n++ {
		for m := max(2, n); m <= 7; m++ {
			require.InDelta(t, 0.05, claims(n, m, 0), 0.01, "%d against %d", n, m)
		}
	}
	for _, c := range []struct {
		n, m      int
		two, four float64 // found at 2 and at 4 standard deviations
	}{{1, 3, 0.17, 0.47}, {2, 2, 0.22, 0.56}, {3, 3, 0.46, 0.95}, {5, 5, 0.80, 1}} {
		require.InDelta(t, c.two, claims(c.n, c.m, 2), 0.02, "%d against %d", c.n, c.m)
		require.InDelta(t, c.four, claims(c.n, c.m, 4), 0.02, "%d against %d", c.n, c.m)
	}
}

func TestDifferences(t *testing.T) {
	differ, same := Differences([]string{"hyperparameter", "code", "package"}, [][]Fact{
		{{"package", "sonar", "1.2"}, {"hyperparameter", "lr", "0.1"}, {"hyperparameter", "batch", "32"},
			{"code", "commit", "a"}},
		{{"hyperparameter", "lr", "0.2"}, {"hyperparameter", "batch", "32"}, {"code", "commit", "a"},
			{"hyperparameter", "drop", ""}},
	})
	require.Equal(t, []Row{
		{"hyperparameter", "drop", []string{"", ""}, []bool{false, true}},
		{"hyperparameter", "lr", []string{"0.1", "0.2"}, []bool{true, true}},
		{"package", "sonar", []string{"1.2", ""}, []bool{true, false}},
	}, differ)
	require.Len(t, same, 2)
	require.Equal(t, "batch", same[0].Name)
}

func TestLines(t *testing.T) {
	a, b := Line{[]float64{1, 2, 4}, []float64{10, 20, 40}}, Line{[]float64{2, 3, 5}, []float64{1, 2, 4}}
	require.Equal(t, 30.0, a.At(3))
	require.True(t, math.IsNaN(a.At(0.5)) && math.IsNaN(a.At(4.5)))
	require.Equal(t, Line{[]float64{2, 4}, []float64{19, 37}}, Less(a, b))
	mean, lowest, highest := Band([]Line{a, b})
	require.Equal(t, []float64{2, 3, 4}, mean.X)
	require.Equal(t, []float64{10.5, 16, 21.5}, mean.Y)
	require.Equal(t, []float64{1, 2, 3}, lowest)
	require.Equal(t, []float64{20, 30, 40}, highest)
	twice := Line{[]float64{1, 1}, []float64{5, 6}}
	require.Equal(t, 6.0, twice.At(1))
	broken := Line{[]float64{1, 2, 3}, []float64{1, math.NaN(), 3}}
	require.True(t, math.IsNaN(broken.At(1.5)))
}

// Undominated agrees with the definition, taken slowly, on random points with many ties.
func TestUndominated(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	lower := []bool{true, false, true}
	for range 50 {
		points := make([][]float64, 20)
		for i := range points {
			points[i] = []float64{float64(r.IntN(4)), float64(r.IntN(4)), float64(r.IntN(4))}
		}
		points[0][1] = math.NaN()
		got := Undominated(points, lower)
		require.False(t, got[0])
		for i := 1; i < len(points); i++ {
			beaten := false
			for j := 1; j < len(points); j++ {
				p, q := points[i], points[j]
				atLeast := q[0] <= p[0] && q[1] >= p[1] && q[2] <= p[2]
				beaten = beaten || atLeast && (q[0] < p[0] || q[1] > p[1] || q[2] < p[2])
			}
			require.Equal(t, !beaten, got[i])
		}
	}
}

// The textbook's ten people: hours of television a week and intelligence quotient, rho = -29/165.
func TestRankCorrelation(t *testing.T) {
	quotient := []float64{106, 100, 86, 101, 99, 103, 97, 113, 112, 110}
	hours := []float64{7, 27, 2, 50, 28, 29, 20, 12, 6, 17}
	runs := make([]Run, 10)
	for i := range runs {
		runs[i] = Run{Name: fmt.Sprint(i), Hyper: hypers(t, fmt.Sprintf(`{"hours": %g, "seed": %d}`, hours[i], i))}
	}
	m := Influences(runs, quotient)
	require.Len(t, m.Influences, 1, "the seed is no hyperparameter to look at")
	require.InDelta(t, -29.0/165, m.Influences[0].Correlation, 1e-12)
	z, half := math.Atanh(-29.0/165), 1.959964*math.Sqrt((1+29.0/165*29.0/165/2)/7)
	require.InDelta(t, math.Tanh(z-half), m.Influences[0].Low, 1e-12)
	require.False(t, m.Few)
	require.Equal(t, []float64{1.5, 3, 1.5}, ranks([]float64{2, 7, 2}))
}

func TestInfluencesFindWhatMattered(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	drawn := func(n int) (runs []Run, y []float64) {
		for i := range n {
			lr, width, drop := math.Pow(10, -4*r.Float64()), 16*(1+r.IntN(8)), r.Float64()
			optimiser := []string{"adam", "momentum"}[r.IntN(2)]
			h := fmt.Sprintf(`{"lr": %g, "width": %d, "drop": %g, "optimiser": %q, "seed": %d}`, lr, width,
				drop, optimiser, i)
			if i%10 == 0 {
				h = fmt.Sprintf(`{"lr": %g, "width": %d, "optimiser": %q}`, lr, width, optimiser)
			}
			runs = append(runs, Run{Name: fmt.Sprint(i), Hyper: hypers(t, h)})
			value := math.Log10(lr) + 0.05*r.NormFloat64()
			if optimiser == "adam" && drop > 0.5 {
				value += 1.5 // these two act together
			}
			y = append(y, value)
		}
		return runs, y
	}
	runs, y := drawn(200)
	m := Influences(runs, append(y[:199:199], math.NaN()))
	require.Equal(t, 1, m.Left)
	require.Equal(t, "lr", m.Influences[0].Name)
	require.Greater(t, m.Influences[0].Low, 0.6)
	require.Equal(t, "width", m.Influences[3].Name)
	require.Less(t, m.Influences[3].Importance, 0.03)
	require.True(t, m.Influences[3].Low < 0 && m.Influences[3].High > 0)
	require.Greater(t, m.Explained, 0.7)
	require.ElementsMatch(t, []string{"drop", "optimiser"}, []string{m.Pairs[0].A, m.Pairs[0].B})
	require.Contains(t, m.Say("loss.val"), "lr mattered most")
	require.Equal(t, fmt.Sprint(m), fmt.Sprint(Influences(runs, append(y[:199:199], math.NaN()))),
		"the same runs give the same figures")

	noise := noisy(r, 100)
	m = Influences(runs[:100], noise)
	require.Less(t, m.Explained, 0.1, "nothing predicts noise")
	m = Influences(runs[:8], y[:8])
	require.True(t, m.Few)
	require.Contains(t, m.Say("loss.val"), "too few")
}

func noisy(r *rand.Rand, n int) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = r.NormFloat64()
	}
	return out
}
