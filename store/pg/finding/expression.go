package finding

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"kembrel/core/filter"
	"kembrel/store/pg/db"
)

// builder writes a condition as SQL over the rows r (run), p (person) and l (last leg). Every expression that may be
// absent is null then; comparisons coalesce to false.
type builder struct {
	args      db.A
	lower     func(string) bool
	objective string
	joins     string // of what is sorted by
	few       map[*filter.Node][]int64
}

// figure is the column of curve_summary that a node reads; "" where it reads none.
func (b *builder) figure(n *filter.Node) string {
	switch n.Op {
	case filter.Best:
		switch {
		case n.Name == b.objective: // it stands with the run
		case b.lower(n.Name):
			return "low_value"
		default:
			return "high_value"
		}
	case filter.Last:
		return "last_value"
	case filter.AtBest:
		return "at_best"
	case filter.Lowest:
		return "low_value"
	case filter.Highest:
		return "high_value"
	}
	return ""
}

// add makes a parameter.
func (b *builder) add(v any) string {
	name := fmt.Sprintf("f%d", len(b.args))
	b.args[name] = v
	return "@" + name
}

func (b *builder) truth(n *filter.Node) string {
	arg := func(i int) string { return b.truth(n.Args[i]) }
	if ids, ok := b.few[n]; ok {
		return "r.id = any(" + b.add(ids) + "::bigint[])"
	}
	switch n.Op {
	case filter.Literal:
		if n.Lit.(bool) {
			return "true"
		}
		return "false"
	case filter.Hyper:
		return "coalesce(" + b.hyper(n, "boolean", "(h.value #>> '{}')::boolean") + ", false)"
	case filter.Has:
		return "exists (select 1 from hyper h where h.run = r.id and h.name = " + b.add(n.Name) + ")"
	case filter.Search:
		escaped := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(n.Name)
		return `(concat_ws(E'\n', r.title, r.note, r.host, array_to_string(r.tags, E'\n'), r.recipe ->> 'command') ilike ` + b.add("%"+escaped+"%") + ")"
	case filter.And:
		return "(" + arg(0) + " and " + arg(1) + ")"
	case filter.Or:
		return "(" + arg(0) + " or " + arg(1) + ")"
	case filter.Not:
		return "not " + arg(0)
	case filter.Equal:
		return b.equal(n.Args[0], n.Args[1])
	case filter.Less:
		return b.less(n.Args[0], n.Args[1], "<")
	case filter.LessEqual:
		return b.less(n.Args[0], n.Args[1], "<=")
	case filter.In:
		return b.in(n.Args[0], n.Args[1])
	case filter.Contains, filter.StartsWith, filter.EndsWith:
		text, part := b.text(n.Args[0]), b.add(n.Args[1].Lit)
		switch n.Op {
		case filter.Contains:
			return fmt.Sprintf("coalesce(position(%s::text in %s) > 0, false)", part, text)
		case filter.StartsWith:
			return fmt.Sprintf("coalesce(starts_with(%s, %s::text), false)", text, part)
		}
		return fmt.Sprintf("coalesce(right(%s, length(%s::text)) = %s::text, false)", text, part, part)
	}
	return "false"
}

// hyper reads a hyperparameter where it is of a kind of JSON; null otherwise.
func (b *builder) hyper(n *filter.Node, kind, value string) string {
	return fmt.Sprintf("(select case when jsonb_typeof(h.value) = '%s' then %s end from hyper h where h.run = r.id and h.name = %s)", kind, value, b.add(n.Name))
}

// numbers are the fields that are numbers.
var numbers = map[string]string{"number": "r.number::float8", "step": "l.last_step::float8",
	"search": "r.search::float8", "trial": "r.trial::float8", "epoch": "nullif(l.last_epoch, 'NaN')", "took": "r.took",
	"pace": "nullif((r.verdict ->> 'pace')::float8, 'NaN')",
	"size": "(select c.size::float8 from checkpoint c where c.run = r.id order by c.id desc limit 1)",
	"parameters": `(select sum(t.parameters)::float8 from checkpoint_file f join tensor_file t on t.digest = f.digest where f.run = r.id and f.part = 'weights'
		and f.checkpoint = (select max(c.id) from checkpoint c where c.run = r.id))`}

func (b *builder) number(n *filter.Node) string {
	arg := func(i int) string { return b.number(n.Args[i]) }
	if column := b.figure(n); column != "" {
		return fmt.Sprintf("(select nullif(s.%s, 'NaN') from curve c join curve_summary s on s.run = c.run and s.curve = c.id where c.run = r.id and c.name = %s)", column, b.add(n.Name))
	}
	switch n.Op {
	case filter.Literal:
		return b.add(n.Lit) + "::float8"
	case filter.Field:
		return numbers[n.Name]
	case filter.Hyper:
		return "(select h.number from hyper h where h.run = r.id and h.name = " + b.add(n.Name) + ")"
	case filter.Best:
		return "r.best"
	case filter.Add:
		return "(" + arg(0) + " + " + arg(1) + ")"
	case filter.Subtract:
		return "(" + arg(0) + " - " + arg(1) + ")"
	case filter.Multiply:
		return "(" + arg(0) + " * " + arg(1) + ")"
	case filter.Divide:
		return "(" + arg(0) + " / nullif(" + arg(1) + ", 0))"
	}
	return "null::float8"
}

