package space

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
)

// The strategies.
const (
	Grid   = "grid"
	Random = "random"
)

// maxMisses is how many settings in a row may have been picked before until a random search takes the space for used
// up.
const maxMisses = 1000

// Pick picks at most n settings by a strategy, no two alike. The first settings are the same whatever n is.
func (s *Space) Pick(strategy string, seed uint64, n int) ([]Setting, error) {
	switch strategy {
	case Grid:
		return s.grid(n)
	case Random:
		return s.random(seed, n), nil
	}
	return nil, fmt.Errorf("there is no strategy %q; there are grid and random", strategy)
}

// grid lists settings in the order of the file, the last hyperparameter first.
func (s *Space) grid(n int) ([]Setting, error) {
	for _, r := range s.ranges {
		if r.choices == nil && r.steps == 0 && (!r.whole || r.high-r.low >= maxSteps) {
			return nil, fmt.Errorf("%s is a range: a grid must be told its steps, such as {real: [0.001, 0.1], log: true, steps: 3}", r.name)
		}
	}
	var out []Setting
	var below func(at int, so Setting)
	below = func(at int, so Setting) {
		if len(out) == n {
			return
		}
		if at == len(s.ranges) {
			out = append(out, append(Setting(nil), so...))
			return
		}
		r := s.ranges[at]
		if !r.applies(so) {
			below(at+1, so)
			return
		}
		for _, v := range r.places() {
			below(at+1, append(so[:len(so):len(so)], Value{r.name, v}))
		}
	}
	below(0, nil)
	return out, nil
}

// places are the values of a hyperparameter on a grid.
func (r span) places() []json.RawMessage {
	if r.choices != nil {
		return r.choices
	}
	steps := r.steps
	if steps == 0 {
		steps = int(r.high-r.low) + 1
	}
	var out []json.RawMessage
	for i := range steps {
		v := r.number(r.at(float64(i) / float64(steps-1)))
		if len(out) == 0 || string(out[len(out)-1]) != string(v) { // neighbouring integers may round to one
			out = append(out, v)
		}
	}
	return out
}

func (s *Space) random(seed uint64, n int) []Setting {
	r := rand.New(rand.NewPCG(seed, 0))
	var out []Setting
	known := map[string]bool{}
	for misses := 0; len(out) < n && misses < maxMisses; {
		var so Setting
		for _, h := range s.ranges {
			share, pick := r.Float64(), r.Float64() // drawn also where they are not needed
			switch {
			case !h.applies(so):
			case h.choices != nil:
				so = append(so, Value{h.name, h.choices[int(pick*float64(len(h.choices)))]})
			default:
				so = append(so, Value{h.name, h.number(h.drawn(share))})
			}
		}
		if text := so.String(); known[text] {
			misses++
		} else {
			known[text], misses = true, 0
			out = append(out, so)
		}
	}
	return out
}

// drawn is a value of a range at a share of its way; each integer has the same share, also of a logarithmic range's.
func (r span) drawn(share float64) float64 {
	if !r.whole {
		return r.at(share)
	}
	wide := span{low: r.low - 0.5, high: r.high + 0.5, log: r.log}
	return math.Min(math.Max(math.Round(wide.at(share)), r.low), r.high)
}
