package history

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"kembrel/core/curve"
	"kembrel/core/hyper"
)

// ownName is a column whose name says that it is a hyperparameter, and which.
var ownName = regexp.MustCompile(`(?i)^(?:hyper|hyperparameters?|hyperparams?|hp|params?|config|cfg)[./_: -](.+)$`)

// usual are names of hyperparameters, in lower case and with blanks.
var usual = []string{"lr", "learning rate", "batch size", "seed", "random seed", "weight decay", "momentum", "dropout",
	"optimiser", "optimizer", "schedule", "scheduler", "model", "architecture", "hidden", "layers", "depth", "width"}

// curves are names of what is measured, whether or not it ever changes.
var curves = []string{"loss", "accuracy", "acc", "error", "precision", "recall", "f1", "auc", "perplexity"}

// manyRows of a run are enough for a column that never changes to be taken for something that was fixed before.
const manyRows = 3

// hyperName is the hyperparameter that a column's name means, and whether the name says that it is one.
func hyperName(column string) (name string, says bool) {
	if m := ownName.FindStringSubmatch(column); m != nil {
		return strings.ReplaceAll(m[1], "/", "."), true
	}
	plain := strings.ToLower(strings.NewReplacer("_", " ", "-", " ").Replace(column))
	return strings.ReplaceAll(column, "/", "."), slices.Contains(usual, plain)
}

// measured reports whether a column's name says that it was measured.
func measured(column string) bool {
	measure, split := curve.SplitName(CurveName(column, false))
	return split != "" || slices.Contains(curves, strings.ToLower(measure))
}

// fixed finds out which columns hold one value in each run, and which.
type fixed struct {
	watched []int // columns
	values  map[string]map[int]string
	changes map[int]string // a run in which a column does
	most    int64          // rows of a run
}

// newFixed watches columns that nobody has said anything of. own: it is a file that names its curves as Kembrel does,
// which is taken at its word: only columns that say that they are hyperparameters are watched.
func newFixed(columns []Column, own bool) *fixed {
	f := &fixed{values: map[string]map[int]string{}, changes: map[int]string{}}
	for i, c := range columns {
		if c.Role == Hyper || !c.said && (c.Role == Values || c.Role == Skip) && (!own || ownName.MatchString(c.Name)) {
			f.watched = append(f.watched, i)
		}
	}
	return f
}

// take looks at the nth row of a run, from 1.
func (f *fixed) take(run string, n int64, cells []string) {
	f.most = max(f.most, n)
	of := f.values[run]
	if of == nil {
		of = map[int]string{}
		f.values[run] = of
	}
	for _, i := range f.watched {
		if i >= len(cells) || isAbsent(cells[i]) {
			continue
		}
		text := strings.TrimSpace(cells[i])
		if had, known := of[i]; !known {
			of[i] = text
		} else if had != text {
			f.changes[i] = run
		}
	}
}

// decide takes columns that never change within a run, or that are named so, for hyperparameters. It returns the curves
// that are none therefore.
func (f *fixed) decide(columns []Column) (no map[string]bool, err error) {
	no = map[string]bool{}
	var take []int
	left := 0 // columns that stay curves
	for _, i := range f.watched {
		c := &columns[i]
		name, says := hyperName(c.Name)
		run, changes := f.changes[i]
		switch {
		case c.Role == Hyper && changes:
			return nil, fmt.Errorf("column %q is to be a hyperparameter, and it changes within %s; --map %q makes it a curve",
				c.Name, whichRun(run), c.Name+"="+CurveName(c.Name, false))
		case c.Role == Hyper:
		case !changes && hyper.CheckName(name) == nil && f.some(i) &&
			(says || f.most >= manyRows && !measured(c.Name)):
			take = append(take, i)
		case c.Role == Values:
			left++
		}
	}
	long := slices.ContainsFunc(columns, func(c Column) bool { return c.Role == Value })
	taken := map[string]bool{}
	for _, c := range columns {
		if c.Role == Hyper {
			taken[c.As] = true
		}
	}
	for _, i := range take {
		c := &columns[i]
		name, says := hyperName(c.Name)
		if whole := strings.ReplaceAll(c.Name, "/", "."); taken[name] { // params.lr beside lr
			if name = whole; taken[name] || hyper.CheckName(name) != nil {
				continue
			}
		}
		taken[name] = true
		if c.Role == Values && left == 0 && !long && !says {
			left++ // something must have been measured
			continue
		}
		if c.Role == Values {
			no[c.As] = true
		}
		c.Role, c.As = Hyper, name
		if c.Why = "it never changes within a run"; says {
			c.Why = "by its name"
		}
	}
	return no, nil
}

func whichRun(run string) string {
	if run == "" {
		return "the run"
	}
	return fmt.Sprintf("run %q", run)
}

// some reports whether any run has a value in a column.
func (f *fixed) some(column int) bool {
	for _, of := range f.values {
		if _, ok := of[column]; ok {
			return true
		}
	}
	return false
}

// of are the hyperparameters of a run.
func (f *fixed) of(run string, columns []Column) map[string]json.RawMessage {
	out := map[string]json.RawMessage{}
	for i, text := range f.values[run] {
		if c := columns[i]; c.Role == Hyper {
			out[c.As] = c.writes.value(text)
		}
	}
	return out
}

// value is a cell as a hyperparameter: a number, a boolean, or text.
func (n notation) value(text string) json.RawMessage {
	var value any = text
	if v, err := n.number(text); err == nil && !math.IsNaN(v) && !math.IsInf(v, 0) {
		value = v
		if json.Valid([]byte(text)) { // all its digits
			return json.RawMessage(text)
		}
	} else if lower := strings.ToLower(text); lower == "true" || lower == "false" {
		value = lower == "true"
	}
	out, _ := json.Marshal(value) // of a number or a text it never fails
	return out
}
