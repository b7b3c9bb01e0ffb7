package curve

import "math"

// Ends says for each leg of a run, in their order, at which step it ends to count: a later leg's readings replace the
// earlier legs' from the step where it starts. starts are the legs' first steps; a leg counts for steps below its end.
// O(n).
func Ends(starts []int64) []int64 {
	out := make([]int64, len(starts))
	end := int64(math.MaxInt64)
	for i := len(starts) - 1; i >= 0; i-- {
		out[i] = end
		end = min(end, starts[i])
	}
	return out
}
