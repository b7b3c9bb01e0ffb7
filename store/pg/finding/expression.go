package finding

import (
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"kembrel/core/filter"
	"kembrel/store/pg/db"
)

// expression is a value or a condition in SQL over the row r of a run, and what other rows it reads. What may be absent
// is null then.
type expression struct {
	text  string
	reads rows
	kind  filter.Kind
}

// rows are those that expressions may read beside r, each joined once.
type rows uint8

const (
	maker   rows = 1 << iota // p, the person who made the run
	newest                   // l, the leg begun last
	sorting                  // hs, the hyperparameter @sorting that is sorted by
)

// joined is how each of them comes to r.
var joined = []struct {
	rows
	text string
}{
	{maker, " join person p on p.id = r.creator"},
	{newest, " left join lateral (select last_step, last_epoch from leg where run = r.id order by number desc limit 1) l" +
		" on true"},
	{sorting, " left join hyper hs on hs.run = r.id and hs.name = @sorting"},
}

// joins are the joins that rows need.
func (r rows) joins() (text string) {
	for _, j := range joined {
		if r&j.rows != 0 {
			text += j.text
		}
	}
	return text
}

// fields says in SQL what each field of core/filter is.
var fields = map[string]expression{
	"state":   {text: "r.state::text"},
	"verdict": {text: "r.verdict ->> 'kind'"},
	"title":   {text: "r.title"},
	"note":    {text: "r.note"},
	"who":     {text: "p.name", reads: maker},
	"host":    {text: "r.host"},
	"commit":  {text: "r.recipe ->> 'commit'"},
	"number":  {text: "r.number::float8"},
	"step":    {text: "l.last_step::float8", reads: newest},
	"epoch":   {text: "nullif(l.last_epoch, 'NaN')", reads: newest},
	"took":    {text: "r.took"},
	"pace":    {text: "nullif((r.verdict ->> 'pace')::float8, 'NaN')"},
	"search":  {text: "r.search::float8"},
	"trial":   {text: "r.trial::float8"},
	"size":    {text: "(select c.size::float8 from checkpoint c where c.run = r.id order by c.id desc limit 1)"},
	"parameters": {text: `(select sum(t.parameters)::float8
		from checkpoint_file f join tensor_file t on t.digest = f.digest where f.run = r.id and f.part = 'weights'
		and f.checkpoint = (select max(c.id) from checkpoint c where c.run = r.id))`},
	"started": {text: "r.started"},
	"ended":   {text: "r.ended"},
	"tags":    {text: "to_jsonb(r.tags)"},
	"alarms":  {text: "to_jsonb(r.alarms)"},
	"alarmed": {text: "(r.alarms <> '{}')"},
	"data":    {text: "(select jsonb_agg(u.address order by u.use) from run_data u where u.run = r.id and u.address <> '')"},
}

// write makes an expression of a kind from others, for each of which there is a %s.
func write(kind filter.Kind, format string, parts ...expression) expression {
	out, texts := expression{kind: kind}, make([]any, len(parts))
	for i, p := range parts {
		out.reads |= p.reads
		texts[i] = p.text
	}
	out.text = fmt.Sprintf(format, texts...)
	return out
}

