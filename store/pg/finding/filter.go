package finding

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"kembrel/core/filter"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// FindRuns lists the numbers and sort values of runs: those that have a value, then those that have none. Of equal
// values the newest come first.
func (q Queries) FindRuns(ctx context.Context, in store.RunQuery) ([]store.RunPlace, error) {
	out := []store.RunPlace{}
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

// findRuns lists runs that have a value, or those that have none. The statement is planned for its values each time:
// how many runs a condition leaves decides the way to them.
func (q Queries) findRuns(ctx context.Context, in store.RunQuery, few map[*filter.Node][]int64,
	absent bool) ([]store.RunPlace, error) {
	o, err := q.ordered(ctx, in, few)
	if err != nil {
		return nil, err
	}
	o.args["limit"] = in.Limit
	b, compare := o.builder, ">"
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
			at := "@number::int"
			_, number := a.Value.(float64)
			_, text := a.Value.(string)
			switch {
			case o.value.kind != filter.Number && !text, in.Sort != nil && o.value.kind == filter.Number && !number:
				return nil, store.ErrCursor
			case o.value.kind != filter.Number:
				at = b.add(a.Value, `::text collate "C"`).text
			case in.Sort != nil:
				at = b.add(a.Value, "::float8").text
			}
			behind = fmt.Sprintf("v.value %s= %s and (v.value %s %s or r.number < @number)", compare, at, compare, at)
		}
	}
	rows, err := q.Query(ctx, o.fill(q.SQL("run_find"), "true/*behind*/", behind), pgx.QueryExecModeExec, b.args)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (p store.RunPlace, err error) {
		err = row.Scan(&p.Number, &p.Value)
		return p, err
	})
}

// order is what a query of runs in an order is put together from.
type order struct {
	*builder
	value, where     expression
	shown, direction string
}

// shown are conditions on what became of a run.
var shown = map[string]string{"": "r.archived is null and r.doomed is null",
	"archived": "r.archived is not null and r.doomed is null", "deleted": "r.doomed is not null", "all": "true"}

func (q Queries) ordered(ctx context.Context, in store.RunQuery, few map[*filter.Node][]int64) (*order, error) {
	o := &order{builder: &builder{args: db.A{"project": in.Project}, lower: in.Lower, objective: in.Objective,
		few: few}, value: expression{text: "r.number"}, where: expression{text: "true"}, shown: shown[in.Shown],
		direction: "asc"}
	if in.Where != nil {
		o.where = o.truth(in.Where)
	}
	if in.Descending {
		o.direction = "desc"
	}
	if in.Sort != nil {
		words := false
		if in.Sort.Op == filter.Hyper {
			numbers, err := db.Value[*bool](ctx, q, "hyper_is_number",
				db.A{"project": in.Project, "name": in.Sort.Name})
			if err != nil {
				return nil, err
			}
			words = numbers != nil && !*numbers
		}
		o.value = o.sortable(in.Sort, words)
		o.direction += " nulls last"
	}
	return o, nil
}

// fill puts its parts in the places that a query has for them, and others given as pairs.
func (o *order) fill(text string, more ...string) string {
	return strings.NewReplacer(append(more, "/*joins*/", (o.value.reads | o.where.reads).joins(),
		"r.number/*value*/", o.value.text, "true/*where*/", o.where.text, "true/*shown*/", o.shown,
		"/*order*/", o.direction)...).Replace(text)
}

// Landmarks are every so manyth run of an order, and the last. O(runs log runs).
func (q Queries) Landmarks(ctx context.Context, in store.RunQuery, every int) ([]store.Landmark, error) {
	few := map[*filter.Node][]int64{}
	if err := q.findFew(ctx, in.Project, in.Where, few); err != nil {
		return nil, err
	}
	o, err := q.ordered(ctx, in, few)
	if err != nil {
		return nil, err
	}
	o.args["every"] = every
	rows, err := q.Query(ctx, o.fill(q.SQL("run_places")), pgx.QueryExecModeExec, o.args)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (l store.Landmark, err error) {
		err = row.Scan(&l.Number, &l.Value, &l.Place)
		return l, err
	})
}

