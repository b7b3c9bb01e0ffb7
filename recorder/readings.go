package recorder

import (
	"encoding/binary"
	"fmt"
	"maps"
	"math"
	"slices"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/curve"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// Readings on their way from a message to the spool, and what is said of those that are not kept as they came.

// note remembers what later messages are judged by.
func (n *session) note(names []string, b curve.Batch) {
	last := b.Axis[len(b.Axis)-1]
	n.lastStep = last.Step
	if !math.IsNaN(last.Epoch) {
		n.lastEpoch = last.Epoch
	}
	n.watch(names, b)
	for i, c := range b.Columns {
		if curve.OfMachine(names[i]) {
			continue
		}
		n.readings += int64(len(c.Values))
		n.classes = n.classes || checkpoint.Classifies(names[i])
		_, known := n.figures[names[i]]
		if len(c.Values) > 0 && (known || len(n.figures) < maxFigures) {
			n.figures[names[i]] = api.Float(c.Values[len(c.Values)-1])
		}
	}
}

// The body of a Readings record: uvarint count of names, each as uvarint length and bytes, then a journal payload.
func encodeReadings(names []string, b curve.Batch) []byte {
	body := binary.AppendUvarint(nil, uint64(len(names)))
	for _, name := range names {
		body = append(binary.AppendUvarint(body, uint64(len(name))), name...)
	}
	return curve.AppendJournal(body, b)
}

func decodeReadings(body []byte) ([]string, curve.Batch, error) {
	names, rest, err := decodeNames(body)
	if err != nil {
		return nil, curve.Batch{}, err
	}
	b, err := decodeBatch(names, rest)
	return names, b, err
}

var errNames = fmt.Errorf("%w: names of curves", spool.ErrDamaged)

// decodeNames reads the names of a Readings record; rest is the journal payload behind them.
func decodeNames(body []byte) (names []string, rest []byte, err error) {
	count, n := binary.Uvarint(body)
	if n <= 0 || count > uint64(len(body)) {
		return nil, nil, errNames
	}
	body = body[n:]
	names = make([]string, count)
	for i := range names {
		size, n := binary.Uvarint(body)
		if n <= 0 || size > uint64(len(body)-n) {
			return nil, nil, errNames
		}
		names[i] = string(body[n : n+int(size)])
		body = body[n+int(size):]
	}
	return names, body, nil
}

func decodeBatch(names []string, payload []byte) (curve.Batch, error) {
	b, err := curve.DecodeJournal(payload)
	if err == nil && (len(b.Axis) == 0 || len(b.Columns) != len(names)) {
		err = errNames
	}
	return b, err
}

// keepReadings keeps readings that stand behind those kept so far. The mutex is held.
func (n *session) keepReadings(m protocol.Message, out *outbox) error {
	if err := m.Batch.Check(n.lastStep); err != nil {
		return n.orRestarted(m, err)
	}
	n.note(m.Names, m.Batch)
	n.keep(spool.Readings, m, encodeReadings(m.Names, m.Batch), out)
	n.itemsComplete()
	return nil
}

// withoutBad says of what a message brought that is not kept, of each name once, and counts the rest.
func (n *session) withoutBad(m protocol.Message, what string, out *outbox) {
	if len(m.Bad) == 0 {
		return
	}
	for _, name := range slices.Sorted(maps.Keys(m.Bad)) {
		if n.unkept[what+name] || len(n.unkept) == mostSaid {
			n.counting.Lock()
			n.refused[m.Kind]++
			n.counting.Unlock()
			continue
		}
		n.unkept[what+name] = true
		why := fmt.Errorf("%s %.100q is not kept: %w", what, name, m.Bad[name])
		n.beside(func() { n.problem(out, protocol.Message{Kind: m.Kind}, why) })
	}
}

// mostSaid is of how many names it is remembered, and said, that they are not kept, or go by another.
const mostSaid = 100

// rename says once of each curve that it goes by another name.
func (n *session) rename(names map[string]string) {
	if len(names) == 0 {
		return
	}
	for _, from := range slices.Sorted(maps.Keys(names)) {
		if n.renamed[from] || len(n.renamed) == mostSaid {
			continue
		}
		n.renamed[from] = true
		text := fmt.Sprintf("The curve %.200q is recorded as %s.", from, names[from])
		n.say("%s", text)
		n.beside(func() { n.remark(text) })
	}
}
