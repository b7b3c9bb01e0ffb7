package compare

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// A figure that is a known function of two hyperparameters: the effects follow it, and what plays no part has none.
func TestEffects(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	var runs []Run
	var figure []float64
	for range 150 {
		rate, optimiser, width := math.Pow(10, -4+3*r.Float64()), []string{"adam", "momentum"}[r.IntN(2)], r.IntN(100)
		runs = append(runs, Run{Hyper: map[string]json.RawMessage{"lr": json.RawMessage(fmt.Sprint(rate)),
			"optimiser": json.RawMessage(fmt.Sprintf("%q", optimiser)), "width": json.RawMessage(fmt.Sprint(width))}})
		y := math.Pow(math.Log10(rate)+2.5, 2) + 0.02*r.NormFloat64() // best at lr = 0.003
		if optimiser == "momentum" {
			y++
		}
		figure = append(figure, y)
	}
	m := Influences(runs, figure)
	byName := map[string]Influence{}
	for _, i := range m.Influences {
		byName[i.Name] = i
	}
	lr := byName["lr"].Effects
	require.Len(t, lr, effectPlaces)
	best, last := lr[0], -1.0
	for _, e := range lr {
		v, ok := toNumber(e.Value)
		require.True(t, ok)
		require.Greater(t, v, last, "in the order of values")
		last = v
		require.LessOrEqual(t, e.Low, e.Mean)
		require.LessOrEqual(t, e.Mean, e.High)
		if e.Mean < best.Mean {
			best = e
		}
	}
	at, _ := toNumber(best.Value)
	require.InDelta(t, -2.5, math.Log10(at), 0.6)
	require.Greater(t, lr[0].Mean, best.Mean+0.5)
	words := map[string]float64{}
	for _, e := range byName["optimiser"].Effects {
		words[string(e.Value)] = e.Mean
	}
	require.Greater(t, words[`"momentum"`]-words[`"adam"`], 0.4)
	for _, e := range byName["width"].Effects { // nothing, within the noise
		require.InDelta(t, byName["width"].Effects[0].Mean, e.Mean, 0.35)
	}
	again := Influences(runs, figure).Influences[0].Effects
	require.Equal(t, m.Influences[0].Effects, again, "the same runs give the same")
	require.Empty(t, Influences(runs[:4], figure[:4]).Influences[0].Effects, "too few runs")
}

func TestUnrank(t *testing.T) {
	sorted := []float64{1, 2, 4, 8}
	for rank, want := range map[float64]float64{0: 1, 1: 1, 1.5: 1.5, 3: 4, 3.5: 6, 4: 8, 9: 8} {
		require.InDelta(t, want, unrank(sorted, rank), 1e-12, rank)
	}
	require.InDelta(t, 3, unrank([]float64{3}, 1), 0)
}
