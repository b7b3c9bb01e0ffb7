package curve

import (
	"encoding/binary"
	"math"
)

// Fold is what neighbouring readings of one curve come to. Min and Max are over the finite readings, NaN where there is
// none; Mean too, in double precision until it is packed, and to 24 bits after.
type Fold struct {
	N, NaN, Infinite int64
	Min, Max, Mean   float64
	Last             Reading
}

// Finite is how many of the readings are finite.
func (f Fold) Finite() int64 { return f.N - f.NaN - f.Infinite }

// One is the fold of one reading.
func One(r Reading) Fold {
	f := Fold{N: 1, Min: r.Value, Max: r.Value, Mean: r.Value, Last: r}
	switch {
	case math.IsNaN(r.Value):
		f.NaN, f.Min, f.Max, f.Mean = 1, math.NaN(), math.NaN(), math.NaN()
	case math.IsInf(r.Value, 0):
		f.Infinite, f.Min, f.Max, f.Mean = 1, math.NaN(), math.NaN(), math.NaN()
	}
	return f
}

// Add takes in the readings of g, which come after those of f. O(1).
func (f *Fold) Add(g Fold) {
	if g.N == 0 {
		return
	}
	if f.N == 0 {
		*f = g
		return
	}
	a, b := float64(f.Finite()), float64(g.Finite())
	switch {
	case b == 0:
	case a == 0:
		f.Min, f.Max, f.Mean = g.Min, g.Max, g.Mean
	default:
		f.Min, f.Max = math.Min(f.Min, g.Min), math.Max(f.Max, g.Max)
		f.Mean = f.Mean*(a/(a+b)) + g.Mean*(b/(a+b)) // no overflow where the values do not
	}
	f.N, f.NaN, f.Infinite, f.Last = f.N+g.N, f.NaN+g.NaN, f.Infinite+g.Infinite, g.Last
}

// Levels of folds: level k folds FoldSize(k) readings that stand together on one curve and leg. Level 1 lies in each
// block, for reading a stretch of it; levels 2 and up are packed FoldsPerRow together, and exist for full blocks only.
const (
	FoldsPerRow = 256
	MaxLevel    = 8
)

// FoldSize is how many readings a fold of a level covers: 128, 1024, 8192, ... and 1 at level 0.
func FoldSize(level int) int64 {
	if level == 0 {
		return 1
	}
	return 128 << (3 * (level - 1))
}

// FoldValues folds every size readings; the last fold may cover fewer. len(points) must equal len(values). O(n).
func FoldValues(points []Point, values []float64, size int) []Fold {
	out := make([]Fold, 0, (len(values)+size-1)/size)
	for from := 0; from < len(values); from += size {
		to := min(from+size, len(values))
		out = append(out, foldOf(points[to-1], values[from:to]))
	}
	return out
}

// foldOf folds readings of which the last stands at a point.
func foldOf(last Point, values []float64) Fold {
	f := Fold{N: int64(len(values)), Min: math.NaN(), Max: math.NaN(), Mean: math.NaN(),
		Last: Reading{Point: last, Value: values[len(values)-1]}}
	sum, finite := 0.0, 0
	for _, v := range values {
		switch {
		case math.IsNaN(v):
			f.NaN++
		case math.IsInf(v, 0):
			f.Infinite++
		case finite == 0:
			f.Min, f.Max, sum, finite = v, v, v, 1
		default:
			if v < f.Min {
				f.Min = v
			}
			if v > f.Max {
				f.Max = v
			}
			sum += v
			finite++
		}
	}
	if finite == 0 {
		return f
	}
	if f.Mean = sum / float64(finite); math.IsInf(f.Mean, 0) {
		f.Mean = 0 // the sum overflowed: shares of the mean do not
		for _, v := range values {
			if !math.IsNaN(v) && !math.IsInf(v, 0) {
				f.Mean += v / float64(finite)
			}
		}
	}
	return f
}

// AppendFolds packs folds, and the point of the first reading that they cover (docs/storage.md):
//
//	byte version (1), uvarint n, varint step and time of the first reading, points of the last readings,
//	integers N, NaN, Infinite; values Min, Max, Last, Mean (rounded to float32 where that is finite)
//
// It panics for more than MaxBlock.
func AppendFolds(dst []byte, first Point, folds []Fold) []byte {
	n := len(folds)
	dst = binary.AppendUvarint(append(dst, blockVersion), uint64(n))
	dst = binary.AppendVarint(binary.AppendVarint(dst, first.Step), first.Time)
	dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(first.Epoch))
	points, ints, values := make([]Point, n), make([]int64, n), make([]float64, n)
	for i, f := range folds {
		points[i] = f.Last.Point
	}
	dst = appendPoints(dst, points)
	for _, of := range []func(Fold) int64{func(f Fold) int64 { return f.N }, func(f Fold) int64 { return f.NaN },
		func(f Fold) int64 { return f.Infinite }} {
		for i, f := range folds {
			ints[i] = of(f)
		}
		dst = appendInts(dst, ints)
	}
	for _, of := range []func(Fold) float64{func(f Fold) float64 { return f.Min },
		func(f Fold) float64 { return f.Max },
		func(f Fold) float64 { return f.Last.Value }, func(f Fold) float64 { return Single(f.Mean) }} {
		for i, f := range folds {
			values[i] = of(f)
		}
		dst = appendFloats(dst, values)
	}
	return dst
}

// Single rounds to 24 bits, as a float32 has; what is too large for one stays as it is.
func Single(v float64) float64 {
	if s := float64(float32(v)); !math.IsInf(s, 0) {
		return s
	}
	return v
}

// DecodeFolds reads what AppendFolds wrote. Errors wrap ErrPayload.
func DecodeFolds(payload []byte) (first Point, folds []Fold, err error) {
	d := decoder{rest: payload}
	n := d.blockSize()
	if n == 0 && d.err == nil {
		d.fail("no folds")
	}
	if d.err != nil {
		return Point{}, nil, d.err
	}
	first = Point{Step: d.varint(), Time: d.varint(), Epoch: math.Float64frombits(d.uint64())}
	folds = make([]Fold, n)
	for i, p := range d.points(n) {
		folds[i].Last.Point = p
	}
	for _, to := range []func(*Fold) *int64{func(f *Fold) *int64 { return &f.N },
		func(f *Fold) *int64 { return &f.NaN }, func(f *Fold) *int64 { return &f.Infinite }} {
		for i, v := range d.ints(n) {
			*to(&folds[i]) = v
		}
	}
	for _, to := range []func(*Fold) *float64{func(f *Fold) *float64 { return &f.Min },
		func(f *Fold) *float64 { return &f.Max },
		func(f *Fold) *float64 { return &f.Last.Value }, func(f *Fold) *float64 { return &f.Mean }} {
		for i, v := range d.values(n) {
			*to(&folds[i]) = v
		}
	}
	if err := d.end(); err != nil {
		return Point{}, nil, err
	}
	return first, folds, nil
}
