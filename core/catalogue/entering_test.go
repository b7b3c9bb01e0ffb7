package catalogue

import (
	"math"
	"testing"

	"github.com/stretchr/testify/require"
)

// A rule lets in what is better than the edition in use by more than the noise between seeds, or by its margin.
func TestJudge(t *testing.T) {
	margin := func(v float64) Entering { return Entering{Margin: &v} }
	nan, each := math.NaN(), Entering{Each: true}
	seeds := []float64{0.30, 0.31, 0.32, 0.29}
	inUse := &Contender{Figure: 0.30, Seeds: seeds}
	alone := &Contender{Figure: 0.30}
	at := func(v float64, seeds ...float64) Contender { return Contender{Figure: v, Seeds: seeds} }
	of := func(v float64, seeds ...float64) *Contender { c := at(v, seeds...); return &c }
	for name, c := range map[string]struct {
		rule   Entering
		run    Contender
		inUse  *Contender
		since  []float64
		higher bool
		want   Fate
	}{
		"far below the seeds in use": {run: at(0.20), inUse: inUse, want: Enters},
		"among them":                 {run: at(0.295), inUse: inUse, want: WithinNoise},
		"worse":                      {run: at(0.40), inUse: inUse, want: NotBetter},
		"equal":                      {run: at(0.30), inUse: inUse, want: NotBetter},
		"higher is better":           {run: at(0.90), inUse: of(0.80, 0.81, 0.79), higher: true, want: Enters},
		"higher is better; lower":    {run: at(0.20), inUse: of(0.80, 0.81, 0.79), higher: true, want: NotBetter},
		"one each":                   {run: at(0.20), inUse: alone, want: NoiseUnknown},
		"several seeds of its own":   {run: at(0.20, 0.201, 0.199, 0.2), inUse: alone, want: Enters},
		"of its own, wide apart":     {run: at(0.20, 0.35, 0.28, 0.2), inUse: alone, want: WithinNoise},
		"by the margin":              {rule: margin(0.05), run: at(0.24), inUse: alone, want: Enters},
		"not by the margin":          {rule: margin(0.05), run: at(0.26), inUse: alone, want: NotBetter},
		"just the margin":            {rule: margin(0), run: at(0.30), inUse: alone, want: NotBetter},
		"none in use":                {run: at(0.90), want: Enters},
		"none, but a better waits":   {run: at(0.90), since: []float64{0.5}, want: AnotherBetter},
		"a better one waits":         {run: at(0.20), inUse: inUse, since: []float64{0.25, 0.19}, want: AnotherBetter},
		"each enters":                {rule: each, run: at(0.2), inUse: inUse, since: []float64{0.1}, want: Enters},
		"no figure":                  {run: at(nan), inUse: inUse, want: NoFigure},
		"infinite":                   {run: at(math.Inf(-1)), inUse: inUse, want: NoFigure},
		"in use without a figure":    {run: at(0.3), inUse: of(nan), want: Enters},
		"odd seeds are left out":     {run: at(0.2), inUse: of(0.30, nan, math.Inf(1)), want: NoiseUnknown},
	} {
		got := c.rule.Judge(c.run, c.inUse, c.since, !c.higher)
		require.Equal(t, c.want, got.Fate, name)
		if c.want == Enters && c.inUse != nil && !math.IsNaN(got.Low) {
			require.Positive(t, got.Low, name)
			require.Less(t, got.Low, got.Better, name)
		}
	}
	require.InDelta(t, 0.1, Entering{}.Judge(at(0.9), of(0.8, 0.8), nil, false).Better, 1e-12)
}
