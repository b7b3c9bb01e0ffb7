package filter

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"cel.dev/cel-go/common"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/parser"
)

// MaxLength is the longest expression, in bytes.
const MaxLength = 4000

// maxDepth bounds how deep an expression nests.
const maxDepth = 60

// Error says what is wrong with an expression, and where.
type Error struct {
	Column int // from 1, in characters
	What   string
}

func (e *Error) Error() string { return fmt.Sprintf("column %d: %s", e.Column, e.What) }

// figures are the functions of a curve.
var figures = map[string]Op{"best": Best, "last": Last, "lowest": Lowest, "highest": Highest, "at": AtBest}

// Parse reads a condition. Errors are of the type *Error. now is what ago counts from.
func Parse(text string, now time.Time) (*Node, error) { return runs.Parse(text, now) }

// Parse reads a condition on things of a kind.
func (l *Language) Parse(text string, now time.Time) (*Node, error) {
	n, err := l.parse(text, now)
	if err == nil && n.Kind != Truth && n.Op != Hyper {
		such := "hyper.lr <= 0.01"
		if !l.Runs {
			such = l.Fields[0].Name + ` == "..."`
		}
		err = &Error{1, fmt.Sprintf("this is a %s; a condition is wanted, such as %s", n.Kind, such)}
	}
	return n, err
}

// ParseValue reads a value to sort by, such as hyper.lr or best("loss.val").
func ParseValue(text string, now time.Time) (*Node, error) {
	n, err := ParseColumn(text, now)
	if err == nil && n.Kind == List {
		err = &Error{1, "a list is nothing to sort by; write another field, a hyperparameter or a figure, such as best(\"loss.val\")"}
	}
	return n, err
}

// ParseColumn reads a value to show: one to sort by, or a list that runs have, such as tags.
func ParseColumn(text string, now time.Time) (*Node, error) {
	n, err := runs.parse(text, now)
	if err == nil && n.Op == Literal {
		err = &Error{1, "this is the same of all runs; write a field, a hyperparameter or a figure, such as best(\"loss.val\")"}
	}
	return n, err
}

func (l *Language) parse(text string, now time.Time) (*Node, error) {
	if len(text) > MaxLength {
		return nil, &Error{1, fmt.Sprintf("the expression has %d bytes; at most %d", len(text), MaxLength)}
	}
	p, err := parser.NewParser(parser.Macros(parser.HasMacro), parser.MaxRecursionDepth(maxDepth),
		parser.ErrorReportingLimit(1))
	if err != nil {
		return nil, err
	}
	tree, found := p.Parse(common.NewTextSource(text))
	if list := found.GetErrors(); len(list) > 0 {
		if e := otherWord(text); e != nil {
			return nil, e
		}
		if e := bareLength(text); e != nil {
			return nil, e
		}
		return nil, &Error{max(1, list[0].Location.Column()+1), plain(list[0].Message)}
	}
	r := reader{language: l, tree: tree, now: now}
	return r.read(tree.Expr())
}

// reader turns CEL's tree into ours and checks kinds on the way.
type reader struct {
	language *Language
	tree     *ast.AST
	now      time.Time
}

func (r *reader) wrong(e ast.Expr, format string, args ...any) (*Node, error) {
	at := 0
	if l := r.tree.SourceInfo().GetStartLocation(e.ID()); l != nil {
		at = l.Column()
	}
	return nil, &Error{max(1, at+1), fmt.Sprintf(format, args...)}
}

