package curve

import (
	"encoding/binary"
	"fmt"
	"math"
)

// The summaries of a run's curves, version 1 (docs/storage.md). Integers are varints of encoding/binary, floats 8
// bytes, little endian.
//
//	byte     version (1)
//	uvarint  curves; then for each:
//	  uvarint  curve
//	  uvarint  readings, of which NaN, of which infinite
//	  reading  last, lowest, highest: varint step, varint time in ms, epoch, value
//	  varint   sketch: one of every so many readings; 0: no reading yet, -1: none is kept
//	  uvarint  values of the sketch, and these
const summariesVersion = 1

// Numbered is the summary of a curve of a run.
type Numbered struct {
	Curve int
	Summary
}

// AppendSummaries packs summaries.
func AppendSummaries(dst []byte, all []Numbered) []byte {
	dst = append(dst, summariesVersion)
	dst = binary.AppendUvarint(dst, uint64(len(all)))
	for _, s := range all {
		for _, n := range []int64{int64(s.Curve), s.Count, s.NaN, s.Infinite} {
			dst = binary.AppendUvarint(dst, uint64(n))
		}
		for _, r := range []Reading{s.Last, s.Lowest, s.Highest} {
			dst = binary.AppendVarint(dst, r.Step)
			dst = binary.AppendVarint(dst, r.Time)
			dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(r.Epoch))
			dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(r.Value))
		}
		dst = binary.AppendVarint(dst, s.Sketch.Every)
		dst = binary.AppendUvarint(dst, uint64(len(s.Sketch.Values)))
		for _, v := range s.Sketch.Values {
			dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(v))
		}
	}
	return dst
}

// DecodeSummaries reads what AppendSummaries wrote. Hostile input is assumed: counts are believed only as far as the
// bytes that are left.
func DecodeSummaries(payload []byte) ([]Numbered, error) {
	d := decoder{rest: payload}
	if version := d.byte(); d.err == nil && version != summariesVersion {
		return nil, fmt.Errorf("%w: version %d of summaries is not known here", ErrPayload, version)
	}
	out := make([]Numbered, d.count(56)) // four counts and three readings at least
	for i := range out {
		s := &out[i]
		s.Curve, s.Count, s.NaN, s.Infinite = int(d.uvarint()), int64(d.uvarint()), int64(d.uvarint()),
			int64(d.uvarint())
		for _, r := range []*Reading{&s.Last, &s.Lowest, &s.Highest} {
			r.Step, r.Time = d.varint(), d.varint()
			r.Epoch, r.Value = math.Float64frombits(d.uint64()), math.Float64frombits(d.uint64())
		}
		s.Sketch.Every, s.Sketch.Seen = d.varint(), s.Count
		if n := d.count(8); n > 0 {
			s.Sketch.Values = make([]float64, n)
			for k := range s.Sketch.Values {
				s.Sketch.Values[k] = math.Float64frombits(d.uint64())
			}
		}
	}
	if d.err == nil && len(d.rest) != 0 {
		d.fail("bytes after the end")
	}
	return out, d.err
}
