// Package intake makes prediction sheets of tables: it looks what the columns mean, and writes the files of a sheet.
package intake

import (
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"kembrel/core/sheet"
	"kembrel/core/table"
	"kembrel/core/tensor"
)

// Role is what a column of a table of predictions is.
type Role string

// The roles. A column of scores says of which class: score:tug.
const (
	KeyRole       Role = "key"
	TrueRole      Role = "true"
	PredictedRole Role = "predicted"
	GroupRole     Role = "group"
	TextRole      Role = "text"
	ScoreRole     Role = "score"
	OwnRole       Role = "own"
	LeaveRole     Role = "leave"
)

// Meaning says what a column is taken for.
type Meaning struct {
	Name  string
	Role  Role
	Class string // of a score
	As    string // of one's own: what it is called
}

// named are names of columns that say what they are.
var named = map[string]Role{"key": KeyRole, "id": KeyRole, "file": KeyRole, "path": KeyRole, "item": KeyRole,
	"true": TrueRole, "label": TrueRole, "target": TrueRole, "truth": TrueRole, "actual": TrueRole,
	"predicted": PredictedRole, "prediction": PredictedRole, "answer": PredictedRole, "pred": PredictedRole,
	"group": GroupRole, "text": TextRole}

// beforeClass are beginnings of the names of columns of scores.
var beforeClass = []string{"score.", "score_", "scores.", "prob.", "prob_", "probability.", "p."}

// Table is a table of predictions that becomes the files of a sheet.
type Table struct {
	Meanings []Meaning
	from     *table.Table
}

// NewTable looks what the columns of a table mean.
func NewTable(t *table.Table) *Table {
	out := &Table{from: t}
	taken := map[Role]bool{}
	for _, name := range t.Head {
		m := Meaning{Name: name, Role: OwnRole, As: name}
		lower := strings.ToLower(strings.TrimSpace(name))
		if role, ok := named[lower]; ok && !taken[role] {
			taken[role] = true
			m.Role = role
		}
		for _, before := range beforeClass {
			if class, ok := strings.CutPrefix(name, before); ok && class != "" && m.Role == OwnRole {
				m.Role, m.Class = ScoreRole, class
			}
		}
		if m.Role == OwnRole && sheet.CheckColumn(name) != nil {
			m.As = lower + "_"
			if sheet.CheckColumn(m.As) != nil {
				m.Role = LeaveRole
			}
		}
		out.Meanings = append(out.Meanings, m)
	}
	return out
}

// Set says what a column is: a role, or score:CLASS.
func (t *Table) Set(name, as string) error {
	i := slices.IndexFunc(t.Meanings, func(m Meaning) bool { return m.Name == name })
	if i < 0 {
		return fmt.Errorf("the table has no column %q", name)
	}
	role, class, scored := strings.Cut(as, ":")
	m := &t.Meanings[i]
	switch Role(role) {
	case KeyRole, TrueRole, PredictedRole, GroupRole, TextRole:
		for j := range t.Meanings { // there is one of each
			if o := &t.Meanings[j]; o.Role == Role(role) && j != i {
				o.Role, o.As = OwnRole, o.Name
				if sheet.CheckColumn(o.Name) != nil {
					o.As = o.Name + "_"
				}
			}
		}
	case ScoreRole:
		if !scored || class == "" {
			return fmt.Errorf("say of which class: score:tug")
		}
	case OwnRole, LeaveRole:
	default:
		return fmt.Errorf("a column is key, true, predicted, score:CLASS, group, text, own or leave, not %.60q", as)
	}
	m.Role, m.Class = Role(role), class
	return nil
}

// Made are the files of a sheet, made of a table.
type Made struct {
	sheet.Says
	Files map[string][]byte
	Count int
	Rows  bool // keys are the rows' numbers, as no column is the key
}

