package tensor

import (
	"fmt"
	"math"
)

// Health says what is wrong with a tensor over time, or "": its statistics at each checkpoint, the earliest first.
//
//   - not numbers: some elements are NaN or infinite;
//   - dead: all elements, or 99 of 100 of a matrix, are 0, or a matrix has no deviation at all;
//   - exploding: its deviation is 100 times what it was at first, or an element beyond 1e4 has grown 100 times.
func Health(t Info, over []Statistics) string {
	if len(over) == 0 {
		return ""
	}
	first, last := over[0], over[len(over)-1]
	finite := last.Count - last.NaN - last.Infinite
	matrix := len(t.Shape) > 1
	size := func(s Statistics) float64 { return math.Max(math.Abs(s.Min), math.Abs(s.Max)) }
	switch {
	case last.NaN+last.Infinite > 0:
		return fmt.Sprintf("not numbers: %d elements", last.NaN+last.Infinite)
	case finite == 0:
		return ""
	case matrix && (last.Zero*100 >= finite*99 || last.Deviation == 0 && finite > 1):
		return "dead"
	case first.Deviation > 0 && last.Deviation > 100*first.Deviation, size(last) > 1e4 && size(last) > 100*size(first):
		return "exploding"
	}
	return ""
}
