package verdict

import (
	"fmt"
	"math"
	"strconv"

	"kembrel/core/curve"
)

// StopRule says when a run has gone on for long enough: a curve has not improved for Patience epochs.
type StopRule struct {
	Objective Objective `json:"objective,omitempty,omitzero" doc:"The curve that is watched, and its direction; absent: the run's objective"`
	Patience  float64   `json:"patience" doc:"Epochs without improvement after which to stop; readings, where epochs are unknown"`
	Margin    float64   `json:"margin" doc:"The smallest change that counts as improvement"`
	Relative  bool      `json:"relative" doc:"The margin is a share of the best value so far"`
	Earliest  float64   `json:"earliest" doc:"The epoch before which nothing is stopped"`
	Diverged  bool      `json:"diverged" doc:"Also stop at once when the objective is not a number or infinite"`
}

// Check says what is wrong with a rule, or nil.
func (r StopRule) Check() error {
	if r.Objective != (Objective{}) {
		if err := r.Objective.Check(); err != nil {
			return fmt.Errorf("stop rule: %w", err)
		}
	}
	for what, v := range map[string]float64{"patience": r.Patience, "margin": r.Margin, "earliest": r.Earliest} {
		if v < 0 || math.IsNaN(v) || math.IsInf(v, 0) {
			return fmt.Errorf("stop rule: %s is %v; it is a number from 0 up", what, v)
		}
	}
	switch {
	case r.Patience == 0 && !r.Diverged:
		return fmt.Errorf("stop rule: give a patience, in epochs; or say that it is only for divergence")
	case r.Relative && r.Margin >= 1:
		return fmt.Errorf("stop rule: a relative margin is a share below 1, such as 0.01, not %v", r.Margin)
	}
	return nil
}

// Of is the objective that the rule watches in a run with this one.
func (r StopRule) Of(run Objective) Objective {
	if r.Objective == (Objective{}) {
		return run
	}
	return r.Objective
}

// Say writes the rule for people.
func (r StopRule) Say() string { return r.say(r.Of(Objective{}).Curve) }

func (r StopRule) say(of string) string {
	text := ""
	if of != "" {
		of = " of " + of
	}
	if r.Patience > 0 {
		text = "no improvement" + of
		if r.Relative {
			text += " by " + percent(r.Margin)
		} else if r.Margin > 0 {
			text += " by " + strconv.FormatFloat(r.Margin, 'g', -1, 64)
		}
		text += " in " + plural(r.Patience, "epoch")
		if r.Earliest > 0 {
			text += ", not before epoch " + strconv.FormatFloat(r.Earliest, 'f', -1, 64)
		}
	}
	if r.Diverged {
		if text != "" {
			text += ", or "
		}
		text += "not a number"
	}
	return text
}

// Watch applies a rule to the readings of the objective that it watches, one after another. It is all that has to be
// remembered between readings, so that two who see the same readings decide the same.
type Watch struct {
	Readings int64          // seen
	Best     curve.Reading  // so far; of equal ones the earliest
	Mark     curve.Reading  // the last that improved by the margin
	At       int64          // its number
	Stop     *curve.Reading // the reading at which the rule says stop
}

// Add takes the next reading and reports whether the rule says to stop, now or since an earlier one. O(1).
func (w *Watch) Add(o Objective, r StopRule, v curve.Reading) bool {
	if w.Stop != nil {
		return true
	}
	w.Readings++
	finite := !math.IsNaN(v.Value) && !math.IsInf(v.Value, 0)
	if !finite && r.Diverged {
		w.Stop = &v
		return true
	}
	if finite && (w.At == 0 || o.better(v.Value, w.Best.Value, 0)) {
		w.Best = v
	}
	margin := r.Margin
	if r.Relative {
		margin *= math.Abs(w.Mark.Value)
	}
	if finite && (w.At == 0 || o.better(v.Value, w.Mark.Value, margin)) {
		w.Mark, w.At = v, w.Readings
	}
	if r.Patience > 0 && w.waited(v) >= r.Patience && !(v.Epoch < r.Earliest) {
		w.Stop = &v
	}
	return w.Stop != nil
}

// waited is how long there was no improvement: epochs, or readings where they are unknown.
func (w *Watch) waited(v curve.Reading) float64 {
	since := v.Epoch - w.Mark.Epoch
	if w.At == 0 || math.IsNaN(since) {
		return float64(w.Readings - w.At)
	}
	return since
}

// Left is how much of the patience is left, in epochs, after a reading.
func (w *Watch) Left(r StopRule, v curve.Reading) float64 { return max(0, r.Patience-w.waited(v)) }

func (o Objective) better(a, b, margin float64) bool {
	if o.Direction == Higher {
		return a > b+margin
	}
	return a < b-margin
}

// Why says why the rule stopped the run.
func (w *Watch) Why(o Objective, r StopRule) string {
	if w.Stop == nil {
		return ""
	}
	text := fmt.Sprintf("Stop rule: %s, %s.", r.say(o.Curve), Place(w.Stop.Point))
	if math.IsNaN(w.Stop.Value) || math.IsInf(w.Stop.Value, 0) {
		text = fmt.Sprintf("Stop rule: %s is no longer a number, %s.", o.Curve, Place(w.Stop.Point))
	}
	if w.At > 0 {
		text += fmt.Sprintf(" Best %s %s.", Number(w.Best.Value), Place(w.Best.Point))
	}
	return text
}

// Outcome is what a rule would have done to a run that went on.
type Outcome struct {
	Watch
	End   curve.Reading // the run's last reading of the objective
	Later curve.Reading // the best of all
}

// Try applies a rule to all readings of a run's objective. O(n).
func Try(o Objective, r StopRule, readings []curve.Reading) Outcome {
	out := Outcome{}
	known := false
	for _, v := range readings {
		out.Add(o, r, v)
		out.End = v
		if math.IsNaN(v.Value) || math.IsInf(v.Value, 0) {
			continue
		}
		if !known || o.better(v.Value, out.Later.Value, 0) {
			out.Later, known = v, true
		}
	}
	return out
}

// Saved is how many epochs and milliseconds would not have been spent; epochs NaN where unknown.
func (t Outcome) Saved() (epochs float64, ms int64) {
	if t.Stop == nil {
		return 0, 0
	}
	return t.End.Epoch - t.Stop.Epoch, t.End.Time - t.Stop.Time
}

// Lost is by how much the best reading would have been worse, 0 for not at all.
func (t Outcome) Lost() float64 {
	if t.Stop == nil || t.At == 0 {
		return 0
	}
	return math.Abs(t.Later.Value - t.Best.Value)
}