// Make reads the table. task may be "", which is told by what is true and answered: numbers that are not all whole make
// a sheet of numbers. classes may be nil: they are those of the columns of scores, and else those that are named.
func (t *Table) Make(task sheet.Task, classes []string) (*Made, error) {
	out := &Made{Says: sheet.Says{Task: task, Classes: classes}, Files: map[string][]byte{}}
	places := map[Role]int{}
	var scores []int
	for i, m := range t.Meanings {
		if m.Role == ScoreRole {
			scores = append(scores, i)
		} else if m.Role != OwnRole && m.Role != LeaveRole {
			places[m.Role] = i
		}
	}
	_, labelled := places[TrueRole]
	_, answered := places[PredictedRole]
	if !labelled && !answered && len(scores) == 0 {
		return nil,
			fmt.Errorf("no column is what is true, predicted, or a score; say which is (column=predicted, column=score:tug)")
	}
	if out.Task == "" {
		out.Task = t.task(places, len(scores) > 0)
	}
	if len(scores) > 0 {
		if out.Classes == nil {
			for _, i := range scores {
				out.Classes = append(out.Classes, t.Meanings[i].Class)
			}
		}
		order, err := t.inOrder(scores, out.Classes)
		if err != nil {
			return nil, err
		}
		scores = order
	}
	if out.Task == sheet.Masks {
		return nil, fmt.Errorf("masks are handed over by a program, not in a table")
	}
	if err := out.Check(); err != nil {
		return nil, err
	}
	_, keyed := places[KeyRole]
	out.Rows = !keyed
	var lines bytes.Buffer
	var data []byte
	encoder := json.NewEncoder(&lines)
	encoder.SetEscapeHTML(false)
	for {
		row, err := t.from.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		if out.Count++; out.Count > sheet.MaxExamples || lines.Len() > sheet.MaxBytes || len(data) > 4*sheet.MaxScores {
			return nil, fmt.Errorf("line %d: a sheet has at most %d examples, and %d scores", row.Line,
				sheet.MaxExamples, sheet.MaxScores)
		}
		cell := func(role Role) string {
			if i, ok := places[role]; ok && i < len(row.Cells) {
				return row.Cells[i]
			}
			return ""
		}
		l := sheet.Line{Key: cell(KeyRole), Group: cell(GroupRole), Text: cell(TextRole), Own: t.own(row)}
		if out.Rows {
			l.Key = strconv.Itoa(out.Count)
		}
		if l.True, err = value(out.Task, cell(TrueRole)); err == nil {
			l.Predicted, err = value(out.Task, cell(PredictedRole))
		}
		if err != nil {
			return nil, &table.ReadError{Line: row.Line, What: err.Error()}
		}
		if err := encoder.Encode(l); err != nil {
			return nil, err
		}
		for _, i := range scores {
			v := math.NaN()
			if i < len(row.Cells) && row.Cells[i] != "" {
				if v, err = strconv.ParseFloat(row.Cells[i], 64); err != nil {
					return nil, &table.ReadError{Line: row.Line, Column: row.Where(i),
						What: fmt.Sprintf("%.60q is no score", row.Cells[i])}
				}
			}
			data = binary.LittleEndian.AppendUint32(data, math.Float32bits(float32(v)))
		}
	}
	out.Files[sheet.ExamplesFile] = lines.Bytes()
	if len(scores) > 0 {
		var npy bytes.Buffer
		if err := tensor.WriteNPY(&npy, tensor.Tensor{Info: tensor.Info{Name: "scores", Dtype: "F32",
			Shape: []int64{int64(out.Count), int64(len(scores))}}, Data: data}); err != nil {
			return nil, err
		}
		out.Files[sheet.ScoresFile] = npy.Bytes()
	}
	return out, nil
}

// inOrder are the columns of scores in the order of the classes.
func (t *Table) inOrder(scores []int, classes []string) ([]int, error) {
	var out []int
	for _, c := range classes {
		i := slices.IndexFunc(scores, func(i int) bool { return t.Meanings[i].Class == c })
		if i < 0 {
			return nil, fmt.Errorf("there is no column of scores of class %q", c)
		}
		out = append(out, scores[i])
	}
	if len(out) != len(scores) {
		return nil, fmt.Errorf("there are %d columns of scores for %d classes", len(scores), len(classes))
	}
	return out, nil
}

// task looks whether the first rows are of numbers.
func (t *Table) task(places map[Role]int, scored bool) sheet.Task {
	whole, n := true, 0
	for _, role := range []Role{TrueRole, PredictedRole} {
		i, ok := places[role]
		if !ok {
			continue
		}
		for _, row := range t.from.Look {
			if i >= len(row.Cells) || row.Cells[i] == "" {
				continue
			}
			v, err := strconv.ParseFloat(row.Cells[i], 64)
			if err != nil {
				return sheet.Classes
			}
			whole = whole && v == math.Trunc(v)
			n++
		}
	}
	if scored || whole || n == 0 {
		return sheet.Classes
	}
	return sheet.Number
}

// value is a cell as examples.jsonl has it.
func value(task sheet.Task, cell string) (json.RawMessage, error) {
	if cell == "" {
		return nil, nil
	}
	if task == sheet.Number {
		v, err := strconv.ParseFloat(cell, 64)
		if err != nil || math.IsInf(v, 0) {
			return nil, fmt.Errorf("%.60q is no number", cell)
		}
		if math.IsNaN(v) {
			return nil, nil
		}
		return json.Marshal(v)
	}
	if task == sheet.Labels {
		list := []string{}
		for _, one := range strings.Split(cell, Between) {
			if one = strings.TrimSpace(one); one != "" {
				list = append(list, one)
			}
		}
		return json.Marshal(list)
	}
	return json.Marshal(cell)
}

// Between stands between several labels in a cell; a cell that has nothing else says that there are none.
const Between = ";"

// own are the cells of columns of one's own: numbers and booleans where they look so.
func (t *Table) own(row table.Row) map[string]any {
	var out map[string]any
	for i, m := range t.Meanings {
		if m.Role != OwnRole || i >= len(row.Cells) || row.Cells[i] == "" {
			continue
		}
		if out == nil {
			out = map[string]any{}
		}
		text := row.Cells[i]
		if v, err := strconv.ParseFloat(text, 64); err == nil && !math.IsNaN(v) && !math.IsInf(v, 0) {
			out[m.As] = v
		} else if text == "true" || text == "false" {
			out[m.As] = text == "true"
		} else {
			out[m.As] = text
		}
	}
	return out
}
