// Package where reads conditions on the examples of prediction sheets.
package where

import (
	"slices"
	"time"

	"kembrel/core/filter"
	"kembrel/core/sheet"
)

// fields are what conditions on examples may name beside the columns of one's own.
var fields = []filter.Named{
	{Name: "key", Kind: filter.Text, Label: "Key", Says: "path or id"},
	{Name: "true", Kind: filter.Text, Label: "True", Says: "the label; of a sheet of numbers, the number"},
	{Name: "predicted", Kind: filter.Text, Label: "Predicted", Says: "the answer; of a sheet of numbers, the number"},
	{Name: "right", Kind: filter.Truth, Label: "Right",
		Says: "whether they are the same; absent where there is no label"},
	{Name: "score", Kind: filter.Number, Label: "Score", Says: "of the answer"},
	{Name: "margin", Kind: filter.Number, Label: "Margin", Says: "between the two highest scores"},
	{Name: "loss", Kind: filter.Number, Label: "Loss", Says: "the negative logarithm of the score of the label"},
	{Name: "group", Kind: filter.Text, Label: "Group", Says: "what it belongs to, such as a voyage"},
	{Name: "text", Kind: filter.Text, Label: "Text", Says: "its text"},
	{Name: "mark", Kind: filter.Text, Label: "Mark", Says: "what a person said of the label: `right`, `wrong`, `unclear`"},
}

// errorField is there in sheets of numbers, instead of what is about scores.
var errorField = filter.Named{Name: "error", Kind: filter.Number, Label: "Error",
	Says: "the answer less what is true; of numbers"}

// Fields are what conditions on examples may name beside the columns of one's own.
func Fields() []filter.Named { return append(slices.Clone(fields), errorField) }

// Condition is a condition on the examples of a sheet. It is for one goroutine.
type Condition struct {
	sheet *sheet.Sheet
	node  *filter.Node
	asks  []string
	own   map[string]int
	run   filter.Run
	marks map[string]string
}

// AsksMarks reports whether the condition is on what people said of labels.
func (c *Condition) AsksMarks() bool { return slices.Contains(c.asks, "mark") }

// Marked sets what people said of labels, by key.
func (c *Condition) Marked(marks map[string]string) { c.marks = marks }

// Parse reads a condition on the examples of a sheet. Columns whose names are no words are written column["depth (m)"].
func Parse(s *sheet.Sheet, text string, now time.Time) (*Condition, error) {
	l := &filter.Language{Of: "example", Columns: map[string]filter.Kind{}}
	for _, f := range Fields() {
		switch {
		case s.Task == sheet.Number && slices.Contains([]string{"right", "score", "margin", "loss"}, f.Name),
			s.Task != sheet.Number && f.Name == "error":
			continue
		case s.Task == sheet.Number && (f.Name == "true" || f.Name == "predicted"):
			f.Kind = filter.Number
		}
		l.Fields = append(l.Fields, f)
	}
	c := &Condition{sheet: s, own: map[string]int{}, run: filter.Run{Fields: map[string]any{}}}
	for i, own := range s.Own {
		kind := filter.Any
		for _, v := range own.Values {
			switch v.(type) {
			case string:
				kind = filter.Text
			case float64:
				kind = filter.Number
			case bool:
				kind = filter.Truth
			default:
				continue
			}
			break
		}
		l.Fields = append(l.Fields, filter.Named{Name: own.Name, Kind: kind, Label: own.Name})
		l.Columns[own.Name] = kind
		c.own[own.Name] = i
	}
	node, err := l.Parse(text, now)
	if err != nil {
		return nil, err
	}
	c.node = node
	for _, leaf := range node.Leaves() {
		name := leaf.Name
		if leaf.Op == filter.Search {
			name = " text"
		}
		if !slices.Contains(c.asks, name) {
			c.asks = append(c.asks, name)
		}
	}
	return c, nil
}

// Holds reports whether an example fulfils the condition.
func (c *Condition) Holds(i int) bool {
	s := c.sheet
	for _, name := range c.asks {
		var v any
		switch name {
		case " text":
			c.run.Texts = append(c.run.Texts[:0], s.Keys[i], s.Group(i), s.Text(i))
			if s.Task == sheet.Classes {
				c.run.Texts = append(c.run.Texts, s.Class(s.True[i]), s.Class(s.Predicted[i]))
			}
			continue
		case "key":
			v = s.Keys[i]
		case "group":
			v = s.Group(i)
		case "text":
			v = s.Text(i)
		case "true":
			if s.Task == sheet.Number {
				v = s.Target[i]
			} else if s.Labelled(i) {
				v = s.Class(s.True[i])
			}
		case "predicted":
			if s.Task == sheet.Number {
				v = s.Value[i]
			} else {
				v = s.Class(s.Predicted[i])
			}
		case "right":
			if s.Labelled(i) {
				v = s.Right(i)
			}
		case "error":
			v = s.Value[i] - s.Target[i]
		case "score":
			v = s.Score(i)
		case "margin":
			v = s.Margin(i)
		case "loss":
			v = s.Loss(i)
		case "mark":
			if m, ok := c.marks[s.Keys[i]]; ok {
				v = m
			}
		default:
			if at, ok := c.own[name]; ok {
				v = s.Own[at].Values[i]
			}
		}
		c.run.Fields[name] = v
	}
	return c.node.Matches(c.run)
}
