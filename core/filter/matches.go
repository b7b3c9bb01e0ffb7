package filter

import (
	"math"
	"slices"
	"strings"
	"time"
)

// Run is a run in memory. Numbers of hyperparameters are float64, lists are []any; figures that are not there are NaN
// or missing.
type Run struct {
	Fields  map[string]any    // float64, string, time.Time, []string; missing: absent
	Hyper   map[string]any    // float64, string, bool, []any
	Data    map[string]string // what it used, by what for
	Figures map[string]Figures
	Found   map[string]map[string]float64 // by data, then measure, of the latest evaluation on it
	Texts   []string                      // what text() looks through
}

// Figures are those of one curve.
type Figures struct{ Best, Last, Lowest, Highest, AtBest float64 }

// Matches reports whether a run fulfils a condition: slowly, and by the rules of the package comment.
func (n *Node) Matches(r Run) bool {
	v, ok := n.Value(r).(bool)
	return ok && v
}

// Value is what a node stands for, slowly and by the same rules: float64, string, bool, time.Time or a list; nil:
// absent.
func (n *Node) Value(r Run) any {
	arg := func(i int) any { return n.Args[i].Value(r) }
	number := func(v float64, ok bool) any {
		if !ok || v != v {
			return nil
		}
		return v
	}
	f, known := r.Figures[n.Name]
	switch n.Op {
	case Literal:
		return n.Lit
	case Field:
		v := r.Fields[n.Name]
		if x, ok := v.(float64); ok {
			return number(x, true)
		}
		return v
	case Hyper:
		return r.Hyper[n.Name]
	case Data:
		if used, ok := r.Data[n.Name]; ok && used != "" {
			return used
		}
		return nil
	case Has:
		if len(n.Args) > 0 {
			return arg(0) != nil
		}
		return r.Hyper[n.Name] != nil
	case Evaluated:
		v, found := r.Found[n.On][n.Name]
		return number(v, found)
	case Best:
		return number(f.Best, known)
	case Last:
		return number(f.Last, known)
	case Lowest:
		return number(f.Lowest, known)
	case Highest:
		return number(f.Highest, known)
	case AtBest:
		return number(f.AtBest, known)
	case Search:
		return slices.ContainsFunc(r.Texts,
			func(t string) bool { return strings.Contains(strings.ToLower(t), strings.ToLower(n.Name)) })
	case And:
		return n.Args[0].Matches(r) && n.Args[1].Matches(r)
	case Or:
		return n.Args[0].Matches(r) || n.Args[1].Matches(r)
	case Not:
		return !n.Args[0].Matches(r)
	case Equal:
		return equal(arg(0), arg(1))
	case Less, LessEqual:
		order, ok := compare(arg(0), arg(1))
		return ok && (order < 0 || order == 0 && n.Op == LessEqual)
	case In:
		if n.Args[1].Name == "data" {
			return inData(arg(0), arg(1))
		}
		return in(arg(0), arg(1))
	case Contains, StartsWith, EndsWith:
		text, ok := arg(0).(string)
		part := n.Args[1].Lit.(string)
		return ok && map[Op]func(string, string) bool{Contains: strings.Contains, StartsWith: strings.HasPrefix,
			EndsWith: strings.HasSuffix}[n.Op](text, part)
	}
	a, ok1 := arg(0).(float64)
	b, ok2 := arg(1).(float64)
	if !ok1 || !ok2 {
		return nil
	}
	switch n.Op {
	case Add:
		return number(a+b, true)
	case Subtract:
		return number(a-b, true)
	case Multiply:
		return number(a*b, true)
	}
	return number(a/b, b != 0)
}

func equal(a, b any) bool {
	if x, ok := a.([]any); ok {
		y, ok := b.([]any)
		return ok && slices.EqualFunc(x, y, equal)
	}
	if x, ok := a.(time.Time); ok {
		y, ok := b.(time.Time)
		return ok && x.Equal(y)
	}
	switch b.(type) {
	case []any, []string, nil:
		return false
	}
	return a != nil && a == b
}

func compare(a, b any) (int, bool) {
	switch x := a.(type) {
	case float64:
		if y, ok := b.(float64); ok {
			switch {
			case x < y:
				return -1, true
			case x > y:
				return 1, true
			}
			return 0, !math.IsNaN(x) && !math.IsNaN(y)
		}
	case string:
		if y, ok := b.(string); ok {
			return strings.Compare(x, y), true
		}
	case time.Time:
		if y, ok := b.(time.Time); ok {
			return x.Compare(y), true
		}
	}
	return 0, false
}

func in(a, list any) bool {
	switch l := list.(type) {
	case []any:
		return slices.ContainsFunc(l, func(x any) bool { return equal(a, x) })
	case []string:
		t, ok := a.(string)
		return ok && slices.Contains(l, t)
	}
	return false
}

// inData reports whether a dataset, a snapshot or a split of one is among the addresses of data: hydrophone and
// hydrophone#3 are where hydrophone#3:val is.
func inData(a, list any) bool {
	if in(a, list) {
		return true
	}
	text, ok := a.(string)
	var used []string
	switch l := list.(type) {
	case []string:
		used = l
	case []any:
		for _, x := range l {
			if address, ok := x.(string); ok {
				used = append(used, address)
			}
		}
	}
	return ok && slices.ContainsFunc(used, func(address string) bool {
		snapshot, _, _ := strings.Cut(address, ":")
		name, _, _ := strings.Cut(address, "#")
		return text == snapshot || text == name
	})
}

// Leaves are the parts of an expression that name something of a run.
func (n *Node) Leaves() []*Node {
	switch n.Op {
	case Literal:
		return nil
	case Field, Hyper, Data, Best, Last, Lowest, Highest, AtBest, Evaluated, Search:
		return []*Node{n}
	case Has:
		if len(n.Args) == 0 {
			return []*Node{n}
		}
	}
	var out []*Node
	for _, a := range n.Args {
		out = append(out, a.Leaves()...)
	}
	return out
}

// Put is the expression with values (as Value gives them; nil: absent) in the place of leaves.
func (n *Node) Put(values map[*Node]any) *Node {
	if v, ok := values[n]; ok {
		return &Node{Op: Literal, Kind: n.Kind, Name: n.Name, Lit: v}
	}
	out := *n
	out.Args = make([]*Node, len(n.Args))
	for i, a := range n.Args {
		out.Args[i] = a.Put(values)
	}
	return &out
}
