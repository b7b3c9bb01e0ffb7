package curve

import "math"

// Smooth is the exponential moving mean of values that stand at x (rising; any unit): a reading's weight halves for every
// halfLife of x that passes. The start is corrected for bias, as in Kingma and Ba, "Adam", 2015, section 3, so the first
// result equals the first value. A value that is not finite stays as it is and does not disturb those after it.
// A halfLife of 0 or less returns a copy. len(x) must equal len(values). O(n).
func Smooth(x, values []float64, halfLife float64) []float64 {
	out := append([]float64(nil), values...)
	if halfLife <= 0 {
		return out
	}
	var sum, weight, at float64
	for i, v := range values {
		if math.IsNaN(v) || math.IsInf(v, 0) {
			continue
		}
		decay := 1.0
		if weight > 0 {
			decay = math.Exp2(-math.Max(0, x[i]-at) / halfLife)
		}
		// With decay 1 (readings at the same x) this is the plain mean.
		sum, weight, at = sum*decay+v, weight*decay+1, x[i]
		out[i] = sum / weight
	}
	return out
}
