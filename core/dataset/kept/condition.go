package kept

import (
	"encoding/binary"
	"math"
	"slices"
	"time"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/filter"
)

// fields are what conditions on items may name beside the columns of one's own.
var fields = []filter.Named{
	{Name: "key", Kind: filter.Text, Label: "Key", Says: "path or id"},
	{Name: "digest", Kind: filter.Text, Label: "Digest", Says: "`b3:...`, of its bytes"},
	{Name: "size", Kind: filter.Number, Label: "Size", Says: "bytes"},
	{Name: "split", Kind: filter.Text, Label: "Split", Says: "`train`, `val`, `test` or the team's own"},
	{Name: "group", Kind: filter.Text, Label: "Group", Says: "what must not straddle splits"},
	{Name: "label", Kind: filter.Text, Label: "Label", Says: "several are joined: `ferry + tug`"},
	{Name: "labels", Kind: filter.List, Label: "Labels", Says: "`\"tug\" in labels`"},
	{Name: "target", Kind: filter.Number, Label: "Target", Says: "a label that is a number"},
	{Name: "kept", Kind: filter.Truth, Label: "Kept", Says: "its bytes are in the store"},
	{Name: "found", Kind: filter.List, Label: "Found", Says: "`\"same-group\" in found`: what is wrong with it"},
}

// Fields are what conditions on items may name beside the columns of one's own.
func Fields() []filter.Named { return slices.Clone(fields) }

// Condition is a condition on items.
type Condition struct {
	Found bool // it asks for what was found
	node  *filter.Node
	own   map[string]int
	asks  map[string]bool
	run   filter.Run
	texts []int // columns that text() looks through
}

// ParseCondition reads a condition on the items of a snapshot with these columns. Columns whose names are no words are
// written column["depth (m)"]. It is for one goroutine.
func ParseCondition(text string, columns []dataset.OwnColumn, now time.Time) (*Condition, error) {
	l := &filter.Language{Of: "item", Fields: Fields(), Columns: map[string]filter.Kind{}}
	c := &Condition{own: map[string]int{}, asks: map[string]bool{}, run: filter.Run{Fields: map[string]any{}}}
	for i, col := range columns {
		kind := map[dataset.Kind]filter.Kind{dataset.Text: filter.Text, dataset.Number: filter.Number,
			dataset.Boolean: filter.Truth}[col.Kind]
		l.Fields = append(l.Fields, filter.Named{Name: col.Name, Kind: kind, Label: col.Name})
		l.Columns[col.Name] = kind
		c.own[col.Name] = i
		if col.Kind == dataset.Text {
			c.texts = append(c.texts, i)
		}
	}
	node, err := l.Parse(text, now)
	if err != nil {
		return nil, err
	}
	c.node = node
	for _, leaf := range node.Leaves() {
		c.asks[leaf.Name] = true
		c.Found = c.Found || leaf.Op == filter.Field && leaf.Name == "found"
		if leaf.Op == filter.Search {
			c.asks[" text"] = true
		}
	}
	return c, nil
}

// Want says which columns it looks at.
func (c *Condition) Want() Want {
	w := Want{}
	for name := range c.asks {
		switch name {
		case "key":
			w.Key = true
		case "digest":
			w.Digest = true
		case "size":
			w.Size = true
		case "split":
			w.Split = true
		case "group":
			w.Group = true
		case "label":
			w.Labels, w.Target = true, true
		case "labels":
			w.Labels = true
		case "target":
			w.Target = true
		case "kept":
			w.Kept = true
		case " text":
			w.Key, w.Group, w.Labels, w.Target = true, true, true, true
		}
		if i, ok := c.own[name]; ok {
			w.Own = append(w.Own, i)
		}
	}
	if c.asks[" text"] {
		for _, i := range c.texts {
			if !slices.Contains(w.Own, i) {
				w.Own = append(w.Own, i)
			}
		}
	}
	return w
}

// Holds reports whether an item fulfils the condition.
func (c *Condition) Holds(it *dataset.Item, found Found) bool {
	f := c.run.Fields
	for name := range c.asks {
		var v any
		switch name {
		case "key":
			v = it.Key
		case "digest":
			if it.Digest != (chunk.Digest{}) {
				v = it.Digest.String()
			}
		case "size":
			v = float64(it.Size)
		case "split":
			v = it.Split
		case "group":
			v = it.Group
		case "label":
			v = it.Label()
		case "labels":
			v = it.Labels
		case "target":
			if !math.IsNaN(it.Target) {
				v = it.Target
			}
		case "kept":
			v = it.Kept
		case "found":
			v = found.Names()
		case " text":
			c.run.Texts = append(c.run.Texts[:0], it.Key, it.Group, it.Label())
			for _, i := range c.texts {
				if text, ok := it.Own[i].(string); ok {
					c.run.Texts = append(c.run.Texts, text)
				}
			}
			continue
		default:
			if i, ok := c.own[name]; ok {
				v = it.Own[i]
			}
		}
		f[name] = v
	}
	return c.node.Matches(c.run)
}

// EncodeMarks packs the marks of items, in their order: two bytes each, little endian.
func EncodeMarks(marks []Found) []byte {
	out := make([]byte, 0, 2*len(marks))
	for _, m := range marks {
		out = binary.LittleEndian.AppendUint16(out, uint16(m))
	}
	return out
}

// DecodeMarks reads what EncodeMarks wrote.
func DecodeMarks(packed []byte) []Found {
	out := make([]Found, len(packed)/2)
	for i := range out {
		out[i] = Found(binary.LittleEndian.Uint16(packed[2*i:]))
	}
	return out
}
