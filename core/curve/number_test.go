package curve

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
)

// Values that differ are seen to differ, however little.
func TestApart(t *testing.T) {
	for _, c := range []struct {
		a, b  float64
		wantA string
		wantB string
	}{
		{0.5, 0.5, "0.5", "0.5"}, {0.31, 0.45, "0.31", "0.45"}, {0.3712345, 0.3712399, "0.371235", "0.37124"},
		{0.1, math.Nextafter(0.1, 1), "0.10000000000000001", "0.10000000000000002"}, {3, 3.0000001, "3", "3.0000001"},
		{math.NaN(), math.NaN(), "NaN", "NaN"}, {math.NaN(), 1, "NaN", "1"},
		{math.Inf(1), math.Inf(-1), "Infinity", "-Infinity"},
	} {
		a, b := Apart(c.a, c.b)
		require.Equal(t, []string{c.wantA, c.wantB}, []string{a, b})
	}
}
