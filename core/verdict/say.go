package verdict

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"kembrel/core/curve"
)

// Say puts a verdict into a sentence or two: what the curves say, with the evidence, and the best reading.
func (v Verdict) Say(o Objective, s curve.Summary) string {
	if s.Count == 0 {
		return "No reading of " + o.Curve + " yet."
	}
	best, ok := o.Best(s)
	if !ok {
		return fmt.Sprintf("%s never was a number: all %d readings are NaN or infinite.", o.Curve, s.Count)
	}
	bestText := fmt.Sprintf(" Best %s %s.", Number(best.Value), Place(best.Point))
	measure, _ := curve.SplitName(o.Curve)
	switch v.Kind {
	case TooShort:
		return fmt.Sprintf("Too short to tell after %s.", v.length(float64(v.Places))) + bestText
	case TooNoisy:
		return fmt.Sprintf("Too noisy to tell: %s scatters by %s around its trend, so a change of %s would not be seen.",
			o.Curve, Number(v.Noise), percent(v.Unseen)) + bestText
	case Diverged:
		what := "its values exploded."
		if math.IsNaN(s.Last.Value) || math.IsInf(s.Last.Value, 0) {
			what = o.Curve + " is no longer a number."
		}
		return fmt.Sprintf("Diverged %s: %s", v.in(), what) + strings.Replace(bestText, " Best", " It was best at", 1)
	case Overfitting:
		val := moved(v.Val)
		if math.Abs(v.Val) < 0.01 || (v.Val < 0) == (o.Direction == Lower) {
			val = "did not improve"
		}
		return fmt.Sprintf("Overfitting since %s: training %s %s, validation %s %s.", v.place(), measure,
			strings.Replace(moved(v.Train), " ", " a further ", 1), measure, val) + bestText
	case Improving:
		return fmt.Sprintf("Still improving: %s %s since %s.", o.Curve, moved(v.Val), v.place()) + bestText
	case Underfitting:
		return fmt.Sprintf("Underfitting: training and validation are close together (%s apart) and both poor; %s of the first error was learnt, and since %s nothing.",
			Number(math.Abs(v.Gap)), percent(v.Learnt), v.place()) + bestText
	case Converged:
		return fmt.Sprintf("Converged since %s: %s stays where it is.", v.place(), o.Curve) + bestText
	}
	return strings.TrimSpace(bestText)
}

func percent(share float64) string {
	return strconv.FormatFloat(roundTo(100*math.Abs(share)), 'f', -1, 64) + " %"
}

// roundTo keeps two significant digits of small numbers, whole ones of others.
func roundTo(v float64) float64 {
	if v >= 10 || v == 0 {
		return math.Round(v)
	}
	scale := math.Pow(10, 1-math.Floor(math.Log10(v)))
	return math.Round(v*scale) / scale
}

func moved(share float64) string {
	switch {
	case math.IsNaN(share) || math.IsInf(share, 0):
		return "changed"
	case math.Abs(share) < 0.0005:
		return "stayed"
	case share < 0:
		return "fell " + percent(share)
	}
	return "rose " + percent(share)
}

func (v Verdict) place() string {
	if v.By == curve.ByEpoch {
		return "epoch " + strconv.FormatFloat(v.Since, 'f', -1, 64)
	}
	return "step " + strconv.FormatFloat(v.Since, 'f', -1, 64)
}

func (v Verdict) in() string {
	if v.By == curve.ByEpoch {
		return "in " + v.place()
	}
	return "at " + v.place()
}

func (v Verdict) length(n float64) string {
	if v.By == curve.ByEpoch {
		return plural(n, "epoch")
	}
	return plural(n, "reading")
}

// Place says where a point is: "in epoch 12", or "at step 480" where the epoch is unknown.
func Place(p curve.Point) string {
	if math.IsNaN(p.Epoch) {
		return fmt.Sprintf("at step %d", p.Step)
	}
	return "in epoch " + strconv.FormatFloat(p.Epoch, 'f', -1, 64)
}

// Number writes a value for a sentence.
func Number(v float64) string {
	switch {
	case math.IsInf(v, 1):
		return "infinity"
	case math.IsInf(v, -1):
		return "minus infinity"
	}
	return curve.Number(v)
}

func plural(n float64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return strconv.FormatFloat(n, 'f', -1, 64) + " " + word + "s"
}
