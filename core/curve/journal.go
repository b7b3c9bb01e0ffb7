package curve

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
)

// The journal payload, version 1 (docs/storage.md). All integers are varints of encoding/binary, floats little endian.
//
//	byte     version (1)
//	byte     flags: 1 = epochs are whole numbers, 2 = epochs unknown
//	uvarint  points
//	varint   step of each point, as the difference from the one before
//	varint   time of each point in ms, as the difference from the one before
//	epochs   none, or varint differences, or 8 bytes each, by flags
//	uvarint  columns; then for each:
//	  uvarint  curve
//	  uvarint  readings n
//	  byte     form: 1 = a value for some points only, 2 = values are float32
//	  uvarint  n gaps to the row before (form & 1)
//	  bytes    n values of 4 or 8 bytes, every bit kept
const (
	journalVersion = 1
	epochsWhole    = 1
	epochsUnknown  = 2
	someRows       = 1
	single32       = 2
)

// ErrPayload is wrapped by every error of DecodeJournal.
var ErrPayload = errors.New("damaged journal payload")

// AppendJournal appends the packed form of a batch to dst. The batch must have passed Check.
func AppendJournal(dst []byte, b Batch) []byte {
	flags := epochForm(b.Axis)
	dst = append(dst, journalVersion, flags)
	dst = binary.AppendUvarint(dst, uint64(len(b.Axis)))
	var step, time int64
	for _, p := range b.Axis {
		dst = binary.AppendVarint(dst, p.Step-step)
		step = p.Step
	}
	for _, p := range b.Axis {
		dst = binary.AppendVarint(dst, p.Time-time)
		time = p.Time
	}
	dst = appendEpochs(dst, b.Axis, flags)
	dst = binary.AppendUvarint(dst, uint64(len(b.Columns)))
	for _, c := range b.Columns {
		dst = appendColumn(dst, c)
	}
	return dst
}

func epochForm(axis []Point) byte {
	unknown, whole := true, true
	for _, p := range axis {
		unknown = unknown && math.IsNaN(p.Epoch)
		whole = whole && p.Epoch == math.Trunc(p.Epoch) && math.Abs(p.Epoch) < 1<<52 &&
			!(p.Epoch == 0 && math.Signbit(p.Epoch))
	}
	switch {
	case unknown:
		return epochsUnknown
	case whole:
		return epochsWhole
	}
	return 0
}

func appendEpochs(dst []byte, axis []Point, flags byte) []byte {
	if flags == epochsUnknown {
		return dst
	}
	var last int64
	for _, p := range axis {
		if flags == epochsWhole {
			dst = binary.AppendVarint(dst, int64(p.Epoch)-last)
			last = int64(p.Epoch)
		} else {
			dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(p.Epoch))
		}
	}
	return dst
}

func appendColumn(dst []byte, c Column) []byte {
	dst = binary.AppendUvarint(dst, uint64(c.Curve))
	dst = binary.AppendUvarint(dst, uint64(len(c.Values)))
	form := byte(single32)
	for _, v := range c.Values {
		if math.Float64bits(float64(float32(v))) != math.Float64bits(v) {
			form = 0
			break
		}
	}
	if c.Rows != nil {
		form |= someRows
	}
	dst = append(dst, form)
	last := -1
	for _, r := range c.Rows {
		dst = binary.AppendUvarint(dst, uint64(r-last-1))
		last = r
	}
	for _, v := range c.Values {
		if form&single32 != 0 {
			dst = binary.LittleEndian.AppendUint32(dst, math.Float32bits(float32(v)))
		} else {
			dst = binary.LittleEndian.AppendUint64(dst, math.Float64bits(v))
		}
	}
	return dst
}

