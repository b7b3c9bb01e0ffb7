package verdict

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
)

// truth is a family of runs of which it is known what their curves say.
type truth struct {
	name string
	kind Kind
	draw func(r *rand.Rand, n int) (train, val []float64)
}

func fall(from, to, pace float64) func(x float64) float64 {
	return func(x float64) float64 { return to + (from-to)*math.Exp(-x/pace) }
}

var truths = []truth{
	{"improving all the time", Improving, func(r *rand.Rand, n int) (train, val []float64) {
		t := fall(2.3, 0.2*r.Float64(), float64(n)*(0.5+r.Float64()))
		return sample(n, t), sample(n, func(x float64) float64 { return 1.05*t(x) + 0.02 })
	}},
	{"converged", Converged, func(r *rand.Rand, n int) (train, val []float64) {
		pace, low := float64(n)*(0.04+0.04*r.Float64()), 0.1+0.4*r.Float64()
		return sample(n, fall(2.3, low, pace)), sample(n, fall(2.3, low*(1.05+0.3*r.Float64()), pace))
	}},
	{"underfitting", Underfitting, func(r *rand.Rand, n int) (train, val []float64) {
		low := 1.4 + 0.7*r.Float64()
		t := fall(2.3, low, float64(n)*0.06)
		return sample(n, t), sample(n, func(x float64) float64 { return t(x) + 0.02 })
	}},
	{"overfitting, validation turns", Overfitting, func(r *rand.Rand, n int) (train, val []float64) {
		turn := float64(n) * (0.2 + 0.4*r.Float64())
		t, rise := fall(2.3, 0.02, float64(n)*0.2), (0.3+r.Float64())/float64(n)
		return sample(n, t), sample(n, func(x float64) float64 {
			return math.Max(t(x), t(turn)) + 0.1 + rise*math.Max(0, x-turn)
		})
	}},
	{"overfitting, validation stalls", Overfitting, func(r *rand.Rand, n int) (train, val []float64) {
		turn := float64(n) * (0.25 + 0.25*r.Float64())
		t := fall(2.3, 0.01, float64(n)*0.2)
		return sample(n, t), sample(n, func(x float64) float64 { return math.Max(t(x), t(turn)) + 0.05 })
	}},
	{"diverged, exploding", Diverged, func(r *rand.Rand, n int) (train, val []float64) {
		at := float64(n) * (0.3 + 0.4*r.Float64())
		t := fall(2.3, 0.5, float64(n)*0.3)
		f := func(x float64) float64 { return t(x) + math.Expm1(math.Max(0, x-at)*20/float64(n)) }
		return sample(n, f), sample(n, f)
	}},
	{"diverged, not a number", Diverged, func(r *rand.Rand, n int) (train, val []float64) {
		at := float64(n) * (0.3 + 0.6*r.Float64())
		t := fall(2.3, 0.5, float64(n)*0.3)
		f := func(x float64) float64 {
			if x > at {
				return math.NaN()
			}
			return t(x)
		}
		return sample(n, f), sample(n, f)
	}},
	{"too noisy", TooNoisy, func(r *rand.Rand, n int) (train, val []float64) {
		level := 1.2 + r.Float64()
		t := func(float64) float64 { return level }
		scatter := 0.6 * math.Sqrt(math.Max(3, float64(n)/10)/3) // as wide, where more epochs tell more
		return noisy(r, sample(n, t), 0.1),
			sample(n, func(x float64) float64 { return t(x) * math.Exp(scatter*r.NormFloat64()) })
	}},
	{"too short", TooShort, func(r *rand.Rand, n int) (train, val []float64) {
		t := fall(2.3, 0.5, 5)
		return sample(4, t), sample(4, t)
	}},
}

func sample(n int, f func(float64) float64) []float64 {
	out := make([]float64, n)
	for i := range out {
		out[i] = f(float64(i + 1))
	}
	return out
}

func series(values []float64) Series {
	folds := make([]curve.Fold, len(values))
	for i, v := range values {
		folds[i] = curve.One(curve.Reading{Point: curve.Point{Epoch: float64(i + 1)}, Value: v})
	}
	return FromFolds(curve.ByEpoch, folds)
}

