package main

import "math"

// optimiser changes parameters by their gradients. Its state is what must be saved to go on as if nothing had happened.
type optimiser struct {
	kind     string // momentum or adam
	momentum float64
	steps    int
	first    map[string][]float64 // velocity, or first moment
	second   map[string][]float64 // second moment, for adam
}

func newOptimiser(kind string, momentum float64) *optimiser {
	return &optimiser{kind: kind, momentum: momentum, first: map[string][]float64{}, second: map[string][]float64{}}
}

// step moves the parameters, but for those of the first frozen layers, by the mean gradient over count clips, clears
// the gradients, and returns the gradient's norm.
func (o *optimiser) step(parameters []parameter, frozen int, rate float64, count int) float64 {
	o.steps++
	norm := 0.0
	for i := range min(2*frozen, len(parameters)) { // weights and bias
		clear(parameters[i].grad)
	}
	for _, p := range parameters[min(2*frozen, len(parameters)):] {
		first := state(o.first, p)
		for i := range p.grad {
			g := p.grad[i] / float64(count)
			p.grad[i] = 0
			norm += g * g
			if o.kind == "momentum" {
				first[i] = o.momentum*first[i] - rate*g
				p.values[i] += first[i]
				continue
			}
			// Kingma and Ba, "Adam", 2015, algorithm 1.
			second := state(o.second, p)
			first[i] = 0.9*first[i] + 0.1*g
			second[i] = 0.999*second[i] + 0.001*g*g
			m := first[i] / (1 - math.Pow(0.9, float64(o.steps)))
			v := second[i] / (1 - math.Pow(0.999, float64(o.steps)))
			p.values[i] -= rate * m / (math.Sqrt(v) + 1e-8)
		}
	}
	return math.Sqrt(norm)
}

func state(of map[string][]float64, p parameter) []float64 {
	s := of[p.name]
	if s == nil {
		s = make([]float64, len(p.values))
		of[p.name] = s
	}
	return s
}

// schedule is the learning rate in an epoch: multiplied by drop every so many epochs (0: never).
func schedule(rate float64, epoch, every int, drop float64) float64 {
	if every > 0 {
		rate *= math.Pow(drop, float64((epoch-1)/every))
	}
	return rate
}
