package space

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"kembrel/core/hyper"
)

// Version is of the format.
const Version = 1

// Limits of a space.
const (
	MaxBytes = 64 << 10
	maxNames = 200
	maxSteps = 1000
)

// Place is a run's place in a search: whose trial it is; zero: of none. Every form of a run holds it.
type Place struct {
	Search int `json:"search,omitempty" minimum:"0" maximum:"2147483647" doc:"Number of the search that it is a trial of"`
	Trial  int `json:"trial,omitempty" minimum:"0" maximum:"2147483647" doc:"Its number in the search, from 1"`
}

// Space are the hyperparameters that settings are picked for, in the order of the file.
type Space struct{ ranges []span }

// span is what one hyperparameter may be.
type span struct {
	name      string
	choices   []json.RawMessage // where not nil: one of these
	low, high float64
	whole     bool // integers
	log       bool
	steps     int // places on a grid; 0: every integer
	when      []condition
}

// condition says that another hyperparameter, which stands before, is one of some values.
type condition struct {
	name string
	is   []json.RawMessage
}

// Value is a hyperparameter's value in a setting.
type Value struct {
	Name  string
	Value json.RawMessage
}

// Setting is one choice of values; hyperparameters whose condition does not hold are not in it.
type Setting []Value

// Get is a value by name; nil where it is not there.
func (s Setting) Get(name string) json.RawMessage {
	for _, v := range s {
		if v.Name == name {
			return v.Value
		}
	}
	return nil
}

func (s Setting) String() string {
	var text strings.Builder
	for i, v := range s {
		if i > 0 {
			text.WriteByte(' ')
		}
		text.WriteString(v.Name)
		text.WriteByte('=')
		text.WriteString(hyper.Text(v.Value, "["))
	}
	return text.String()
}

// Names are the hyperparameters' names, in order.
func (s *Space) Names() []string {
	out := make([]string, len(s.ranges))
	for i, r := range s.ranges {
		out[i] = r.name
	}
	return out
}

// Error says what is wrong with a space, and in which line.
type Error struct {
	Line int
	What string
}

func (e *Error) Error() string { return fmt.Sprintf("line %d: %s", e.Line, e.What) }

func wrong(n *yaml.Node, format string, args ...any) error {
	return &Error{n.Line, fmt.Sprintf(format, args...)}
}

// Parse reads a space. What is wrong with its content is an *Error.
func Parse(text []byte) (*Space, error) {
	if len(text) > MaxBytes {
		return nil, fmt.Errorf("a space of %d bytes is too large (at most %d)", len(text), MaxBytes)
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, fmt.Errorf("this is not YAML: %w", err)
	}
	if len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return nil, errors.New("a space begins with space: 1, and has hyperparameters below it")
	}
	var list *yaml.Node
	version := 0
	for key, v := range pairs(doc.Content[0]) {
		switch key.Value {
		case "space":
			if v.Decode(&version) != nil || version != Version {
				return nil, wrong(v, "space %s is not known here; write space: %d", v.Value, Version)
			}
		case "hyperparameters":
			if list = v; v.Kind != yaml.MappingNode {
				return nil, wrong(v,
					"hyperparameters are names with what they may be, such as lr: {real: [0.001, 0.1]}")
			}
		default:
			return nil, wrong(key, "%q means nothing here; there are space and hyperparameters", key.Value)
		}
	}
	if version == 0 || list == nil || len(list.Content) == 0 {
		return nil, errors.New("a space begins with space: 1, and has hyperparameters below it")
	}
	out := &Space{}
	for key, v := range pairs(list) {
		r, err := out.read(key, v)
		if err != nil {
			return nil, err
		}
		if slices.Contains(out.Names(), r.name) {
			return nil, wrong(key, "%s is there twice", r.name)
		}
		if out.ranges = append(out.ranges, r); len(out.ranges) > maxNames {
			return nil, wrong(key, "more than %d hyperparameters", maxNames)
		}
	}
	return out, nil
}

func pairs(n *yaml.Node) func(yield func(key, v *yaml.Node) bool) {
	return func(yield func(key, v *yaml.Node) bool) {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if !yield(n.Content[i], n.Content[i+1]) {
				return
			}
		}
	}
}