func (r *reader) read(e ast.Expr) (*Node, error) {
	switch e.Kind() {
	case ast.LiteralKind:
		return r.literal(e)
	case ast.IdentKind:
		name := e.AsIdent()
		l := r.language
		if f, ok := l.field(name); ok {
			return &Node{Op: Field, Kind: f.Kind, Name: name}, nil
		}
		if !l.Runs {
			return r.wrong(e, "there is no %q; the fields of an %s are %s", name, l.Of, strings.Join(l.names(), ", "))
		}
		if op := figures[name]; op == Best || op == Last { // of the objective, which OfObjective says
			return &Node{Op: op, Kind: Number}, nil
		}
		if name == "hyper" {
			return r.wrong(e, "say which hyperparameter: hyper.lr")
		}
		return r.wrong(e, "there is no %q; a hyperparameter is hyper.%[1]s, a figure of a curve best(%[1]q) or last(%[1]q), and the fields of a run are %[2]s",
			name, strings.Join(l.names(), ", "))
	case ast.SelectKind:
		if on, ok := r.evaluated(e.AsSelect().Operand()); ok && r.language.Runs {
			n := &Node{Op: Evaluated, Kind: Number, Name: e.AsSelect().FieldName(), On: on}
			if e.AsSelect().IsTestOnly() {
				n = &Node{Op: Has, Kind: Truth, Args: []*Node{n}}
			}
			return n, nil
		}
		if use, ok := r.below(e, "data"); ok && r.language.Runs && !e.AsSelect().IsTestOnly() {
			return &Node{Op: Data, Kind: Text, Name: use}, nil
		}
		name, ok := r.below(e, "hyper")
		if !ok || !r.language.Runs {
			if dotted, ok := dotted(e); ok && r.language.Runs {
				return r.wrong(e, "there is no %q; a figure of a curve is best(%[1]q) or last(%[1]q), a hyperparameter hyper[%[1]q]",
					dotted)
			}
			return r.wrong(e, "only hyper has names below it, such as hyper.lr, and evaluated(...)")
		}
		if e.AsSelect().IsTestOnly() {
			return &Node{Op: Has, Kind: Truth, Name: name}, nil
		}
		return &Node{Op: Hyper, Kind: Any, Name: name}, nil
	case ast.ListKind:
		out := &Node{Op: Literal, Kind: List, Lit: []any{}}
		for _, x := range e.AsList().Elements() {
			n, err := r.read(x)
			if err != nil {
				return nil, err
			}
			if n.Op != Literal {
				return r.wrong(x, "a list holds plain numbers, texts and booleans")
			}
			out.Lit = append(out.Lit.([]any), n.Lit)
		}
		return out, nil
	case ast.CallKind:
		return r.call(e)
	}
	return r.wrong(e, "this is more than a filter can say")
}

// dotted is a name such as loss.val as it is written.
func dotted(e ast.Expr) (string, bool) {
	switch e.Kind() {
	case ast.IdentKind:
		return e.AsIdent(), true
	case ast.SelectKind:
		above, ok := dotted(e.AsSelect().Operand())
		return above + "." + e.AsSelect().FieldName(), ok && !e.AsSelect().IsTestOnly()
	}
	return "", false
}

// evaluated is the data in evaluated("hydrophone#3:test").
func (r *reader) evaluated(e ast.Expr) (string, bool) {
	if e.Kind() != ast.CallKind || e.AsCall().FunctionName() != "evaluated" || e.AsCall().IsMemberFunction() ||
		len(e.AsCall().Args()) != 1 || e.AsCall().Args()[0].Kind() != ast.LiteralKind {
		return "", false
	}
	on, ok := e.AsCall().Args()[0].AsLiteral().Value().(string)
	return on, ok
}

// below is the name in hyper.a.b or hyper["a.b"], where head is hyper.
func (r *reader) below(e ast.Expr, head string) (string, bool) {
	switch e.Kind() {
	case ast.SelectKind:
		s := e.AsSelect()
		if o := s.Operand(); o.Kind() == ast.IdentKind && o.AsIdent() == head {
			return s.FieldName(), true
		}
		name, ok := r.below(s.Operand(), head)
		return name + "." + s.FieldName(), ok
	case ast.CallKind:
		if c := e.AsCall(); c.FunctionName() == operators.Index && c.Args()[0].Kind() == ast.IdentKind &&
			c.Args()[0].AsIdent() == head && c.Args()[1].Kind() == ast.LiteralKind {
			name, ok := c.Args()[1].AsLiteral().Value().(string)
			return name, ok
		}
	}
	return "", false
}

func (r *reader) literal(e ast.Expr) (*Node, error) {
	switch v := e.AsLiteral().(type) {
	case types.Int:
		return &Node{Op: Literal, Kind: Number, Lit: float64(v)}, nil
	case types.Uint:
		return &Node{Op: Literal, Kind: Number, Lit: float64(v)}, nil
	case types.Double:
		return &Node{Op: Literal, Kind: Number, Lit: float64(v)}, nil
	case types.String:
		return &Node{Op: Literal, Kind: Text, Lit: string(v)}, nil
	case types.Bool:
		return &Node{Op: Literal, Kind: Truth, Lit: bool(v)}, nil
	case ref.Val:
		return r.wrong(e, "a literal of the type %s has no use here", v.Type())
	}
	return r.wrong(e, "this literal has no use here")
}

var binary = map[string]struct {
	op   Op
	swap bool
	not  bool
}{
	operators.LogicalAnd: {And, false, false}, operators.LogicalOr: {Or, false, false},
	operators.Equals: {Equal, false, false}, operators.NotEquals: {Equal, false, true},
	operators.Less: {Less, false, false}, operators.LessEquals: {LessEqual, false, false},
	operators.Greater: {Less, true, false}, operators.GreaterEquals: {LessEqual, true, false},
	operators.In: {In, false, false}, operators.Add: {Add, false, false}, operators.Subtract: {Subtract, false, false},
	operators.Multiply: {Multiply, false, false}, operators.Divide: {Divide, false, false},
}

