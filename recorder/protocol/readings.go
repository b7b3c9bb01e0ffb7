package protocol

import (
	"bytes"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"kembrel/core/curve"
)

// Readings of one point come very often, and nearly always in the same plain form. Parser reads that form by itself,
// some ten times as fast; all else, and all that is wrong, goes to Parse. FuzzParser holds the two against each other.

// Parser is Parse for the lines of one connection.
type Parser struct {
	known map[string]string // names of curves that are in order, so that they need not be looked at again
}

// mostKnown bounds the names that a parser remembers.
const mostKnown = 10_000

// Parse is Parse.
func (p *Parser) Parse(line []byte, now time.Time) (Message, error) {
	if m, ok := p.plain(line, now); ok {
		return m, nil
	}
	return Parse(line, now)
}

// scan reads a line from the front; bad once anything is not as expected.
type scan struct {
	rest []byte
	bad  bool
}

// take takes these bytes if they come next.
func (s *scan) take(text string) bool {
	if len(s.rest) < len(text) || string(s.rest[:len(text)]) != text {
		return false
	}
	s.rest = s.rest[len(text):]
	return true
}

// text takes a text without escapes, of printable ASCII.
func (s *scan) text() []byte {
	if !s.take(`"`) {
		s.bad = true
		return nil
	}
	for i, c := range s.rest {
		if c == '"' {
			out := s.rest[:i]
			s.rest = s.rest[i+1:]
			return out
		}
		if c < ' ' || c > '~' || c == '\\' {
			break
		}
	}
	s.bad = true
	return nil
}

// number takes a number of JSON (RFC 8259, section 6).
func (s *scan) number() []byte {
	i, b := 0, s.rest
	digits := func() bool {
		from := i
		for i < len(b) && b[i] >= '0' && b[i] <= '9' {
			i++
		}
		return i > from
	}
	if i < len(b) && b[i] == '-' {
		i++
	}
	if i < len(b) && b[i] == '0' {
		i++
	} else if !digits() {
		s.bad = true
		return nil
	}
	if i < len(b) && b[i] == '.' {
		i++
		s.bad = s.bad || !digits()
	}
	if i < len(b) && (b[i] == 'e' || b[i] == 'E') {
		if i++; i < len(b) && (b[i] == '+' || b[i] == '-') {
			i++
		}
		s.bad = s.bad || !digits()
	}
	s.rest = b[i:]
	return b[:i]
}

func (s *scan) whole() int64 {
	v, err := strconv.ParseInt(string(s.number()), 10, 64)
	s.bad = s.bad || err != nil || v < 0
	return v
}

func (s *scan) float() float64 {
	v, err := strconv.ParseFloat(string(s.number()), 64)
	s.bad = s.bad || err != nil
	return v
}

// fields are those that the plain form may have.
var fields = [...]string{"id", "step", "epoch", "time", "values"}

// plain reads readings of one point in their plain form: no white space, each field once, a step, and values that are
// numbers by names that are in order.
func (p *Parser) plain(line []byte, now time.Time) (Message, bool) {
	s := &scan{rest: bytes.TrimSuffix(line, []byte{'\n'})}
	if len(line) > MaxLine || !s.take(`{"kind":"readings"`) {
		return Message{}, false
	}
	m := Message{Kind: Readings}
	at := curve.Point{Step: -1, Epoch: math.NaN(), Time: now.UnixMilli()}
	var seen [len(fields)]bool
	for !s.bad && s.take(",") {
		field := s.text()
		i := slices.IndexFunc(fields[:], func(name string) bool { return name == string(field) })
		if i < 0 || seen[i] || !s.take(":") {
			return Message{}, false
		}
		seen[i] = true
		switch fields[i] {
		case "id":
			m.ID = s.whole()
		case "step":
			at.Step = s.whole()
		case "epoch":
			at.Epoch = s.float()
			s.bad = s.bad || at.Epoch < 0
		case "time":
			v, err := strconv.ParseInt(string(s.number()), 10, 64)
			at.Time, s.bad = v, s.bad || err != nil
		case "values":
			s.bad = s.bad || !p.values(s, &m)
		}
	}
	if s.bad || !s.take("}") || len(s.rest) > 0 || at.Step < 0 || len(m.Names) == 0 {
		return Message{}, false
	}
	m.Batch.Axis = []curve.Point{at}
	return m, true
}

// values reads the values of one point into columns in the order of their names.
func (p *Parser) values(s *scan, m *Message) bool {
	if !s.take("{") {
		return false
	}
	var values []float64
	for more := true; more; more = s.take(",") {
		name, ok := p.name(s.text())
		if !ok || s.bad || !s.take(":") || len(m.Names) >= curve.MaxColumns {
			return false
		}
		m.Names, values = append(m.Names, name), append(values, s.float())
	}
	if s.bad || !s.take("}") {
		return false
	}
	m.Batch.Columns = make([]curve.Column, len(m.Names))
	if !slices.IsSorted(m.Names) {
		order := make([]int, len(m.Names))
		for i := range order {
			order[i] = i
		}
		slices.SortFunc(order, func(a, b int) int { return strings.Compare(m.Names[a], m.Names[b]) })
		names, sorted := make([]string, len(order)), make([]float64, len(order))
		for i, from := range order {
			names[i], sorted[i] = m.Names[from], values[from]
		}
		m.Names, values = names, sorted
	}
	for i := range m.Names {
		if i > 0 && m.Names[i] == m.Names[i-1] {
			return false
		}
		m.Batch.Columns[i] = curve.Column{Curve: i, Values: values[i : i+1 : i+1]}
	}
	return true
}

// name is a curve's name that needs no change.
func (p *Parser) name(text []byte) (string, bool) {
	if name, ok := p.known[string(text)]; ok {
		return name, true
	}
	name := string(text)
	if name == "" || curve.Rename(name) != name {
		return "", false
	}
	if p.known == nil || len(p.known) >= mostKnown {
		p.known = map[string]string{}
	}
	p.known[name] = name
	return name, true
}
