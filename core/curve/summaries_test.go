package curve

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSummariesComeBack(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	for range 50 {
		var all []Numbered
		for id := range r.IntN(20) {
			s := Numbered{Curve: id + 1, Summary: NewSummary()}
			if id%2 == 1 {
				s.Sketch.Every = NoSketch
			}
			for i := range r.IntN(300) {
				v := r.NormFloat64()
				switch r.IntN(20) {
				case 0:
					v = math.NaN()
				case 1:
					v = math.Inf(1)
				}
				s.Add(Reading{Point: Point{Step: int64(i), Epoch: math.NaN(), Time: int64(r.IntN(1 << 40))}, Value: v})
			}
			all = append(all, s)
		}
		packed := AppendSummaries(nil, all)
		got, err := DecodeSummaries(packed)
		require.NoError(t, err)
		require.Equal(t, packed, AppendSummaries(nil, got), "every bit comes back")
		require.Len(t, got, len(all))
		for i := range all { // and adding goes on as before
			next := Reading{Point: Point{Step: 1000, Epoch: 1}, Value: -9}
			a, b := all[i], got[i]
			a.Add(next)
			b.Add(next)
			require.Equal(t, AppendSummaries(nil, []Numbered{a}), AppendSummaries(nil, []Numbered{b}))
		}
		for cut := range packed {
			_, err := DecodeSummaries(packed[:cut])
			require.ErrorIs(t, err, ErrPayload)
		}
	}
}

func FuzzDecodeSummaries(f *testing.F) {
	s := Numbered{Curve: 1, Summary: NewSummary()}
	s.Add(Reading{Point: Point{Step: 1}, Value: 2})
	f.Add(AppendSummaries(nil, []Numbered{s, s}))
	f.Fuzz(func(t *testing.T, payload []byte) {
		got, err := DecodeSummaries(payload)
		if err == nil {
			_, err = DecodeSummaries(AppendSummaries(nil, got))
			require.NoError(t, err)
		}
	})
}