var methods = map[string]Op{"contains": Contains, "startsWith": StartsWith, "endsWith": EndsWith}

func (r *reader) call(e ast.Expr) (*Node, error) {
	c := e.AsCall()
	name, args := c.FunctionName(), c.Args()
	if hyper, ok := r.below(e, "hyper"); ok && r.language.Runs {
		return &Node{Op: Hyper, Kind: Any, Name: hyper}, nil
	}
	if column, ok := r.below(e, "column"); ok && r.language.Columns != nil {
		if kind, known := r.language.Columns[column]; known {
			return &Node{Op: Field, Kind: kind, Name: column}, nil
		}
		return r.wrong(e, "there is no column %q", column)
	}
	if name == operators.Index && r.language.Runs {
		on, ok := r.evaluated(args[0])
		if ok && args[1].Kind() == ast.LiteralKind {
			if measure, named := args[1].AsLiteral().Value().(string); named {
				return &Node{Op: Evaluated, Kind: Number, Name: measure, On: on}, nil
			}
		}
	}
	if op, ok := methods[name]; ok && c.IsMemberFunction() && len(args) == 1 {
		return r.operands(e, op, c.Target(), args[0])
	}
	if c.IsMemberFunction() {
		return r.wrong(e, "there is no %s(); texts have contains, startsWith and endsWith", name)
	}
	if o, ok := binary[name]; ok && len(args) == 2 {
		a, b := args[0], args[1]
		if o.swap {
			a, b = b, a
		}
		n, err := r.operands(e, o.op, a, b)
		if err == nil && o.not {
			n = &Node{Op: Not, Kind: Truth, Args: []*Node{n}}
		}
		return n, err
	}
	switch name {
	case operators.LogicalNot:
		n, err := r.read(args[0])
		if err != nil {
			return nil, err
		}
		if n.Kind != Truth && n.Kind != Any {
			return r.wrong(args[0], "! negates a condition, not a %s", n.Kind)
		}
		return &Node{Op: Not, Kind: Truth, Args: []*Node{n}}, nil
	case operators.Negate:
		n, err := r.read(args[0])
		if err != nil {
			return nil, err
		}
		if n.Op == Literal && n.Kind == Number {
			return &Node{Op: Literal, Kind: Number, Lit: -n.Lit.(float64)}, nil
		}
		if n.Kind != Number && n.Kind != Any {
			return r.wrong(args[0], "- goes before a number, not a %s", n.Kind)
		}
		return &Node{Op: Subtract, Kind: Number, Args: []*Node{{Op: Literal, Kind: Number, Lit: 0.0}, n}}, nil
	}
	return r.function(e, name, args)
}

// function reads a call of one of our functions, which all take one text.
func (r *reader) function(e ast.Expr, name string, args []ast.Expr) (*Node, error) {
	figure, isFigure := figures[name]
	if !r.language.Runs && name != "text" {
		return r.wrong(e, "there is no function %s(); there is text", name)
	}
	if name == "evaluated" {
		return r.wrong(e, `say on which data, and which measure: evaluated("hydrophone#3:test").accuracy`)
	}
	if !isFigure && name != "ago" && name != "timestamp" && name != "text" {
		return r.wrong(e, "there is no function %s(); there are best, last, lowest, highest, at, evaluated, ago, timestamp, text and has", name)
	}
	text, ok := "", len(args) == 1 && args[0].Kind() == ast.LiteralKind
	if ok {
		text, ok = args[0].AsLiteral().Value().(string)
	}
	if !ok {
		return r.wrong(e, "%s() takes one text in quotes", name)
	}
	switch name {
	case "text":
		return &Node{Op: Search, Kind: Truth, Name: text}, nil
	case "ago":
		d, err := duration(text)
		if err != nil {
			return r.wrong(args[0], "%v", err)
		}
		return &Node{Op: Literal, Kind: Time, Lit: r.now.Add(-d)}, nil
	case "timestamp":
		if at, ok := moment(text); ok {
			return &Node{Op: Literal, Kind: Time, Lit: at}, nil
		}
		return r.wrong(args[0], "%q is no time; write it as 2026-11-01T00:00:00Z or 2026-11-01", text)
	}
	return &Node{Op: figure, Kind: Number, Name: text}, nil
}

// named is the field called true where things have one and the word stands beside what is no boolean: true == "tug".
func (r *reader) named(n, beside *Node) *Node {
	if n.Op != Literal || n.Lit != true || beside.Kind == Truth {
		return n
	}
	if f, ok := r.language.field("true"); ok {
		return &Node{Op: Field, Kind: f.Kind, Name: f.Name}
	}
	return n
}

