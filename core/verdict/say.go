package verdict

import (
	"fmt"
	"math"
	"strconv"

	"kembrel/core/curve"
)

// Say puts a run's objective into one sentence: the best reading, where it was, and how long ago; or where the curve
// stopped being a number. It compares what was read, and judges no further.
func Say(o Objective, s curve.Summary) string {
	if s.Count == 0 {
		return "No reading of " + o.Curve + " yet."
	}
	best, ok := o.Best(s)
	if !ok {
		return fmt.Sprintf("%s never was a number: all %d readings are NaN or infinite.", o.Curve, s.Count)
	}
	at := Place(best.Point)
	if v := s.Last.Value; math.IsNaN(v) || math.IsInf(v, 0) {
		return fmt.Sprintf("%s is no longer a number (%s %s). It was best at %s %s.", o.Curve, Number(v), Place(s.Last.Point), Number(best.Value), at)
	}
	if s.Last.Step == best.Step {
		return fmt.Sprintf("The last %s, %s %s, is the best so far.", o.Curve, Number(best.Value), at)
	}
	since := fmt.Sprintf("%d steps", s.Last.Step-best.Step)
	if d := s.Last.Epoch - best.Epoch; d >= 1 {
		since = plural(d, "epoch")
	}
	change := math.Abs(s.Last.Value-best.Value) / math.Abs(best.Value)
	text := fmt.Sprintf("Best %s %s %s; none better in the %s since", o.Curve, Number(best.Value), at, since)
	if change > 0 && !math.IsInf(change, 0) {
		text += fmt.Sprintf(", now %s %% worse", strconv.FormatFloat(100*change, 'g', 2, 64))
	}
	return text + "."
}

// Place says where a point is: "in epoch 12", or "at step 480" where the epoch is unknown.
func Place(p curve.Point) string {
	if math.IsNaN(p.Epoch) {
		return fmt.Sprintf("at step %d", p.Step)
	}
	return "in epoch " + strconv.FormatFloat(p.Epoch, 'f', -1, 64)
}

// Number writes a value with four significant digits.
func Number(v float64) string {
	switch {
	case math.IsInf(v, 1):
		return "infinity"
	case math.IsInf(v, -1):
		return "minus infinity"
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
}

func plural(n float64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return strconv.FormatFloat(n, 'f', -1, 64) + " " + word + "s"
}