// builder writes expressions of core/filter as SQL. Comparisons with what is absent are false, not null.
type builder struct {
	args      db.A
	lower     func(string) bool
	objective string
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
func (b *builder) add(v any, cast string) expression {
	name := fmt.Sprintf("f%d", len(b.args))
	b.args[name] = v
	return expression{text: "@" + name + cast}
}

func (b *builder) truth(n *filter.Node) expression {
	arg := func(i int) expression { return b.truth(n.Args[i]) }
	if ids, ok := b.few[n]; ok {
		return write(filter.Truth, "r.id = any(%s)", b.add(ids, "::bigint[]"))
	}
	switch n.Op {
	case filter.Literal:
		return write(filter.Truth, fmt.Sprint(n.Lit.(bool)))
	case filter.Field:
		return write(filter.Truth, "%s", fields[n.Name])
	case filter.Hyper:
		return write(filter.Truth, "coalesce(%s, false)", b.boolean(n))
	case filter.Has:
		if len(n.Args) > 0 {
			return write(filter.Truth, "(%s is not null)", b.of(n.Args[0], n.Args[0].Kind))
		}
		return write(filter.Truth, "exists (select 1 from hyper h where h.run = r.id and h.name = %s)",
			b.add(n.Name, ""))
	case filter.Search:
		escaped := strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(n.Name)
		return write(filter.Truth, `(concat_ws(E'\n', r.title, r.note, r.host, array_to_string(r.tags, E'\n'),
			r.recipe ->> 'command') ilike %s)`, b.add("%"+escaped+"%", ""))
	case filter.And:
		return write(filter.Truth, "(%s and %s)", arg(0), arg(1))
	case filter.Or:
		return write(filter.Truth, "(%s or %s)", arg(0), arg(1))
	case filter.Not:
		return write(filter.Truth, "not %s", arg(0))
	case filter.Equal:
		return b.equal(n.Args[0], n.Args[1])
	case filter.Less:
		return b.less(n.Args[0], n.Args[1], "<")
	case filter.LessEqual:
		return b.less(n.Args[0], n.Args[1], "<=")
	case filter.In:
		return b.in(n.Args[0], n.Args[1])
	case filter.Contains:
		return write(filter.Truth, "coalesce(position(%s in %s) > 0, false)", b.add(n.Args[1].Lit, "::text"),
			b.text(n.Args[0]))
	case filter.StartsWith:
		return write(filter.Truth, "coalesce(starts_with(%s, %s), false)", b.text(n.Args[0]),
			b.add(n.Args[1].Lit, "::text"))
	case filter.EndsWith:
		text, part := b.text(n.Args[0]), b.add(n.Args[1].Lit, "::text")
		return write(filter.Truth, "coalesce(right(%s, length(%s)) = %s, false)", text, part, part)
	}
	return write(filter.Truth, "false")
}

// hyper reads a hyperparameter where it is of a kind of JSON; null otherwise.
func (b *builder) hyper(n *filter.Node, kind filter.Kind, json, value string) expression {
	return write(kind, "(select case when jsonb_typeof(h.value) = '"+json+"' then "+value+
		" end from hyper h where h.run = r.id and h.name = %s)", b.add(n.Name, ""))
}

func (b *builder) boolean(n *filter.Node) expression {
	return b.hyper(n, filter.Truth, "boolean", "(h.value #>> '{}')::boolean")
}

func (b *builder) number(n *filter.Node) expression {
	arg := func(i int) expression { return b.number(n.Args[i]) }
	if column := b.figure(n); column != "" {
		return write(filter.Number, "(select nullif(s."+column+", 'NaN') from curve c join curve_summary s"+
			" on s.run = c.run and s.curve = c.id where c.run = r.id and c.name = %s)", b.add(n.Name, ""))
	}
	switch n.Op {
	case filter.Literal:
		return write(filter.Number, "%s", b.add(n.Lit, "::float8"))
	case filter.Field:
		return write(filter.Number, "%s", fields[n.Name])
	case filter.Hyper:
		return write(filter.Number, "(select h.number from hyper h where h.run = r.id and h.name = %s)",
			b.add(n.Name, ""))
	case filter.Best:
		return write(filter.Number, "r.best")
	case filter.Evaluated:
		on := b.add(n.On, "::text")
		return write(filter.Number, "(select nullif((e.measures ->> %s)::float8, 'NaN') from evaluation e where e.run = r.id"+
			" and (e.data = %s or e.data = '' and e.split = %s) order by e.number desc limit 1)", b.add(n.Name, "::text"), on, on)
	case filter.Add:
		return write(filter.Number, "(%s + %s)", arg(0), arg(1))
	case filter.Subtract:
		return write(filter.Number, "(%s - %s)", arg(0), arg(1))
	case filter.Multiply:
		return write(filter.Number, "(%s * %s)", arg(0), arg(1))
	case filter.Divide:
		return write(filter.Number, "(%s / nullif(%s, 0))", arg(0), arg(1))
	}
	return write(filter.Number, "null::float8")
}

// text reads a text, in the order of its bytes.
func (b *builder) text(n *filter.Node) expression {
	switch n.Op {
	case filter.Literal:
		return write(filter.Text, `(%s collate "C")`, b.add(n.Lit, "::text"))
	case filter.Field:
		return write(filter.Text, `((%s) collate "C")`, fields[n.Name])
	case filter.Data:
		return write(filter.Text,
			`((select nullif(u.address, '') from run_data u where u.run = r.id and u.use = %s) collate "C")`, b.add(n.Name, ""))
	case filter.Hyper:
		return write(filter.Text, `(%s collate "C")`, b.hyper(n, filter.Text, "string", "h.value #>> '{}'"))
	}
	return write(filter.Text, "null::text")
}

func (b *builder) time(n *filter.Node) expression {
	if n.Op == filter.Literal {
		return write(filter.Time, "%s", b.add(n.Lit.(time.Time), "::timestamptz"))
	}
	return write(filter.Time, "%s", fields[n.Name])
}

// json reads what a hyperparameter, a list of the run, or a literal of any kind is as JSON.
func (b *builder) json(n *filter.Node) expression {
	switch n.Op {
	case filter.Hyper:
		return write(filter.Any, "(select h.value from hyper h where h.run = r.id and h.name = %s)", b.add(n.Name, ""))
	case filter.Literal:
		text, _ := json.Marshal(n.Lit)
		return write(filter.Any, "%s", b.add(string(text), "::jsonb"))
	case filter.Field:
		return write(filter.List, "%s", fields[n.Name])
	}
	return write(filter.Any, "null::jsonb")
}

// of reads a node as a kind.
func (b *builder) of(n *filter.Node, k filter.Kind) expression {
	switch k {
	case filter.Number:
		return b.number(n)
	case filter.Text:
		return b.text(n)
	case filter.Time:
		if n.Kind == filter.Any { // a hyperparameter is no time
			return write(filter.Time, "null::timestamptz")
		}
		return b.time(n)
	case filter.Truth:
		if n.Kind == filter.Any {
			return b.boolean(n)
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

// listed is a comparison of a hyperparameter with a number as the query that lists its runs along an index; false where
// it is no such comparison.
func (b *builder) listed(x, y *filter.Node, sign string) (expression, bool) {
	if x.Op == filter.Literal {
		x, y, sign = y, x, map[string]string{"=": "=", "<": ">", "<=": ">="}[sign]
	}
	if x.Op != filter.Hyper || y.Op != filter.Literal || y.Kind != filter.Number {
		return expression{}, false
	}
	return write(filter.List, "select h.run from hyper h where h.name = %s and h.number "+sign+" %s",
		b.add(x.Name, ""), b.add(y.Lit, "::float8")), true
}

func (b *builder) equal(x, y *filter.Node) expression {
	if list, ok := b.listed(x, y, "="); ok {
		return write(filter.Truth, "r.id in (%s)", list)
	}
	k := common(x, y)
	return write(filter.Truth, "coalesce(%s = %s, false)", b.of(x, k), b.of(y, k))
}

func (b *builder) less(x, y *filter.Node, sign string) expression {
	if list, ok := b.listed(x, y, sign); ok {
		return write(filter.Truth, "r.id in (%s)", list)
	}
	if k := common(x, y); k != filter.Any {
		return write(filter.Truth, "coalesce(%s "+sign+" %s, false)", b.of(x, k), b.of(y, k))
	}
	return write(filter.Truth, "(coalesce(%s "+sign+" %s, false) or coalesce(%s "+sign+" %s, false))", b.number(x),
		b.number(y), b.text(x), b.text(y))
}

func (b *builder) in(x, list *filter.Node) expression {
	if list.Op == filter.Field && list.Name == "data" { // hydrophone, hydrophone#3 and hydrophone#3:val are in it
		text := b.text(x)
		return write(filter.Truth, `coalesce(exists (select 1 from run_data u where u.run = r.id and (u.address = %s
			or split_part(u.address, ':', 1) = %s or split_part(u.address, '#', 1) = %s)), false)`, text, text, text)
	}
	if list.Op == filter.Field { // tags, alarms
		return write(filter.Truth, "coalesce(%s = any(r."+list.Name+"), false)", b.text(x))
	}
	out := write(filter.Truth, "false")
	for _, v := range list.Lit.([]any) {
		kind := filter.Text
		switch v.(type) {
		case float64:
			kind = filter.Number
		case bool:
			kind = filter.Truth
		}
		if x.Kind == kind || x.Kind == filter.Any {
			out = write(filter.Truth, "(%s or %s)", out,
				b.equal(x, &filter.Node{Op: filter.Literal, Kind: kind, Lit: v}))
		}
	}
	return out
}

// sortable is a value to sort by: numbers as they are, times as seconds, the rest as text. A hyperparameter is sorted
// by its number, or by its text where it has words.
func (b *builder) sortable(n *filter.Node, words bool) expression {
	if n.Op == filter.Hyper {
		b.args["sorting"] = n.Name
		if words {
			return expression{text: `((hs.value #>> '{}') collate "C")`, reads: sorting, kind: filter.Text}
		}
		return expression{text: "hs.number", reads: sorting, kind: filter.Number}
	}
	switch n.Kind {
	case filter.Text:
		return b.text(n)
	case filter.Time:
		return write(filter.Number, "extract(epoch from %s)::float8", b.time(n))
	case filter.Truth:
		return write(filter.Number, "(%s)::int::float8", b.truth(n))
	}
	return b.number(n)
}
