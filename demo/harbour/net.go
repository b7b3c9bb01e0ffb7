package main

import (
	"fmt"
	"math"
	"math/rand/v2"
)

// layer is a dense layer: outputs = activation(weights x inputs + bias).
type layer struct {
	in, out int
	weights []float64 // out x in, row-major
	bias    []float64
	gradW   []float64
	gradB   []float64
	output  []float64 // of the latest forward pass
	delta   []float64
	dropped []float64 // factor of each output: 0 or 1/(1-rate)
}

// network is dense layers with an activation between, and softmax at the end.
type network struct {
	layers     []*layer
	activation string // tanh or relu
	dropout    float64
}

// newNetwork makes layers of these sizes; weights are drawn as Glorot and Bengio (2010) for tanh and He et al. (2015)
// for relu.
func newNetwork(sizes []int, activation string, dropout float64, rng *rand.Rand) *network {
	n := &network{activation: activation, dropout: dropout}
	for i := range len(sizes) - 1 {
		in, out := sizes[i], sizes[i+1]
		l := &layer{in: in, out: out, weights: make([]float64, in*out), bias: make([]float64, out),
			gradW: make([]float64, in*out),
			gradB: make([]float64, out), output: make([]float64, out), delta: make([]float64, out),
			dropped: make([]float64, out)}
		scale := math.Sqrt(2 / float64(in+out))
		if activation == "relu" {
			scale = math.Sqrt(2 / float64(in))
		}
		for k := range l.weights {
			l.weights[k] = scale * rng.NormFloat64()
		}
		n.layers = append(n.layers, l)
	}
	return n
}

// forward returns the probabilities of the classes. With rng set, hidden outputs are dropped as in training.
func (n *network) forward(input []float64, rng *rand.Rand) []float64 {
	for i, l := range n.layers {
		last := i == len(n.layers)-1
		for o := range l.out {
			sum := l.bias[o]
			row := l.weights[o*l.in : (o+1)*l.in]
			for k, v := range input {
				sum += row[k] * v
			}
			if !last {
				sum = n.activate(sum)
				l.dropped[o] = 1
				if rng != nil && n.dropout > 0 {
					l.dropped[o] = 0
					if rng.Float64() >= n.dropout {
						l.dropped[o] = 1 / (1 - n.dropout)
					}
				}
				sum *= l.dropped[o]
			}
			l.output[o] = sum
		}
		input = l.output
	}
	softmax(input)
	return input
}

func (n *network) activate(v float64) float64 {
	if n.activation == "relu" {
		if v < 0 {
			return 0
		}
		return v
	}
	return math.Tanh(v)
}

// softmax turns scores into probabilities, in place.
func softmax(v []float64) {
	top := v[0]
	for _, x := range v {
		if x > top {
			top = x
		}
	}
	sum := 0.0
	for i, x := range v {
		v[i] = math.Exp(x - top)
		sum += v[i]
	}
	for i := range v {
		v[i] /= sum
	}
}

// backward adds to the gradients for one clip, after forward.
func (n *network) backward(input []float64, class int) {
	last := n.layers[len(n.layers)-1]
	for o := range last.out {
		last.delta[o] = last.output[o]
	}
	last.delta[class]--
	for i := len(n.layers) - 1; i >= 0; i-- {
		l, from := n.layers[i], input
		if i > 0 {
			from = n.layers[i-1].output
		}
		for o, d := range l.delta {
			l.gradB[o] += d
			grad := l.gradW[o*l.in : (o+1)*l.in]
			for k, v := range from {
				grad[k] += d * v
			}
		}
		if i == 0 {
			return
		}
		below := n.layers[i-1]
		for k := range below.delta {
			sum := 0.0
			for o, d := range l.delta {
				sum += l.weights[o*l.in+k] * d
			}
			below.delta[k] = sum * n.slope(below, k)
		}
	}
}

// slope is the derivative of a hidden output with respect to its sum.
func (n *network) slope(l *layer, k int) float64 {
	factor := l.dropped[k]
	if factor == 0 {
		return 0
	}
	v := l.output[k] / factor
	if n.activation == "relu" {
		if v <= 0 {
			return 0
		}
		return factor
	}
	return factor * (1 - v*v)
}

// parameters lists all weights with their gradients, by name.
func (n *network) parameters() []parameter {
	var out []parameter
	for i, l := range n.layers {
		out = append(out,
			parameter{fmt.Sprintf("layer%d.weight", i+1), []int64{int64(l.out), int64(l.in)}, l.weights, l.gradW},
			parameter{fmt.Sprintf("layer%d.bias", i+1), []int64{int64(l.out)}, l.bias, l.gradB})
	}
	return out
}

type parameter struct {
	name   string
	shape  []int64
	values []float64
	grad   []float64
}

// evaluate is the mean cross-entropy and the share of clips right.
func (n *network) evaluate(clips []clip) (loss, accuracy float64) {
	right := 0
	for i := range clips {
		p := n.forward(clips[i].levels[:], nil)
		loss -= math.Log(math.Max(p[clips[i].class], 1e-12))
		if math.IsNaN(p[clips[i].class]) {
			loss = math.NaN()
		}
		best := 0
		for k, v := range p {
			if v > p[best] {
				best = k
			}
		}
		if best == clips[i].class {
			right++
		}
	}
	return loss / float64(len(clips)), float64(right) / float64(len(clips))
}

// recalls are, for each class, the share of its clips that are called so; NaN: there are none.
func (n *network) recalls(clips []clip) []float64 {
	right, of := make([]float64, len(classes)), make([]float64, len(classes))
	for i := range clips {
		c := &clips[i]
		of[c.class]++
		if best(n.forward(c.levels[:], nil)) == c.class {
			right[c.class]++
		}
	}
	for k := range right {
		right[k] /= of[k]
	}
	return right
}
