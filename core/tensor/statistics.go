package tensor

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"sort"
	"strings"

	"kembrel/core/chunk"
)

// Bins is how many bins a histogram has.
const Bins = 64

// Statistics describe the elements of a tensor. Mean, deviation, extremes and histogram are of the finite ones; all are
// 0 where there is none.
type Statistics struct {
	Count     int64       `json:"count"`
	NaN       int64       `json:"nan,omitempty"`
	Infinite  int64       `json:"infinite,omitempty"`
	Zero      int64       `json:"zero,omitempty"`
	Mean      float64     `json:"mean"`
	Deviation float64     `json:"deviation"` // of the population: the root of the mean squared distance from the mean
	Min       float64     `json:"min"`
	Max       float64     `json:"max"`
	Histogram [Bins]int64 `json:"histogram"` // equal bins from Min to Max, both included
}

// Quantile is the value below which a share of the finite elements lies, 0 to 1, by a straight line within its bin of
// the histogram: at most a bin's width from the true one. NaN where there is no finite element.
func (s Statistics) Quantile(share float64) float64 {
	finite := int64(0)
	for _, n := range s.Histogram {
		finite += n
	}
	if finite == 0 || !(share >= 0 && share <= 1) {
		return math.NaN()
	}
	// A sum and a product, not a difference first: the extremes may lie further apart than a float64 can say.
	edge := func(bin float64) float64 { return s.Min*(1-bin/Bins) + s.Max*(bin/Bins) }
	below, wanted := 0.0, share*float64(finite)
	for i, n := range s.Histogram {
		if n > 0 && below+float64(n) >= wanted {
			return edge(float64(i) + (wanted-below)/float64(n))
		}
		below += float64(n)
	}
	return s.Max
}

// Statistics reads the data of tensor i twice: for the extremes and the mean, then for the deviation and the histogram.
// O(elements), in blocks of 64 KiB. Complex elements count as two numbers.
func (f *File) Statistics(i int) (Statistics, error) {
	s := Statistics{Min: math.Inf(1), Max: math.Inf(-1)}
	sum := 0.0
	finite, odds := int64(0), int64(0)
	err := f.each(i, func(values []float64) {
		// sums of blocks are added up, which keeps the error small
		part, low, high, zero, odd := 0.0, s.Min, s.Max, int64(0), int64(0)
		for _, v := range values {
			if v-v != 0 { // NaN or infinite
				if odd++; v != v {
					s.NaN++
				}
				continue
			}
			if v == 0 {
				zero++
			}
			part += v
			if v < low {
				low = v
			}
			if v > high {
				high = v
			}
		}
		n := int64(len(values))
		s.Count, s.Min, s.Max, s.Zero, odds, finite = s.Count+n, low, high, s.Zero+zero, odds+odd, finite+n-odd
		sum += part
	})
	if err != nil {
		return s, err
	}
	s.Infinite = odds - s.NaN
	if finite == 0 {
		s.Min, s.Max = 0, 0
		return s, nil
	}
	s.Mean = sum / float64(finite)
	if math.IsInf(sum, 0) { // the sum of values near the end of the range
		s.Mean = 0
	}
	scale := 0.0
	if s.Max > s.Min {
		scale = Bins / (s.Max - s.Min)
	}
	squares := 0.0
	err = f.each(i, func(values []float64) {
		part, mean, low := 0.0, s.Mean, s.Min
		for _, v := range values {
			if v-v != 0 {
				continue
			}
			part += (v - mean) * (v - mean)
			bin := uint(int((v - low) * scale))
			if bin >= Bins { // the highest, where rounding lifts it
				bin = Bins - 1
			}
			s.Histogram[bin]++
		}
		squares += part
	})
	s.Deviation = math.Sqrt(squares / float64(finite))
	if math.IsInf(squares, 0) {
		s.Deviation = math.MaxFloat64
	}
	return s, err
}

// each hands over the elements of tensor i in blocks, in the order of the file. The slice must not be kept.
func (f *File) each(i int, do func(values []float64)) error {
	r, err := f.plain(i)
	if err != nil {
		return err
	}
	return blocks(r, f.Tensors[i], func(data []byte, values []float64) { do(values) })
}

// blocks reads the data of a tensor in blocks.
func blocks(r io.Reader, t Info, do func(data []byte, values []float64)) error {
	buffer, values := make([]byte, 64<<10), make([]float64, 0, 64<<10)
	for left := t.Bytes(); left > 0; {
		part := buffer[:min(left, int64(len(buffer)))]
		if _, err := io.ReadFull(r, part); err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return bad("tensor %q cut short", t.Name)
			}
			return fmt.Errorf("tensor %q: %w", t.Name, err)
		}
		values = floats(t.Dtype, part, values[:0])
		do(part, values)
		left -= int64(len(part))
	}
	return nil
}

// Fingerprint is a digest of the tensors of a file, the same for the same names, dtypes, shapes and values, whatever
// format holds them and in whatever order: BLAKE3-256 over, for each tensor in the order of names, the line "name,
// dtype, shape" as %q %s %v prints them, and the digest of its data.
func Fingerprint(files ...*File) (chunk.Digest, error) {
	var lines []string
	for _, f := range files {
		for i, t := range f.Tensors {
			r, err := f.Data(i)
			if err != nil {
				return chunk.Digest{}, err
			}
			h := chunk.NewHash()
			n, err := io.Copy(h, io.LimitReader(bufio.NewReaderSize(r, 256<<10), t.Bytes()))
			if err == nil && n < t.Bytes() {
				err = bad("tensor %q cut short", t.Name)
			}
			if err != nil {
				return chunk.Digest{}, err
			}
			lines = append(lines, fmt.Sprintf("%q %s %v %s\n", t.Name, t.Dtype, t.Shape, h.Digest()))
		}
	}
	sort.Strings(lines)
	return chunk.Sum([]byte(strings.Join(lines, ""))), nil
}