func (s *Space) read(key, n *yaml.Node) (span, error) {
	r := span{name: key.Value}
	if err := hyper.CheckName(r.name); err != nil {
		return r, wrong(key, "%v", err)
	}
	if n.Kind != yaml.MappingNode { // fixed
		v, err := value(n)
		r.choices = []json.RawMessage{v}
		return r, err
	}
	kinds := 0
	for k, v := range pairs(n) {
		var err error
		switch k.Value {
		case "choice":
			kinds++
			err = r.readChoices(v)
		case "real", "integer":
			kinds++
			r.whole = k.Value == "integer"
			err = r.readRange(v)
		case "log":
			err = v.Decode(&r.log)
		case "steps":
			if err = v.Decode(&r.steps); err == nil && (r.steps < 2 || r.steps > maxSteps) {
				return r, wrong(v, "steps: from 2 to %d", maxSteps)
			}
		case "when":
			err = s.readWhen(&r, v)
		default:
			return r, wrong(k, "%s: %q means nothing here; there are choice, real, integer, log, steps and when",
				r.name, k.Value)
		}
		var e *Error
		if err != nil && !errors.As(err, &e) {
			err = wrong(v, "%s: %s cannot be %s", r.name, k.Value, v.Value)
		}
		if err != nil {
			return r, err
		}
	}
	switch {
	case kinds != 1:
		return r, wrong(n, "%s: say one of choice, real and integer", r.name)
	case r.choices != nil && (r.log || r.steps > 0):
		return r, wrong(n, "%s: log and steps are for ranges", r.name)
	case r.log && r.low <= 0:
		return r, wrong(n, "%s: a logarithmic range begins above 0", r.name)
	}
	return r, nil
}

func (r *span) readChoices(n *yaml.Node) error {
	if n.Kind != yaml.SequenceNode || len(n.Content) == 0 {
		return wrong(n, "%s: choice takes a list, such as [32, 64]", r.name)
	}
	for _, e := range n.Content {
		v, err := value(e)
		if err != nil {
			return err
		}
		r.choices = append(r.choices, v)
	}
	return nil
}

func (r *span) readRange(n *yaml.Node) error {
	var ends []float64
	if err := n.Decode(&ends); err != nil || len(ends) != 2 || !(ends[0] < ends[1]) || math.IsInf(ends[1]-ends[0], 0) {
		return wrong(n, "%s: a range is two numbers, the lesser first, such as [0.001, 0.1]", r.name)
	}
	if r.low, r.high = ends[0], ends[1]; r.whole && (r.low != math.Trunc(r.low) || r.high != math.Trunc(r.high) ||
		r.high-r.low > 1<<52) {
		return wrong(n, "%s: an integer range has whole ends", r.name)
	}
	return nil
}

func (s *Space) readWhen(r *span, n *yaml.Node) error {
	if n.Kind != yaml.MappingNode {
		return wrong(n, "%s: when takes names and values, such as {optimiser: momentum}", r.name)
	}
	for k, v := range pairs(n) {
		if !slices.Contains(s.Names(), k.Value) {
			return wrong(k, "%s: its condition names %s, which does not stand before it", r.name, k.Value)
		}
		c := condition{name: k.Value}
		list := []*yaml.Node{v}
		if v.Kind == yaml.SequenceNode {
			list = v.Content
		}
		for _, e := range list {
			one, err := value(e)
			if err != nil {
				return err
			}
			c.is = append(c.is, one)
		}
		r.when = append(r.when, c)
	}
	return nil
}

// value reads a plain value, or a list of them, as a hyperparameter.
func value(n *yaml.Node) (json.RawMessage, error) {
	var v any
	if err := n.Decode(&v); err != nil {
		return nil, wrong(n, "%v", err)
	}
	text, err := json.Marshal(v)
	if err == nil {
		_, err = hyper.Decode(text)
	}
	if err != nil {
		return nil, wrong(n, "this is no hyperparameter: %v", err)
	}
	return text, nil
}

// applies reports whether a hyperparameter's condition holds in a setting of those before it.
func (r span) applies(s Setting) bool {
	for _, c := range r.when {
		v := s.Get(c.name)
		if v == nil || !slices.ContainsFunc(c.is, func(is json.RawMessage) bool { return hyper.Equal(v, is) }) {
			return false
		}
	}
	return true
}

// number writes a value of a range: reals with six significant digits.
func (r span) number(v float64) json.RawMessage {
	if r.whole {
		return json.RawMessage(strconv.FormatFloat(math.Round(v), 'f', -1, 64))
	}
	six, _ := strconv.ParseFloat(strconv.FormatFloat(v, 'g', 6, 64), 64)
	text, _ := json.Marshal(min(max(six, r.low), r.high))
	return text
}

// at is the place of a range at a share of its way.
func (r span) at(share float64) float64 {
	if r.log {
		return math.Exp(math.Log(r.low) + share*(math.Log(r.high)-math.Log(r.low)))
	}
	return r.low + share*(r.high-r.low)
}