// noisy adds noise of a standard deviation; validation's is three times training's, and one reading of fifty is a
// spike.
func noisy(r *rand.Rand, y []float64, deviation float64) []float64 {
	out := make([]float64, len(y))
	for i, v := range y {
		out[i] = v + deviation*r.NormFloat64()
		if deviation > 0 && r.IntN(50) == 0 {
			out[i] += 8 * deviation
		}
	}
	return out
}

var update = flag.Bool("update", false, "write the table of hits into docs/verdicts.md")

// The share of right verdicts on curves whose truth is known. The floors are what the method reaches, less a little; a
// change that makes it worse shows here. go test ./core/verdict -update writes the table into the docs.
func TestHits(t *testing.T) {
	const draws = 100
	var table strings.Builder
	levels := []float64{0, 0.01, 0.03, 0.1}
	table.WriteString("| truth | epochs | no noise | 1 % | 3 % | 10 % |\n|---|---|---|---|---|---|\n")
	for _, n := range []int{20, 60, 300} {
		for _, truth := range truths {
			if truth.kind == TooNoisy && n > 100 { // so many epochs tell through any noise that a training has
				continue
			}
			fmt.Fprintf(&table, "| %s | %d |", truth.name, n)
			for _, level := range levels {
				r := rand.New(rand.NewPCG(uint64(n), 1))
				hits, wrong := 0, map[Kind]int{}
				for range draws {
					train, val := truth.draw(r, n)
					v := Judge(Objective{"loss.val", Lower}, curve.ByEpoch, series(noisy(r, train, 2*level/3)),
						series(noisy(r, val, 2*level)))
					if v.Kind == truth.kind {
						hits++
					} else {
						wrong[v.Kind]++
					}
				}
				share := 100 * hits / draws
				fmt.Fprintf(&table, " %d %% |", share)
				floor := map[float64]int{0: 95, 0.01: 85, 0.03: 50, 0.1: 15}[level]
				if truth.kind == TooNoisy { // its noise is its own, at every level
					floor = 75
				}
				if share < floor {
					t.Errorf("%s, %d epochs, noise %v: %d %% right, and %v", truth.name, n, level, share, wrong)
				}
			}
			table.WriteString("\n")
		}
	}
	if *update {
		const path, mark = "../../docs/verdicts.md", "<!-- hits -->\n"
		text, err := os.ReadFile(path)
		require.NoError(t, err)
		parts := strings.SplitN(string(text), mark, 3)
		require.Len(t, parts, 3, "docs/verdicts.md has no place for the table")
		require.NoError(t, os.WriteFile(path, []byte(parts[0]+mark+table.String()+mark+parts[2]), 0o644))
	}
}

func TestVerdictSaysWhereAndHowMuch(t *testing.T) {
	n, turn := 40, 13.0
	training := fall(2, 0.1, 15)
	train := sample(n, training)
	val := sample(n, func(x float64) float64 {
		return math.Max(training(x),
			training(turn)) + 0.1 + 0.01*math.Max(0, x-turn)
	})
	v := Judge(Objective{"loss.val", Lower}, curve.ByEpoch, series(train), series(val))
	require.Equal(t, Overfitting, v.Kind)
	require.InDelta(t, 14, v.Since, 1)
	require.InDelta(t, train[39]/train[12]-1, v.Train, 0.05)
	require.InDelta(t, val[39]/val[12]-1, v.Val, 0.06) // of medians, not of single readings
	require.Greater(t, v.Gap, 0.5)
	sum := summary(val...)
	require.Regexp(t, `^Overfitting since epoch 1[345]: training loss fell a further \d+ %, validation loss rose \d+ %\. Best 0\.\d+ in epoch 13\.$`, v.Say(Objective{"loss.val", Lower}, sum))
}

// The same curves read as accuracies, where higher is better, are judged the same.
func TestVerdictOfWhatRises(t *testing.T) {
	for _, truth := range truths {
		train, val := truth.draw(rand.New(rand.NewPCG(1, 1)), 60)
		turn := func(y []float64) []float64 {
			out := make([]float64, len(y))
			for i, v := range y {
				out[i] = 1 - v/2.5
				if truth.kind == Diverged {
					out[i] = -v
				}
			}
			return out
		}
		v := Judge(Objective{"accuracy.val", Higher}, curve.ByEpoch, series(turn(train)), series(turn(val)))
		require.Equal(t, truth.kind, v.Kind, truth.name)
	}
}

