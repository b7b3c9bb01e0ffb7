package verdict

import (
	"math"

	"kembrel/core/curve"
)

// Kind is what the curves say.
type Kind string

// The kinds. None is for runs without a reading of their objective.
const (
	None         Kind = ""
	TooShort     Kind = "too short to tell"
	Improving    Kind = "improving"
	Converged    Kind = "converged"
	Underfitting Kind = "underfitting"
	Overfitting  Kind = "overfitting"
	Diverged     Kind = "diverged"
	TooNoisy     Kind = "too noisy to tell"
)

// Kinds are all but None.
var Kinds = []Kind{TooShort, TooNoisy, Improving, Converged, Underfitting, Overfitting, Diverged}

// Verdict is what the curves of a run say, with the numbers that led to it. What is not known is NaN.
type Verdict struct {
	Kind  Kind
	By    curve.By // unit of Since: epochs, or steps
	Since float64  // where what the verdict names began

	Train, Val float64 // change of the training and the validation curve since then, as a share of what they were
	Gap        float64 // validation minus training at the end, in the unit of the measure
	Noise      float64 // standard deviation of the validation curve around its trend
	// how far the objective has come, as a share of where it began: 0.9 of a loss that fell to a tenth
	Learnt float64
	Unseen float64 // change that would not be told from the noise, as a share of the error that is left
	Slope  float64 // of the objective lately, per epoch (or stretch of steps)
	Places int     // epochs (or stretches of steps) judged
}

// What the verdicts need; docs/verdicts.md says why, and how often they are right.
const (
	least       = 5    // places below which nothing is said
	sure        = 3.0  // standard errors by which two levels must differ
	worth       = 0.02 // share of all that was learnt which a change must come to
	little      = 0.01 // share of the error by which a curve that still falls must fall in its last quarter
	strong      = 0.25 // share by which training must go on improving where validation only stalls
	poor        = 0.5  // share of the first error that is left when a run has learnt too little
	near        = 0.15 // share of the error by which training and validation differ at most when underfitting
	blind       = 0.5  // share of the error that is left which may come or go unseen where it is too noisy
	allLearnt   = 1.0  // and share of all that was learnt
	explosion   = 3.0  // times all that was learnt, above the beginning, that a diverged curve lies
	recent      = 4    // the last quarter tells the trend
	leastRecent = 10
	// standard deviations of Kendall's count: one curve in twenty without a trend falls so much by chance
	falling = -1.64
	rising  = 2.33 // one in a hundred; the valley was chosen, so more is asked
)

// Judge says what the training curve and the curve of the objective say. train may be empty. It costs O(n + (n/4)^2)
// for n places.
func Judge(o Objective, by curve.By, train, val Series) Verdict {
	nan := math.NaN()
	v := Verdict{By: by, Since: nan, Train: nan, Val: nan, Gap: nan, Noise: nan, Learnt: nan, Unseen: nan, Slope: nan,
		Places: len(val.X)}
	if len(val.X) == 0 && len(val.Broken) == 0 {
		return v
	}
	j := judging{verdict: v, sign: 1, train: train, val: val, share: o.Direction == Higher && within01(val.Y) &&
		within01(train.Y)}
	if o.Direction == Higher {
		j.sign = -1
		j.train, j.val = train.times(-1), val.times(-1)
	}
	j.verdict.Kind = j.kind()
	return j.verdict
}

func within01(y []float64) bool {
	for _, v := range y {
		if v < 0 || v > 1 {
			return false
		}
	}
	return true
}

type judging struct {
	verdict    Verdict
	sign       float64
	share      bool   // the measure is a share of 1, such as an accuracy
	train, val Series // lower is better
}

func (j *judging) kind() Kind {
	if at, yes := j.diverged(); yes {
		j.verdict.Since = at
		return Diverged
	}
	x, y := j.val.X, j.val.Y
	n := len(y)
	if n < least {
		return TooShort
	}
	j.verdict.Noise = noise(y)
	m := max(3, n/10) // places whose median is a level
	end := median(y[n-m:])
	start := median(y[:min(2, n)])
	at := valley(y)
	low := j.level(at, m)
	learnt := max(start-low, 0)
	j.verdict.Learnt = (j.errorOf(start) - j.errorOf(min(low, end))) / math.Abs(j.errorOf(start))
	if len(j.train.Y) > 0 {
		j.verdict.Gap = j.sign * (end - median(j.train.Y[max(0, len(j.train.Y)-m):]))
	}
	window := min(n, max(leastRecent, n/recent))
	slope, z := trend(thin(y[n-window:]))
	slope /= float64(max(1, window)) / float64(len(thin(y[n-window:])))
	j.verdict.Slope = j.sign * slope
	falls := z < falling && -slope*float64(window) >= max(worth*learnt, little*math.Abs(j.errorOf(end)))

	j.verdict.Since = x[min(at+1, n-1)]
	j.verdict.Val = j.change(low, end)
	trained, _, rose := j.trained(x[at], m)
	j.verdict.Train = trained
	after := n - 1 - at
	error := sure * 1.2533 * j.verdict.Noise * math.Sqrt(2/float64(m)) // of the difference of two medians
	j.verdict.Unseen = error / math.Abs(j.errorOf(end))
	_, up := trend(thin(y[at:]))
	if after >= 3 && up > rising && end-low > error && end-low > worth*learnt && len(j.train.Y) >= least && !rose {
		return Overfitting
	}
	if falls {
		j.since(n-window, m)
		return Improving
	}
	if since, ok := j.stalled(window, m); ok {
		j.verdict.Since = since
		return Overfitting
	}
	if j.verdict.Unseen > blind && error > allLearnt*learnt {
		return TooNoisy
	}
	j.since(j.settled(end, error, learnt), m)
	if j.tooLittle(start, end) {
		return Underfitting
	}
	return Converged
}