func (r *reader) operands(e ast.Expr, op Op, x, y ast.Expr) (*Node, error) {
	a, err := r.read(x)
	b, errB := r.read(y)
	switch {
	case err != nil && errB == nil:
		return r.unquoted(x, b, err)
	case err == nil && errB != nil:
		return r.unquoted(y, a, errB)
	case err != nil:
		return nil, err
	}
	a, b = r.named(a, b), r.named(b, a)
	if op == Equal || op == Less || op == LessEqual {
		a, b = r.meant(a, b), r.meant(b, a)
	}
	n := &Node{Op: op, Kind: Truth, Args: []*Node{a, b}}
	is := func(n *Node, kinds ...Kind) bool {
		for _, k := range append(kinds, Any) {
			if n.Kind == k {
				return true
			}
		}
		return false
	}
	switch op {
	case And, Or:
		for i, side := range []*Node{a, b} {
			if !is(side, Truth) {
				return r.wrong([]ast.Expr{x, y}[i], "a condition is wanted here, not a %s", side.Kind)
			}
		}
	case Equal, Less, LessEqual:
		if op == Equal {
			for i, side := range []*Node{a, b} {
				if err := r.oneOf(side, n.Args[1-i]); err != nil {
					return r.wrong([]ast.Expr{y, x}[i], "%v", err)
				}
			}
		}
		if a.Kind == List && b.Op == Literal && b.Kind == Text {
			return r.wrong(e, "%[1]s is a list: write %[2]q in %[1]s", a.Name, b.Lit)
		}
		if a.Kind == Time && b.Kind == Number || a.Kind == Number && b.Kind == Time {
			return r.wrong(e, `a time is written in quotes, as "2026-11-01", "2026-11-01 15:30" or, for so long ago, "7d"`)
		}
		if a.Kind != b.Kind && a.Kind != Any && b.Kind != Any {
			return r.wrong(e, "a %s cannot be compared with a %s", a.Kind, b.Kind)
		}
		if op != Equal && (!is(a, Number, Text, Time) || !is(b, Number, Text, Time)) {
			return r.wrong(e, "numbers, texts and times are less or greater, not a %s",
				map[bool]Kind{true: b.Kind, false: a.Kind}[is(a, Number, Text, Time)])
		}
	case In:
		if err := r.oneOf(a, b); err != nil {
			return r.wrong(y, "%v", err)
		}
		if b.Kind != List || a.Kind == List || a.Kind == Time {
			return r.wrong(e, "in asks whether a value is in a list: \"baseline\" in tags, or state in [\"failed\", \"lost\"]")
		}
	case Contains, StartsWith, EndsWith:
		if !is(a, Text) || b.Op != Literal || b.Kind != Text {
			return r.wrong(e, "this asks whether a text contains, or begins or ends with, a text in quotes")
		}
	default:
		n.Kind = Number
		if !is(a, Number) || !is(b, Number) {
			return r.wrong(e, "only numbers can be added, subtracted, multiplied and divided")
		}
	}
	return n, nil
}

// unquoted says of a word that names nothing, and stands beside a text or a hyperparameter, that texts are written in
// quotes.
func (r *reader) unquoted(e ast.Expr, beside *Node, err error) (*Node, error) {
	texts := beside.Op != Literal && (beside.Kind == Text || beside.Kind == List || beside.Op == Hyper)
	word, plain := dotted(e)
	if plain && texts && r.language.Runs && word != "hyper" && !strings.HasPrefix(word, "data.") {
		return r.wrong(e, "there is no %q; a text is written in quotes: %[1]q", word)
	}
	return nil, err
}

// oneOf says what is wrong with texts that a field of few values is compared with.
func (r *reader) oneOf(field, with *Node) error {
	if field.Op != Field || with.Op != Literal {
		return nil
	}
	few := Few[field.Name]
	if !r.language.Runs || few == nil {
		return nil
	}
	texts, isList := with.Lit.([]any)
	if !isList {
		texts = []any{with.Lit}
	}
	for _, v := range texts {
		if text, ok := v.(string); ok && text != "" && !slices.Contains(few, text) {
			return fmt.Errorf("there is no %s %q; there are %s", field.Name, text, strings.Join(few, ", "))
		}
	}
	return nil
}

// SplitList takes a list of expressions apart at its commas; those within quotes and brackets do not count.
func SplitList(text string) []string {
	var out []string
	depth, quoted, from := 0, false, 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '(' || c == '[':
			depth++
		case c == ')' || c == ']':
			depth--
		case c == ',' && depth <= 0:
			out = append(out, strings.TrimSpace(text[from:i]))
			from = i + 1
		}
	}
	if last := strings.TrimSpace(text[from:]); last != "" || len(out) > 0 {
		out = append(out, last)
	}
	return out
}
