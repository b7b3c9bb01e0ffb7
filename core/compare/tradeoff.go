package compare

import "math"

// Undominated marks the points that no other beats: none is at least as good in every figure and better in one. lower
// says of each figure whether less is better. A point with a NaN is not marked. O(points^2 x figures).
func Undominated(points [][]float64, lower []bool) []bool {
	out := make([]bool, len(points))
	for i, p := range points {
		out[i] = complete(p)
		for j := 0; out[i] && j < len(points); j++ {
			if j != i && complete(points[j]) && dominates(points[j], p, lower) {
				out[i] = false
			}
		}
	}
	return out
}

func complete(p []float64) bool {
	for _, v := range p {
		if math.IsNaN(v) {
			return false
		}
	}
	return true
}

func dominates(a, b []float64, lower []bool) bool {
	better := false
	for k := range a {
		x, y := a[k], b[k]
		if !lower[k] {
			x, y = -x, -y
		}
		if x > y {
			return false
		}
		better = better || x < y
	}
	return better
}