func TestVerdictOfOddCurves(t *testing.T) {
	o := Objective{"loss.val", Lower}
	judge := func(train, val []float64) Verdict { return Judge(o, curve.ByEpoch, series(train), series(val)) }
	nan := math.NaN()
	require.Equal(t, None, judge(nil, nil).Kind)
	require.Equal(t, Diverged, judge(nil, []float64{nan, nan}).Kind)
	require.Equal(t, TooShort, judge(nil, []float64{1, 0.5}).Kind)
	require.Equal(t, Converged, judge(nil, sample(40, func(float64) float64 { return 0.5 })).Kind,
		"a constant without a training curve")
	require.Equal(t, Improving, judge(nil, sample(40, fall(2, 0.1, 30))).Kind, "without a training curve")
	require.Equal(t, Overfitting,
		judge(sample(30, fall(1, 0.02, 6)),
			sample(30, func(x float64) float64 { return 1.2 - 0.05*math.Min(x-1, 2) + 0.02*math.Max(0, x-3) })).Kind,
		"validation far above where it began, while training falls")
	require.Equal(t, Diverged, judge(nil, sample(30, func(x float64) float64 { return 1 + x*x/20 })).Kind,
		"without a training curve")
	mended := sample(40, fall(2, 0.1, 30))
	mended[7] = math.Inf(1)
	require.Equal(t, Improving, judge(mended, mended).Kind, "one infinity that passed")
	v := judge(nil, []float64{2, 1, 0.9, nan, 0.8, nan, nan})
	require.Equal(t, Diverged, v.Kind)
	require.EqualValues(t, 6, v.Since)
	require.Contains(t, v.Say(o, summary(2, 1, 0.9, nan, 0.8, nan, nan)),
		"Diverged in epoch 6: loss.val is no longer a number. It was best at 0.8 in epoch 5.")
}

// A branch of a run that had learnt what there is to learn goes on from there: behind its parent's curves it has
// converged, where its own alone would seem to have learnt nothing.
func TestBranchIsJudgedBehindItsParent(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 20))
	series := func(from, n int, f func(i int) float64) Series {
		s := Series{}
		for i := range n {
			s.X, s.Y = append(s.X, float64(from+i)), append(s.Y, f(from+i))
			s.End = float64(from + i)
		}
		return s
	}
	fell := func(i int) float64 { return 0.4 + 2*math.Exp(-float64(i)/4) + 0.002*r.NormFloat64() }
	train, val := series(1, 40, fell), series(1, 40, fell)
	moreTrain, moreVal := series(41, 20, fell), series(41, 20, fell)
	o := Objective{Curve: "loss.val", Direction: Lower}
	alone := Judge(o, curve.ByEpoch, moreTrain, moreVal)
	require.NotEqual(t, Converged, alone.Kind, "nothing was learnt in it")
	behind := Judge(o, curve.ByEpoch, moreTrain.Behind(train), moreVal.Behind(val))
	require.Equal(t, Converged, behind.Kind, behind.Say(o, curve.NewSummary()))
	require.Len(t, moreVal.Behind(val).X, 60)
	over := series(31, 20, fell)
	require.Len(t, over.Behind(val).X, 50, "what the parent went on to is not the branch's")
	require.Equal(t, Series{}, Series{}.Behind(val))
}

// What scatters as widely as it could move is not called converged.
func TestTooNoisy(t *testing.T) {
	v := Judge(Objective{"loss.val", Lower}, curve.ByEpoch, Series{},
		series([]float64{1.38, 1.76, 1.64, 1.02, 1.71, 1.33, 1.9}))
	require.Equal(t, TooNoisy, v.Kind)
	best := curve.Summary{Count: 7, Lowest: curve.Reading{Value: 1.02}}
	require.Contains(t, v.Say(Objective{"loss.val", Lower}, best),
		"Too noisy to tell: loss.val scatters by")
	require.Greater(t, v.Unseen, blind)
}