// texts are the fields that are texts.
var texts = map[string]string{"state": "r.state::text", "verdict": "r.verdict ->> 'kind'", "title": "r.title",
	"note": "r.note", "who": "p.name", "host": "r.host", "commit": "r.recipe ->> 'commit'"}

func (b *builder) text(n *filter.Node) string {
	switch n.Op {
	case filter.Literal:
		return "(" + b.add(n.Lit) + `::text collate "C")`
	case filter.Field:
		return "((" + texts[n.Name] + `) collate "C")`
	case filter.Hyper:
		return "(" + b.hyper(n, "string", "h.value #>> '{}'") + ` collate "C")`
	}
	return "null::text"
}

func (b *builder) time(n *filter.Node) string {
	switch {
	case n.Op == filter.Literal:
		return b.add(n.Lit.(time.Time)) + "::timestamptz"
	case n.Name == "started":
		return "r.started"
	}
	return "r.ended"
}

// json reads what a hyperparameter, or a literal of any kind, is as JSON.
func (b *builder) json(n *filter.Node) string {
	switch n.Op {
	case filter.Hyper:
		return "(select h.value from hyper h where h.run = r.id and h.name = " + b.add(n.Name) + ")"
	case filter.Literal:
		text, _ := json.Marshal(n.Lit)
		return b.add(string(text)) + "::jsonb"
	}
	if n.Name == "tags" {
		return "to_jsonb(r.tags)"
	}
	return "null::jsonb"
}

// of reads a node as a kind.
func (b *builder) of(n *filter.Node, k filter.Kind) string {
	switch k {
	case filter.Number:
		return b.number(n)
	case filter.Text:
		return b.text(n)
	case filter.Time:
		if n.Kind == filter.Any { // a hyperparameter is no time
			return "null::timestamptz"
		}
		return b.time(n)
	case filter.Truth:
		if n.Kind == filter.Any {
			return b.hyper(n, "boolean", "(h.value #>> '{}')::boolean")
		}
		return b.truth(n)
	}
	return b.json(n)
}

// common is the kind that two sides are compared as: that of the one which has one.
func common(x, y *filter.Node) filter.Kind {
	if x.Kind == filter.Any {
		return y.Kind
	}
	return x.Kind
}

// listed writes a comparison of a hyperparameter with a number as a list of runs, which an index gives; "" where it is
// no such comparison.
func (b *builder) listed(x, y *filter.Node, sign string) string {
	if x.Op == filter.Literal {
		x, y, sign = y, x, map[string]string{"=": "=", "<": ">", "<=": ">="}[sign]
	}
	if x.Op != filter.Hyper || y.Op != filter.Literal || y.Kind != filter.Number {
		return ""
	}
	return fmt.Sprintf("r.id in (select h.run from hyper h where h.name = %s and h.number %s %s::float8)",
		b.add(x.Name), sign, b.add(y.Lit))
}

func (b *builder) equal(x, y *filter.Node) string {
	if text := b.listed(x, y, "="); text != "" {
		return text
	}
	k := common(x, y)
	return fmt.Sprintf("coalesce(%s = %s, false)", b.of(x, k), b.of(y, k))
}

func (b *builder) less(x, y *filter.Node, sign string) string {
	if text := b.listed(x, y, sign); text != "" {
		return text
	}
	k := common(x, y)
	if k != filter.Any {
		return fmt.Sprintf("coalesce(%s %s %s, false)", b.of(x, k), sign, b.of(y, k))
	}
	return fmt.Sprintf("(coalesce(%s %s %s, false) or coalesce(%s %s %s, false))", b.number(x), sign, b.number(y),
		b.text(x), sign, b.text(y))
}

func (b *builder) in(x, list *filter.Node) string {
	if list.Op == filter.Field { // tags
		return fmt.Sprintf("coalesce(%s = any(r.tags), false)", b.text(x))
	}
	parts := []string{"false"}
	for _, v := range list.Lit.([]any) {
		kind := filter.Text
		switch v.(type) {
		case float64:
			kind = filter.Number
		case bool:
			kind = filter.Truth
		}
		if x.Kind == kind || x.Kind == filter.Any {
			parts = append(parts, b.equal(x, &filter.Node{Op: filter.Literal, Kind: kind, Lit: v}))
		}
	}
	return "(" + strings.Join(parts, " or ") + ")"
}

// sortable is a value to sort by: numbers as they are, times as seconds, the rest as text. A hyperparameter is sorted
// by its number, or by its text where it has words.
func (b *builder) sortable(n *filter.Node, words bool) (string, filter.Kind) {
	if n.Op == filter.Hyper {
		b.joins += " left join hyper hs on hs.run = r.id and hs.name = " + b.add(n.Name)
		if words {
			return `((hs.value #>> '{}') collate "C")`, filter.Text
		}
		return "hs.number", filter.Number
	}
	switch n.Kind {
	case filter.Text:
		return b.text(n), filter.Text
	case filter.Time:
		return "extract(epoch from " + b.time(n) + ")::float8", filter.Number
	case filter.Truth:
		return "(" + b.truth(n) + ")::int::float8", filter.Number
	}
	return b.number(n), filter.Number
}
