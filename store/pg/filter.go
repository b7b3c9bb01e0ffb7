package pg

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"kembrel/core/filter"
)

// RunQuery asks for runs of a project that fulfil a condition, in an order.
type RunQuery struct {
	Project    int64
	Where      *filter.Node            // nil: all
	Sort       *filter.Node            // nil: by number
	Descending bool                    // runs without a value come last either way
	Lower      func(curve string) bool // whether best of a curve is its lowest reading
	Objective  string                  // the curve whose best is kept with the run
	After      *RunPlace               // behind this one; nil: from the start
	Limit      int
	Shown      string // which runs, by what became of them; "": those that are neither archived nor doomed
}

// RunPlace is where a run stands in an order: its value (nil: none) and its number.
type RunPlace struct {
	Value  any   `json:"v"` // float64, or string for texts and times
	Number int64 `json:"n"`
}

// FindRuns lists the numbers and sort values of runs: those that have a value, then those that have none. Of equal values the newest come
// first.
func (q Queries) FindRuns(ctx context.Context, in RunQuery) ([]RunPlace, error) {
	out := []RunPlace{}
	few := map[*filter.Node][]int64{}
	if err := q.findFew(ctx, in.Project, in.Where, few); err != nil {
		return nil, err
	}
	if in.After == nil || in.After.Value != nil {
		found, err := q.findRuns(ctx, in, few, false)
		if err != nil || len(found) == in.Limit || in.Sort == nil {
			return found, err
		}
		out = found
		in.After = nil
	}
	in.Limit -= len(out)
	rest, err := q.findRuns(ctx, in, few, true)
	return append(out, rest...), err
}

// findRuns lists runs that have a value, or those that have none. The statement is planned for its values each time: how many runs a condition
// leaves decides the way to them.
func (q Queries) findRuns(ctx context.Context, in RunQuery, few map[*filter.Node][]int64, absent bool) ([]RunPlace, error) {
	o, err := q.ordered(ctx, in, few)
	if err != nil {
		return nil, err
	}
	o.args["limit"] = in.Limit
	b, kind, compare := o.builder, o.kind, ">"
	if in.Descending {
		compare = "<"
	}
	behind := "v.value is not null"
	if absent {
		behind = "v.value is null"
	}
	if a := in.After; a != nil {
		b.args["number"] = a.Number
		if absent {
			behind += " and r.number < @number"
		} else {
			at := b.add(a.Value) + "::float8"
			if in.Sort == nil {
				at = "@number::int"
			}
			if kind != filter.Number {
				at = b.add(a.Value) + `::text collate "C"`
			}
			behind = fmt.Sprintf("v.value %s= %s and (v.value %s %s or r.number < @number)", compare, at, compare, at)
		}
	}
	rows, err := q.db.Query(ctx, o.fill(q.sql("run_find"), "true/*behind*/", behind), pgx.QueryExecModeExec, b.args)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p RunPlace, err error) {
		err = row.Scan(&p.Number, &p.Value)
		return p, err
	})
}

// order is what a query of runs in an order is put together from.
type order struct {
	*builder
	value, where, shown, direction string
	kind                           filter.Kind
}

// shown are conditions on what became of a run.
var shown = map[string]string{"": "r.archived is null and r.doomed is null", "archived": "r.archived is not null and r.doomed is null", "deleted": "r.doomed is not null", "all": "true"}

func (q Queries) ordered(ctx context.Context, in RunQuery, few map[*filter.Node][]int64) (*order, error) {
	o := &order{builder: &builder{args: A{"project": in.Project}, lower: in.Lower, objective: in.Objective, few: few}, value: "r.number", where: "true", shown: shown[in.Shown], direction: "asc"}
	if in.Where != nil {
		o.where = o.truth(in.Where)
	}
	if in.Descending {
		o.direction = "desc"
	}
	if in.Sort != nil {
		words := false
		if in.Sort.Op == filter.Hyper {
			numbers, err := value[*bool](ctx, q, "hyper_is_number", A{"project": in.Project, "name": in.Sort.Name})
			if err != nil {
				return nil, err
			}
			words = numbers != nil && !*numbers
		}
		o.value, o.kind = o.sortable(in.Sort, words)
		o.direction += " nulls last"
	}
	return o, nil
}