// DecodeJournal reads a payload back. Hostile input is assumed: a count is believed only as far as the bytes that are
// left could hold that many entries, so the memory taken is at most 24 times the payload's length.
func DecodeJournal(payload []byte) (Batch, error) {
	d := decoder{rest: payload}
	if version := d.byte(); d.err == nil && version != journalVersion {
		return Batch{}, fmt.Errorf("%w: version %d is not known here", ErrPayload, version)
	}
	flags := d.byte()
	if flags > epochsUnknown {
		d.fail("unknown flags")
	}
	points := d.count(2) // a step and a time, a byte each at least
	b := Batch{Axis: make([]Point, points)}
	var sum int64
	for i := range b.Axis {
		sum += d.varint()
		b.Axis[i].Step = sum
	}
	sum = 0
	for i := range b.Axis {
		sum += d.varint()
		b.Axis[i].Time = sum
	}
	sum = 0
	for i := range b.Axis {
		switch flags {
		case epochsUnknown:
			b.Axis[i].Epoch = math.NaN()
		case epochsWhole:
			sum += d.varint()
			b.Axis[i].Epoch = float64(sum)
		default:
			b.Axis[i].Epoch = math.Float64frombits(d.uint64())
		}
	}
	columns := d.count(3)
	b.Columns = make([]Column, columns)
	d.room = make([]float64, 0, min(points*columns, len(d.rest)/4)) // of all columns; a value has 4 bytes at least
	for i := range b.Columns {
		b.Columns[i] = d.column(points)
	}
	if d.err == nil && len(d.rest) != 0 {
		d.fail("bytes after the end")
	}
	if d.err != nil {
		return Batch{}, d.err
	}
	return b, nil
}

type decoder struct {
	rest []byte
	room []float64 // room for those of the columns to come
	err  error
}

func (d *decoder) fail(what string) {
	if d.err == nil {
		d.err = fmt.Errorf("%w: %s, %d bytes before its end", ErrPayload, what, len(d.rest))
	}
	d.rest = nil
}

func (d *decoder) byte() byte {
	if len(d.rest) < 1 {
		d.fail("too short")
		return 0
	}
	b := d.rest[0]
	d.rest = d.rest[1:]
	return b
}

func (d *decoder) varint() int64 {
	v, n := binary.Varint(d.rest)
	if n <= 0 {
		d.fail("bad varint")
		return 0
	}
	d.rest = d.rest[n:]
	return v
}

func (d *decoder) uvarint() uint64 {
	v, n := binary.Uvarint(d.rest)
	if n <= 0 {
		d.fail("bad varint")
		return 0
	}
	d.rest = d.rest[n:]
	return v
}

// count reads how many entries follow, each of at least size bytes.
func (d *decoder) count(size int) int {
	n := d.uvarint()
	if n > uint64(len(d.rest)/size) {
		d.fail("more entries announced than bytes left")
		return 0
	}
	return int(n)
}

func (d *decoder) uint64() uint64 {
	if len(d.rest) < 8 {
		d.fail("too short")
		return 0
	}
	v := binary.LittleEndian.Uint64(d.rest)
	d.rest = d.rest[8:]
	return v
}

func (d *decoder) column(points int) Column {
	id := d.uvarint()
	if id > math.MaxInt32 {
		d.fail("curve number out of range")
		return Column{}
	}
	c := Column{Curve: int(id)}
	n := d.count(1)
	form := d.byte()
	width := 8
	if form&single32 != 0 {
		width = 4
	}
	if form > single32|someRows || n > points || n > len(d.rest)/width || (form&someRows == 0 && n != points) {
		d.fail("column does not fit the axis")
		return Column{}
	}
	if form&someRows != 0 {
		c.Rows = make([]int, n)
		row := -1
		for i := range c.Rows {
			gap := d.uvarint()
			if gap >= uint64(points) || row+1+int(gap) >= points {
				d.fail("row outside the axis")
				return Column{}
			}
			row += 1 + int(gap)
			c.Rows[i] = row
		}
	}
	if n > len(d.rest)/width {
		d.fail("too short")
		return Column{}
	}
	from := len(d.room)
	d.room = d.room[:from+n]
	c.Values = d.room[from : from+n : from+n]
	for i := range c.Values {
		if width == 4 {
			c.Values[i] = float64(math.Float32frombits(binary.LittleEndian.Uint32(d.rest[4*i:])))
		} else {
			c.Values[i] = math.Float64frombits(binary.LittleEndian.Uint64(d.rest[8*i:]))
		}
	}
	d.rest = d.rest[n*width:]
	return c
}