// RunValues are what expressions say of some runs, as JSON, in the order of the expressions; nil where absent.
// Infinities are texts, as in the API. Hyperparameters and figures of curves are read as rows, once for all runs,
// however many columns there are; O(runs x columns).
func (q Queries) RunValues(ctx context.Context, in store.RunQuery, numbers []int64,
	expressions []*filter.Node) (map[int64][]json.RawMessage, error) {
	b := &builder{args: db.A{"project": in.Project, "numbers": numbers}, lower: in.Lower, objective: in.Objective}
	out := map[int64][]json.RawMessage{}
	for _, n := range numbers {
		out[n] = make([]json.RawMessage, len(expressions))
	}
	hypers, figures, others, parts := map[string][]int{}, map[string][]int{}, []int{}, []string{}
	var reads rows
	for i, n := range expressions {
		switch {
		case n.Op == filter.Hyper && n.Kind == filter.Any:
			hypers[n.Name] = append(hypers[n.Name], i)
		case b.figure(n) != "":
			figures[n.Name] = append(figures[n.Name], i)
		default:
			part := b.of(n, n.Kind)
			if n.Kind != filter.Any && n.Kind != filter.List {
				part = write(filter.Any, "to_jsonb(%s)", part)
			}
			others, parts, reads = append(others, i), append(parts, part.text), reads|part.reads
		}
	}
	var number int64
	var name string
	if len(hypers) > 0 {
		var value []byte // of its own for every row
		args := db.A{"project": in.Project, "numbers": numbers, "names": slices.Collect(maps.Keys(hypers))}
		err := q.ForEach(ctx, "run_hypers", args, []any{&number, &name, &value}, func() {
			for _, i := range hypers[name] {
				out[number][i] = value
			}
		})
		if err != nil {
			return nil, err
		}
	}
	if len(figures) > 0 {
		var last, low, high, best float64
		columns := make([]*float64, len(expressions))
		for i, n := range expressions {
			columns[i] = map[string]*float64{"last_value": &last, "low_value": &low, "high_value": &high,
				"at_best": &best}[b.figure(n)]
		}
		args := db.A{"project": in.Project, "numbers": numbers, "names": slices.Collect(maps.Keys(figures))}
		err := q.ForEach(ctx, "run_figures", args, []any{&number, &name, &last, &low, &high, &best}, func() {
			for _, i := range figures[name] {
				switch v := *columns[i]; {
				case math.IsInf(v, 1):
					out[number][i] = json.RawMessage(`"Infinity"`)
				case math.IsInf(v, -1):
					out[number][i] = json.RawMessage(`"-Infinity"`)
				case v == v:
					out[number][i] = strconv.AppendFloat(nil, v, 'g', -1, 64)
				}
			}
		})
		if err != nil {
			return nil, err
		}
	}
	if len(others) == 0 {
		return out, nil
	}
	found, err := q.Query(ctx, strings.NewReplacer("/*values*/", strings.Join(parts, ", "), "/*joins*/", reads.joins()).
		Replace(q.SQL("run_values")), pgx.QueryExecModeExec, b.args)
	if err != nil {
		return nil, err
	}
	var values []json.RawMessage
	_, err = pgx.ForEachRow(found, []any{&number, &values}, func() error {
		for k, i := range others {
			if values[k] != nil {
				out[number][i] = slices.Clone(values[k])
			}
		}
		return nil
	})
	return out, err
}

// fewRuns is how many runs a condition may leave to be looked up one by one, whatever the order.
const fewRuns = 2000

// findFew finds the runs of those conditions, all of which must hold, that only few runs fulfil: the planner does not
// know which they are, as its statistics do not tell the numbers of one hyperparameter from those of another.
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
	b := &builder{args: db.A{"project": project, "limit": fewRuns + 1}}
	list, ok := b.listed(n.Args[0], n.Args[1], sign)
	if !ok {
		return nil
	}
	// The order makes it go along the index.
	rows, err := q.Query(ctx, list.text+" order by h.number limit @limit", pgx.QueryExecModeExec, b.args)
	if err != nil {
		return err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err == nil && len(ids) <= fewRuns {
		few[n] = ids
	}
	return err
}

// Words lists them, of the project's newest runs: kinds are hyper, curve, tags, host, commit, verdict, who.
func (q Queries) Words(ctx context.Context, project int64) ([]store.Word, error) {
	return db.List[store.Word](ctx, q, "project_words", db.A{"project": project})
}