// fill puts its parts into a query's marks, and others given as pairs.
func (o *order) fill(text string, more ...string) string {
	joins, used := o.joins, o.value+o.where
	if strings.Contains(used, "p.name") {
		joins += " join person p on p.id = r.creator"
	}
	if strings.Contains(used, "l.last_") {
		joins += " left join lateral (select last_step, last_epoch from leg where run = r.id order by number desc limit 1) l on true"
	}
	return strings.NewReplacer(append(more, "/*joins*/", joins, "r.number/*value*/", o.value, "true/*where*/", o.where, "true/*shown*/", o.shown, "/*order*/", o.direction)...).Replace(text)
}

// Landmark is a run where a page of an order can begin behind, and how many runs there are up to it.
type Landmark struct {
	RunPlace
	Place int64
}

// Landmarks are every so manyth run of an order, and the last. O(runs log runs).
func (q Queries) Landmarks(ctx context.Context, in RunQuery, every int) ([]Landmark, error) {
	few := map[*filter.Node][]int64{}
	if err := q.findFew(ctx, in.Project, in.Where, few); err != nil {
		return nil, err
	}
	o, err := q.ordered(ctx, in, few)
	if err != nil {
		return nil, err
	}
	o.args["every"] = every
	rows, err := q.db.Query(ctx, o.fill(q.sql("run_places")), pgx.QueryExecModeExec, o.args)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (l Landmark, err error) {
		err = row.Scan(&l.Number, &l.Value, &l.Place)
		return l, err
	})
}

// RunValues are what expressions say of some runs, as JSON, in the order of the expressions; null where absent.
func (q Queries) RunValues(ctx context.Context, in RunQuery, numbers []int64, expressions []*filter.Node) (map[int64][]json.RawMessage, error) {
	b := &builder{args: A{"project": in.Project, "numbers": numbers}, lower: in.Lower, objective: in.Objective}
	parts := make([]string, len(expressions))
	for i, n := range expressions {
		kind := n.Kind
		if parts[i] = b.joined(n); parts[i] != "" {
			continue
		}
		if parts[i] = b.of(n, kind); kind != filter.Any && kind != filter.List {
			parts[i] = "to_jsonb(" + parts[i] + ")"
		}
	}
	text := strings.Replace(q.sql("run_values"), "/*values*/", strings.Join(parts, ", "), 1)
	b.args["hypers"], b.args["curves"] = b.hypers, b.curves
	rows, err := q.db.Query(ctx, text, pgx.QueryExecModeExec, b.args)
	if err != nil {
		return nil, err
	}
	out := map[int64][]json.RawMessage{}
	found, err := pgx.CollectRows(rows, pgx.RowToStructByPos[struct {
		Number int64
		Values []json.RawMessage
	}])
	for _, f := range found {
		out[f.Number] = f.Values
	}
	return out, err
}

// fewRuns is how many runs a condition may leave to be looked up one by one, whatever the order.
const fewRuns = 2000

