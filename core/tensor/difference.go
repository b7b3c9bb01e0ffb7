package tensor

import (
	"bytes"
	"cmp"
	"io"
	"math"
	"slices"
)

// Difference says how the elements of a tensor changed from one file to another.
type Difference struct {
	Name     string  `json:"name"`
	Shape    []int64 `json:"shape"`
	Equal    bool    `json:"equal"`         // bit for bit
	Distance float64 `json:"distance"`      // Euclidean, over the elements that are finite in both
	Relative float64 `json:"relative"`      // to the norm before; 0 where both are 0
	Cosine   float64 `json:"cosine"`        // of the angle between; 1 where one is all zeros
	Largest  float64 `json:"largest"`       // largest change of one element, without its sign
	At       int64   `json:"at"`            // which element, row-major from 0
	Odd      int64   `json:"odd,omitempty"` // elements not finite in one of them, left out of the figures
}

// Differ compares the tensors that both files have in the same shape, in the order of the first, streaming both. The
// two dtypes may differ.
func Differ(before, after *File) ([]Difference, error) {
	index := map[string]int{}
	for k, t := range after.Tensors {
		index[t.Name] = k
	}
	out := []Difference{}
	for i, t := range before.Tensors {
		k, ok := index[t.Name]
		if !ok || !slices.Equal(t.Shape, after.Tensors[k].Shape) {
			continue
		}
		d, err := differ(before, i, after, k)
		if err != nil {
			return nil, err
		}
		out = append(out, d)
	}
	return out, nil
}

func differ(before *File, i int, after *File, k int) (Difference, error) {
	a, b := before.Tensors[i], after.Tensors[k]
	d := Difference{Name: a.Name, Shape: a.Shape, Equal: a.Dtype == b.Dtype, Cosine: 1}
	from, err := before.Data(i)
	if err != nil {
		return d, err
	}
	to, err := after.Data(k)
	if err != nil {
		return d, err
	}
	squares, normA, normB, dot, at := 0.0, 0.0, 0.0, 0.0, int64(0)
	var other []byte
	var short error
	var values []float64
	err = blocks(from, a, func(data []byte, x []float64) {
		size := int64(len(data)) / widths[a.Dtype] * widths[b.Dtype]
		other = slices.Grow(other[:0], int(size))[:size]
		if _, failed := io.ReadFull(to, other); failed != nil {
			short = bad("tensor %q cut short", b.Name)
			return
		}
		d.Equal = d.Equal && bytes.Equal(data, other)
		values = floats(b.Dtype, other, values[:0])
		for n := range min(len(x), len(values)) {
			u, v := x[n], values[n]
			at++
			if u-u != 0 || v-v != 0 {
				d.Odd++
				continue
			}
			change := math.Abs(v - u)
			if change > d.Largest {
				d.Largest, d.At = change, at-1
			}
			squares, normA, normB, dot = squares+change*change, normA+u*u, normB+v*v, dot+u*v
		}
	})
	if err = cmp.Or(err, short); err != nil {
		return d, err
	}
	d.Distance = math.Sqrt(squares)
	switch {
	case normA > 0:
		d.Relative = d.Distance / math.Sqrt(normA)
	case d.Distance > 0:
		d.Relative = math.Inf(1)
	}
	if normA > 0 && normB > 0 {
		d.Cosine = max(-1, min(1, dot/math.Sqrt(normA)/math.Sqrt(normB)))
	}
	return d, nil
}
