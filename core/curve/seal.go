package curve

// Sealing cuts a leg's readings into blocks. This file says where the cuts are and what the levels of folds above them
// come to; where blocks are kept is not its concern.

// Sealed is one block of a curve.
type Sealed struct {
	Seq    int // it covers the readings from Seq * MaxBlock on
	Points []Point
	Values []float64
}

// First and Last are the points between which a block lies.
func (b Sealed) First() Point { return b.Points[0] }

// Last is the point of the block's last reading.
func (b Sealed) Last() Point { return b.Points[len(b.Points)-1] }

// Full reports whether nothing more goes into the block.
func (b Sealed) Full() bool { return len(b.Values) == MaxBlock }

// Folds packs a block's own level of folds; nil where it is too short to gain by them.
func (b Sealed) Folds() []byte {
	if int64(len(b.Values)) <= FoldSize(1) {
		return nil
	}
	return AppendFolds(nil, b.First(), FoldValues(b.Points, b.Values, int(FoldSize(1))))
}

// Cut cuts the readings of one curve and leg from the block seq on into blocks, all full but the last. The blocks share
// the slices.
func Cut(seq int, points []Point, values []float64) []Sealed {
	var out []Sealed
	for len(values) > 0 {
		n := min(MaxBlock, len(values))
		out = append(out, Sealed{Seq: seq, Points: points[:n:n], Values: values[:n:n]})
		points, values, seq = points[n:], values[n:], seq+1
	}
	return out
}

// FoldRow is a row of one level's folds: of at most FoldsPerRow, beginning at the fold Seq * FoldsPerRow of the curve
// and leg.
type FoldRow struct {
	Level, Seq int
	First      Point // of the first reading
	Folds      []Fold
}

// RaiseFolds brings the levels 2 and up of one curve and leg up to date with blocks that have become full. tails holds
// the last row of each level so far, by level; the rows returned are new or replace a tail. Rows are full but for the
// last of each level.
func RaiseFolds(tails map[int]FoldRow, full []Sealed) []FoldRow {
	var fresh []Fold
	var firsts []Point // of each fold
	for _, b := range full {
		size := int(FoldSize(2))
		folds := FoldValues(b.Points, b.Values, size)
		for i := range folds {
			firsts = append(firsts, b.Points[i*size])
		}
		fresh = append(fresh, folds...)
	}
	var out []FoldRow
	for level := 2; level <= MaxLevel && len(fresh) > 0; level++ {
		tail, ok := tails[level]
		if !ok {
			tail = FoldRow{Level: level}
		}
		before := len(tail.Folds) // of the tail's folds, those in whole groups of ratio are in the level above
		var above []Fold
		var aboveFirsts []Point
		for len(fresh) > 0 || len(tail.Folds) == FoldsPerRow {
			if len(tail.Folds) == FoldsPerRow {
				tail, before = FoldRow{Level: level, Seq: tail.Seq + 1}, 0
				continue
			}
			if len(tail.Folds) == 0 {
				tail.First = firsts[0]
			}
			n := min(FoldsPerRow-len(tail.Folds), len(fresh))
			starts := append(make([]Point, len(tail.Folds)), firsts[:n]...)
			if before > 0 {
				starts[0] = tail.First
			}
			tail.Folds = append(tail.Folds[:len(tail.Folds):len(tail.Folds)], fresh[:n]...)
			fresh, firsts = fresh[n:], firsts[n:]
			for g := before / levelRatio; (g+1)*levelRatio <= len(tail.Folds); g++ {
				var f Fold
				for _, next := range tail.Folds[g*levelRatio : (g+1)*levelRatio] {
					f.Add(next)
				}
				first := starts[g*levelRatio]
				if g*levelRatio < before && g > 0 { // its first reading came after the fold before ended
					first = tail.Folds[g*levelRatio-1].Last.Point
				}
				above, aboveFirsts = append(above, f), append(aboveFirsts, first)
			}
			before = len(tail.Folds)
			out = append(out, tail)
		}
		fresh, firsts = above, aboveFirsts
	}
	return out
}

// levelRatio is how many folds of one level make one of the next.
const levelRatio = 8
