package curve

import (
	"math"
	"strconv"
)

// Number writes a value for people: four significant digits, whole numbers below ten million whole, and NaN, Infinity,
// -Infinity.
func Number(v float64) string {
	switch {
	case math.IsNaN(v):
		return "NaN"
	case math.IsInf(v, 1):
		return "Infinity"
	case math.IsInf(v, -1):
		return "-Infinity"
	case v == math.Trunc(v) && math.Abs(v) < 1e7:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return strconv.FormatFloat(v, 'g', 4, 64)
}

// Apart writes two values for people with as many significant digits as it takes to see in which they differ, and one
// more; equal ones as Number does.
func Apart(a, b float64) (string, string) {
	if a == b || a != a && b != b {
		return Number(a), Number(b)
	}
	for digits := 4; digits < 17; digits++ {
		if strconv.FormatFloat(a, 'g', digits, 64) != strconv.FormatFloat(b, 'g', digits, 64) {
			return digitsOf(a, digits+1), digitsOf(b, digits+1)
		}
	}
	return digitsOf(a, 17), digitsOf(b, 17)
}

func digitsOf(v float64, digits int) string {
	if math.IsNaN(v) || math.IsInf(v, 0) || v == math.Trunc(v) && math.Abs(v) < 1e7 {
		return Number(v)
	}
	return strconv.FormatFloat(v, 'g', digits, 64)
}
