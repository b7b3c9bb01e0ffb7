package kept

import (
	"math"

	"gonum.org/v1/gonum/stat/distuv"
)

// Optimism is by how much the best of k independent tries at a share (an accuracy) looks better than it is, on average,
// by luck alone: the expected largest of k standard normal draws, by Blom's approximation (1958), times the standard
// error of the share p over n examples. Tries of models that resemble each other are not independent: it is an upper
// estimate. NaN where there is nothing to say.
func Optimism(p float64, n int64, k int) float64 {
	if k < 1 || n < 1 || !(p >= 0 && p <= 1) {
		return math.NaN()
	}
	if k == 1 {
		return 0
	}
	largest := distuv.UnitNormal.Quantile((float64(k) - 0.375) / (float64(k) + 0.25))
	return largest * math.Sqrt(p*(1-p)/float64(n))
}
