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
	{Name: "true", Kind: filter.Text, Label: "True",
		Says: "the label; of numbers the number, of texts the text, of several labels and masks a list: `\"tug\" in true`"},
	{Name: "predicted", Kind: filter.Text, Label: "Predicted", Says: "the answer, likewise"},
	{Name: "right", Kind: filter.Truth, Label: "Right",
		Says: "whether they are the same; absent where there is no label"},
	{Name: "score", Kind: filter.Number, Label: "Score", Says: "of the answer"},
	{Name: "margin", Kind: filter.Number, Label: "Margin", Says: "between the two highest scores"},
	{Name: "loss", Kind: filter.Number, Label: "Loss", Says: "the negative logarithm of the score of the label"},
	{Name: "group", Kind: filter.Text, Label: "Group", Says: "what it belongs to, such as a voyage"},
	{Name: "text", Kind: filter.Text, Label: "Text", Says: "its text"},
	{Name: "mark", Kind: filter.Text, Label: "Mark", Says: "what a person said of the label: `right`, `wrong`, `unclear`"},
}

// others are fields of answers that are no single classes, instead of what is about scores.
var others = []filter.Named{
	{Name: "error", Kind: filter.Number, Label: "Error",
		Says: "of numbers the answer less what is true, of texts the character error rate, of labels and masks one less what both have in common"},
	{Name: "missed", Kind: filter.List, Label: "Missed", Says: "of several labels and masks: what is true and not answered"},
	{Name: "added", Kind: filter.List, Label: "Added", Says: "what is answered and not true"},
}

// Fields are what conditions on examples may name beside the columns of one's own.
func Fields() []filter.Named { return append(slices.Clone(fields), others...) }

// fieldsOf are those of a task.
func fieldsOf(task sheet.Task) (out []filter.Named) {
	without := map[sheet.Task][]string{
		sheet.Classes: {"error", "missed", "added"},
		sheet.Labels:  {"score", "margin", "loss"},
		sheet.Masks:   {"score", "margin", "loss"},
		sheet.Text:    {"score", "margin", "loss", "missed", "added"},
		sheet.Number:  {"right", "score", "margin", "loss", "missed", "added"},
	}[task]
	kind := map[sheet.Task]filter.Kind{sheet.Number: filter.Number, sheet.Labels: filter.List,
		sheet.Masks: filter.List}
	for _, f := range Fields() {
		if k, other := kind[task]; other && (f.Name == "true" || f.Name == "predicted") {
			f.Kind = k
		}
		if !slices.Contains(without, f.Name) {
			out = append(out, f)
		}
	}
	return out
}

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
	l := &filter.Language{Of: "example", Columns: map[string]filter.Kind{}, Fields: fieldsOf(s.Task)}
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
			switch s.Task {
			case sheet.Classes:
				c.run.Texts = append(c.run.Texts, s.Class(s.True[i]), s.Class(s.Predicted[i]))
			case sheet.Labels, sheet.Masks:
				c.run.Texts = append(append(c.run.Texts, s.Names(s.TrueSets[i])...), s.Names(s.AnswerSets[i])...)
			case sheet.Text:
				c.run.Texts = append(c.run.Texts, sheet.Deref(s.TrueTexts[i]), sheet.Deref(s.AnswerTexts[i]))
			}
			continue
		case "key":
			v = s.Keys[i]
		case "group":
			v = s.Group(i)
		case "text":
			v = s.Text(i)
		case "true":
			v = truth(s, i)
		case "predicted":
			v = answer(s, i)
		case "missed":
			v = s.Names(s.Missed(i))
		case "added":
			v = s.Names(s.Added(i))
		case "right":
			if s.Labelled(i) {
				v = s.Right(i)
			}
		case "error":
			v = s.Error(i)
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

// truth is what is true of an example, as conditions have it; nil: not known.
func truth(s *sheet.Sheet, i int) any {
	switch {
	case s.Task == sheet.Number:
		return s.Target[i]
	case s.Task == sheet.Labels || s.Task == sheet.Masks:
		return s.Names(s.TrueSets[i])
	case !s.Labelled(i):
		return nil
	case s.Task == sheet.Text:
		return *s.TrueTexts[i]
	}
	return s.Class(s.True[i])
}

// answer is what was answered.
func answer(s *sheet.Sheet, i int) any {
	switch s.Task {
	case sheet.Number:
		return s.Value[i]
	case sheet.Labels, sheet.Masks:
		return s.Names(s.AnswerSets[i])
	case sheet.Text:
		return sheet.Deref(s.AnswerTexts[i])
	}
	return s.Class(s.Predicted[i])
}
