package curve

import (
	"math"
	"sort"
)

// Stretch is one leg's readings of one curve, in the order of their steps, and the step from which the leg counts.
type Stretch struct {
	From     int64
	Readings []Reading
}

// Join makes one curve of the legs of a run: a later leg's readings replace the earlier legs' from the step where it
// starts. Stretches come in the order of the legs. Nothing is altered; O(n) in the readings returned.
func Join(stretches []Stretch) []Reading {
	var out []Reading
	for i, s := range stretches {
		end := int64(math.MaxInt64)
		for _, later := range stretches[i+1:] {
			end = min(end, later.From)
		}
		keep := sort.Search(len(s.Readings), func(k int) bool { return s.Readings[k].Step >= end })
		if end == math.MaxInt64 {
			keep = len(s.Readings)
		}
		out = append(out, s.Readings[:keep]...)
	}
	return out
}