// findFew finds the runs of those conditions, all of which must hold, that only few runs fulfil: the planner does not know which they are, as
// its statistics do not tell the numbers of one hyperparameter from those of another.
func (q Queries) findFew(ctx context.Context, project int64, n *filter.Node, few map[*filter.Node][]int64) error {
	if n == nil {
		return nil
	}
	if n.Op == filter.And {
		if err := q.findFew(ctx, project, n.Args[0], few); err != nil {
			return err
		}
		return q.findFew(ctx, project, n.Args[1], few)
	}
	sign, ok := map[filter.Op]string{filter.Equal: "=", filter.Less: "<", filter.LessEqual: "<="}[n.Op]
	if !ok {
		return nil
	}
	b := &builder{args: A{"project": project, "limit": fewRuns + 1}}
	from := b.listed(n.Args[0], n.Args[1], sign)
	if from == "" {
		return nil
	}
	// The order makes it go along the index.
	list := strings.TrimSuffix(strings.TrimPrefix(from, "r.id in ("), ")")
	rows, err := q.db.Query(ctx, list+" order by h.number limit @limit", pgx.QueryExecModeExec, b.args)
	if err != nil {
		return err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err == nil && len(ids) <= fewRuns {
		few[n] = ids
	}
	return err
}

// SetBest keeps the best reading of the objective with a run, or with all of a project (run 0).
func (q Queries) SetBest(ctx context.Context, project, run int64) error {
	_, err := q.exec(ctx, "best_set", A{"project": project, "run": run})
	return err
}

// Word is something that a project's data offer to a filter.
type Word struct{ Kind, Word string }

// Words lists them, of the project's newest runs: kinds are hyper, curve, tags, host, commit, verdict, who.
func (q Queries) Words(ctx context.Context, project int64) ([]Word, error) {
	return list[Word](ctx, q, "project_words", A{"project": project})
}

// builder writes a condition as SQL over the rows r (run), p (person) and l (last leg). Every expression that may be absent is null then;
// comparisons coalesce to false.
type builder struct {
	args      A
	lower     func(string) bool
	objective string
	joins     string // of what is sorted by
	few       map[*filter.Node][]int64
	hypers    []string // hyperparameters and curves that run_values joins
	curves    []string
}

// joined writes a column that is a hyperparameter or a curve's figure as what run_values joins once for each run, however many columns there are; "" where
// it is something else.
func (b *builder) joined(n *filter.Node) string {
	figure := func(at int) string {
		b.curves = append(b.curves, n.Name)
		return fmt.Sprintf("nullif(fg.figures -> %s::text -> %d, 'null')", b.add(n.Name), at)
	}
	switch n.Op {
	case filter.Hyper:
		if n.Kind == filter.Any {
			b.hypers = append(b.hypers, n.Name)
			return "hy.hypers -> " + b.add(n.Name) + "::text"
		}
	case filter.Best:
		switch {
		case n.Name == b.objective:
		case b.lower(n.Name):
			return figure(1)
		default:
			return figure(2)
		}
	case filter.Last:
		return figure(0)
	case filter.Lowest:
		return figure(1)
	case filter.Highest:
		return figure(2)
	case filter.AtBest:
		return figure(3)
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
var numbers = map[string]string{"number": "r.number::float8", "step": "l.last_step::float8", "search": "r.search::float8", "trial": "r.trial::float8", "epoch": "nullif(l.last_epoch, 'NaN')", "took": "r.took",
	"pace": "nullif((r.verdict ->> 'pace')::float8, 'NaN')",
	"size": "(select c.size::float8 from checkpoint c where c.run = r.id order by c.id desc limit 1)",
	"parameters": `(select sum(t.parameters)::float8 from checkpoint_file f join tensor_file t on t.digest = f.digest where f.run = r.id and f.part = 'weights'
		and f.checkpoint = (select max(c.id) from checkpoint c where c.run = r.id))`}

func (b *builder) number(n *filter.Node) string {
	arg := func(i int) string { return b.number(n.Args[i]) }
	figure := func(column string) string {
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
		if n.Name == b.objective {
			return "r.best"
		}
		if b.lower(n.Name) {
			return figure("low_value")
		}
		return figure("high_value")
	case filter.Last:
		return figure("last_value")
	case filter.AtBest:
		return figure("at_best")
	case filter.Lowest:
		return figure("low_value")
	case filter.Highest:
		return figure("high_value")
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
var texts = map[string]string{"state": "r.state::text", "verdict": "r.verdict ->> 'kind'", "title": "r.title", "note": "r.note", "who": "p.name", "host": "r.host", "commit": "r.recipe ->> 'commit'"}

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

// listed writes a comparison of a hyperparameter with a number as a list of runs, which an index gives; "" where it is no such comparison.
func (b *builder) listed(x, y *filter.Node, sign string) string {
	if x.Op == filter.Literal {
		x, y, sign = y, x, map[string]string{"=": "=", "<": ">", "<=": ">="}[sign]
	}
	if x.Op != filter.Hyper || y.Op != filter.Literal || y.Kind != filter.Number {
		return ""
	}
	return fmt.Sprintf("r.id in (select h.run from hyper h where h.name = %s and h.number %s %s::float8)", b.add(x.Name), sign, b.add(y.Lit))
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
	return fmt.Sprintf("(coalesce(%s %s %s, false) or coalesce(%s %s %s, false))", b.number(x), sign, b.number(y), b.text(x), sign, b.text(y))
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

// sortable is a value to sort by: numbers as they are, times as seconds, the rest as text. A hyperparameter is sorted by its number, or by its
// text where it has words.
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