// since sets the changes from one place to the end.
func (j *judging) since(at, m int) {
	n := len(j.val.Y)
	at = min(max(at, 0), n-1)
	j.verdict.Since = j.val.X[at]
	j.verdict.Val = j.change(j.level(at, m), median(j.val.Y[n-m:]))
	j.verdict.Train, _, _ = j.trained(j.val.X[at], m)
}

// level is the median of m places around i.
func (j *judging) level(i, m int) float64 {
	from := max(0, min(i-m/2, len(j.val.Y)-m))
	return median(j.val.Y[from:min(from+m, len(j.val.Y))])
}

// errorOf is what is left to learn: of a share of 1, such as an accuracy, what is missing; of a loss all.
func (j *judging) errorOf(y float64) float64 {
	if j.share {
		return 1 + y
	}
	return y
}

// change is the change of the measure as people read it, as a share of what it was.
func (j *judging) change(from, to float64) float64 { return j.sign * (to - from) / math.Abs(from) }

// trained is how much the training curve changed since a place, and whether it improved by more than its noise and by
// what is worth telling, or worsened by more than its noise.
func (j *judging) trained(since float64, m int) (change float64, fell, rose bool) {
	t := j.train
	if len(t.Y) < least {
		return math.NaN(), false, false
	}
	k := max(1, len(t.Y)*m/max(1, len(j.val.Y)))
	i := 0
	for i < len(t.X)-1 && t.X[i] < since {
		i++
	}
	from := max(0, min(i-k/2, len(t.Y)-k))
	before, end := median(t.Y[from:from+k]), median(t.Y[len(t.Y)-k:])
	error := sure * 1.2533 * noise(t.Y) * math.Sqrt(2/float64(k))
	return j.change(before, end), before-end > error && before-end > 0.01*math.Abs(j.errorOf(before)),
		end-before > error
}

// stalled reports whether validation has stood still for a good while in which training went on improving strongly, and
// since when.
func (j *judging) stalled(window, m int) (since float64, yes bool) {
	n := len(j.val.Y)
	end := median(j.val.Y[n-m:])
	error := 0.5 * 1.2533 * j.verdict.Noise * math.Sqrt(2/float64(m))
	from := n - window
	for from > 0 && j.level(from-1, m)-end <= error {
		from--
	}
	change, fell, _ := j.trained(j.val.X[from], m)
	if !fell || !(j.leftToLearn(j.val.X[from], m) >= strong) {
		return 0, false
	}
	j.verdict.Train, j.verdict.Val = change, j.change(j.level(from, m), end)
	return j.val.X[from], true
}

// leftToLearn is the share of the training error that went since a place.
func (j *judging) leftToLearn(since float64, m int) float64 {
	t := j.train.between(since, math.Inf(1))
	k := max(1, min(m, len(t)/2))
	if len(t) < 2 {
		return 0
	}
	before, end := median(t[:k]), median(t[len(t)-k:])
	return (j.errorOf(before) - j.errorOf(end)) / math.Abs(j.errorOf(before))
}

// thin keeps at most so many values, evenly, for what costs the square of their number.
func thin(y []float64) []float64 {
	const most = 200
	if len(y) <= most {
		return y
	}
	out := make([]float64, most)
	for i := range out {
		out[i] = y[i*len(y)/most]
	}
	return out
}

// settled is the first place from which the curve stayed near its end.
func (j *judging) settled(end, error, learnt float64) int {
	within := max(error, 2*j.verdict.Noise, worth*learnt)
	i := len(j.val.Y) - 1
	for i > 0 && math.Abs(j.val.Y[i-1]-end) <= within {
		i--
	}
	return i
}

// tooLittle reports whether training and validation are both poor and close together: little was learnt, and it is not
// for lack of data.
func (j *judging) tooLittle(start, end float64) bool {
	if len(j.train.Y) < least {
		return false
	}
	began := max(j.errorOf(start), j.errorOf(median(j.train.Y[:1])))
	left, gap := j.errorOf(end), math.Abs(j.verdict.Gap)
	return began > 0 && left > poor*began && gap <= max(near*left, 2*j.verdict.Noise)
}

// diverged reports whether a curve ended in values that are not finite, or exploded: it lies above where it began, by
// several times all that it had learnt.
func (j *judging) diverged() (at float64, yes bool) {
	t := j.train.Y
	learns := len(t) >= 3 && median(t[len(t)-3:]) < t[0]
	for i, s := range []Series{j.val, j.train} {
		n := len(s.Broken)
		if n > 0 && s.Broken[n-1] == s.End { // since the first after which no place is whole
			i := n - 1
			for i > 0 && !s.wholeBetween(s.Broken[i-1], s.Broken[i]) {
				i--
			}
			return s.Broken[i], true
		}
		k := len(s.Y)
		// validation that rises while training falls is overfitting, however far it rises
		if k < 3 || i == 0 && learns {
			continue
		}
		best := s.Y[0]
		for _, y := range s.Y {
			best = min(best, y)
		}
		start := max(s.Y[0], s.Y[1])
		limit := start + explosion*max(start-best, 3*noise(s.Y), 0.1*math.Abs(start))
		if median(s.Y[max(0, k-3):]) <= limit {
			continue
		}
		at := k - 1
		for at > 0 && s.Y[at-1] > start {
			at--
		}
		return s.X[at], true
	}
	return 0, false
}
