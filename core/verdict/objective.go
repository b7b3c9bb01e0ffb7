package verdict

import (
	"encoding/json"
	"fmt"
	"math"
	"strings"

	"kembrel/core/curve"
)

// Direction says which way a measure improves.
type Direction string

// The two directions: losses go down, accuracies go up.
const (
	Lower  Direction = "lower"
	Higher Direction = "higher"
)

// Objective is the curve by which a run is judged, and its direction; written "loss.val lower".
type Objective struct {
	Curve     string    `json:"curve" minLength:"1" maxLength:"200" example:"loss.val"`
	Direction Direction `json:"direction" enum:"lower,higher" doc:"Which way it improves"`
}

// UnmarshalJSON reads an object; and one text, as spools had it that were written before there were objects.
func (o *Objective) UnmarshalJSON(text []byte) error {
	if len(text) > 0 && text[0] == '"' {
		var said string
		if err := json.Unmarshal(text, &said); err != nil || said == "" {
			return err
		}
		was, err := ParseObjective(said)
		*o = was
		return err
	}
	type plain Objective
	return json.Unmarshal(text, (*plain)(o))
}

// ParseObjective reads "loss.val lower" or "accuracy.val higher".
func ParseObjective(text string) (Objective, error) {
	name, direction, _ := strings.Cut(strings.TrimSpace(text), " ")
	o := Objective{Curve: name, Direction: Direction(strings.TrimSpace(direction))}
	if err := o.Check(); err != nil {
		return Objective{}, err
	}
	return o, nil
}

// Check says what is wrong with an objective, or nil.
func (o Objective) Check() error {
	if err := curve.CheckName(o.Curve); err != nil {
		return fmt.Errorf("objective %q: %w", o.String(), err)
	}
	if o.Direction != Lower && o.Direction != Higher {
		return fmt.Errorf("objective %q needs a direction: write %q or %q", o.String(), o.Curve+" lower",
			o.Curve+" higher")
	}
	return nil
}

// String writes the objective as ParseObjective reads it.
func (o Objective) String() string { return strings.TrimSpace(o.Curve + " " + string(o.Direction)) }

// Best is the extreme of a summary in the objective's direction. It is false where no finite value was read.
func (o Objective) Best(s curve.Summary) (curve.Reading, bool) {
	best := s.Lowest
	if o.Direction == Higher {
		best = s.Highest
	}
	return best, !math.IsNaN(best.Value)
}
