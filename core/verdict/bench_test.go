package verdict

import (
	"fmt"
	"math"
	"testing"

	"kembrel/core/curve"
)

// What judging a run costs: ns by places.
func BenchmarkJudge(b *testing.B) {
	for _, n := range []int{30, 120, 512} {
		var train, val Series
		for i := range n {
			x := float64(i + 1)
			train.X, train.Y = append(train.X, x), append(train.Y, 2*math.Exp(-x/20)+0.1*math.Sin(x))
			val.X, val.Y = append(val.X, x), append(val.Y, 2*math.Exp(-x/20)+0.3+0.1*math.Cos(3*x))
		}
		train.End, val.End = float64(n), float64(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				Judge(Objective{Curve: "loss.val", Direction: Lower}, curve.ByEpoch, train, val)
			}
		})
	}
}
