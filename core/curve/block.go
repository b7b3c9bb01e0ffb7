package curve

import (
	"encoding/binary"
	"fmt"
	"math"
)

// MaxBlock is how many readings a block holds at most.
const MaxBlock = 4096

// Blocks are the sealed form of curves, version 1 (docs/storage.md). A block of values and the block of the axis that
// it stands on are packed apart, because curves that are read at the same points share the axis:
//
//	values:  byte version (1), uvarint n, values
//	axis:    byte version (1), uvarint n, integers step, integers time, epochs
//	epochs:  byte form; unknown: nothing; whole: integers; of step: varint k, epoch = step / k exactly; other: values
const blockVersion = 1

const (
	epochUnknown = iota
	epochWhole
	epochOfStep
	epochOther
)

// AppendValues packs the values of a block. It panics for more than MaxBlock.
func AppendValues(dst []byte, values []float64) []byte {
	dst = binary.AppendUvarint(append(dst, blockVersion), uint64(len(values)))
	return appendValues(dst, values)
}

// DecodeValues reads what AppendValues wrote. Errors wrap ErrPayload. It takes at most 64 KiB beside its result.
func DecodeValues(payload []byte) ([]float64, error) {
	d := decoder{rest: payload}
	out := d.values(d.blockSize())
	return out, d.end()
}

// AppendAxis packs the points of a block. It panics for more than MaxBlock.
func AppendAxis(dst []byte, points []Point) []byte {
	dst = binary.AppendUvarint(append(dst, blockVersion), uint64(len(points)))
	return appendPoints(dst, points)
}

func appendPoints(dst []byte, points []Point) []byte {
	ints := make([]int64, len(points))
	for i, p := range points {
		ints[i] = p.Step
	}
	dst = appendInts(dst, ints)
	for i, p := range points {
		ints[i] = p.Time
	}
	return appendBlockEpochs(appendInts(dst, ints), points)
}

func appendBlockEpochs(dst []byte, points []Point) []byte {
	switch epochForm(points) {
	case epochsUnknown:
		return append(dst, epochUnknown)
	case epochsWhole:
		ints := make([]int64, len(points))
		for i, p := range points {
			ints[i] = int64(p.Epoch)
		}
		return appendInts(append(dst, epochWhole), ints)
	}
	if k, ok := stepsPerEpoch(points); ok {
		return binary.AppendVarint(append(dst, epochOfStep), k)
	}
	values := make([]float64, len(points))
	for i, p := range points {
		values[i] = p.Epoch
	}
	return appendValues(append(dst, epochOther), values)
}

// stepsPerEpoch finds k with epoch = step / k in every bit.
func stepsPerEpoch(points []Point) (int64, bool) {
	last := points[len(points)-1]
	k := int64(math.Round(float64(last.Step) / last.Epoch))
	if k < 1 || k > 1<<40 {
		return 0, false
	}
	for _, p := range points {
		if math.Float64bits(float64(p.Step)/float64(k)) != math.Float64bits(p.Epoch) {
			return 0, false
		}
	}
	return k, true
}

// DecodeAxis reads what AppendAxis wrote. Errors wrap ErrPayload.
func DecodeAxis(payload []byte) ([]Point, error) {
	d := decoder{rest: payload}
	out := d.points(d.blockSize())
	return out, d.end()
}

func (d *decoder) points(n int) []Point {
	out := make([]Point, n)
	for i, v := range d.ints(n) {
		out[i].Step = v
	}
	for i, v := range d.ints(n) {
		out[i].Time = v
	}
	switch d.byte() {
	case epochUnknown:
		for i := range out {
			out[i].Epoch = math.NaN()
		}
	case epochWhole:
		for i, v := range d.ints(n) {
			out[i].Epoch = float64(v)
		}
	case epochOfStep:
		k := d.varint()
		if k < 1 {
			d.fail("no steps per epoch")
			return nil
		}
		for i := range out {
			out[i].Epoch = float64(out[i].Step) / float64(k)
		}
	case epochOther:
		for i, v := range d.values(n) {
			out[i].Epoch = v
		}
	default:
		d.fail("unknown form of epochs")
	}
	return out
}

// blockSize reads the version and the number of readings, which is bounded.
func (d *decoder) blockSize() int {
	if v := d.byte(); d.err == nil && v != blockVersion {
		d.fail(fmt.Sprintf("version %d is not known here", v))
	}
	n := d.uvarint()
	if n > MaxBlock {
		d.fail("more readings announced than a block holds")
		return 0
	}
	return int(n)
}

func (d *decoder) end() error {
	if d.err == nil && len(d.rest) != 0 {
		d.fail("bytes after the end")
	}
	return d.err
}
