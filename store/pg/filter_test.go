package pg_test

import (
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/core/filter"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// The database and the slow evaluator choose the same runs, whatever the expression, on runs with absent values and
// values of mixed kinds; and the same order, also where it is read page by page.
func TestFilterAgreesWithTheSlowOne(t *testing.T) {
	f := start(t)
	r := rand.New(rand.NewPCG(3, 1851))
	pick := func(of ...any) any { return of[r.IntN(len(of))] }
	now := time.Now().UTC().Truncate(time.Microsecond)
	project := f.project
	curve := map[string]int{"loss.val": 1, "accuracy.val": 2}
	var runs []filter.Run
	for i := range 80 {
		run := filter.Run{Fields: map[string]any{"number": float64(i + 1), "who": "Ines", "step": 0.0,
			"host": pick("hydra-1", "hydra-2")}, Hyper: map[string]any{}, Figures: map[string]filter.Figures{}}
		started := now.Add(-time.Duration(r.IntN(1000)) * time.Hour)
		recipe := map[string]any{}
		if r.IntN(2) == 0 {
			recipe["commit"] = pick("abc", "abd")
			run.Fields["commit"] = recipe["commit"]
		}
		id, _, err := f.AddRun(ctx, store.NewRun{Project: project, Creator: f.person, Key: uuid.NewString(),
			Title: fmt.Sprint("net ", r.IntN(5)), Host: run.Fields["host"].(string), Recipe: recipe, Started: started})
		require.NoError(t, err)
		run.Fields["started"], run.Fields["title"] = started, ""
		for _, name := range []string{"lr", "layers", "mixed", "net.depth", "flag"} {
			var v any
			switch name {
			case "lr":
				v = pick(nil, 0.1, 0.01, 1e-3, 3.0)
			case "layers":
				v = pick(nil, []any{64.0, 32.0}, []any{64.0}, 7.0)
			case "mixed":
				v = pick(nil, 1.0, "1", "adam", true, []any{"a"}, -2.5)
			case "net.depth":
				v = pick(nil, 1.0, 2.0)
			case "flag":
				v = pick(nil, true, false, "true")
			}
			if v != nil {
				text, err := json.Marshal(v)
				require.NoError(t, err)
				require.NoError(t, f.SetHyper(ctx, id, map[string]json.RawMessage{name: text}))
				run.Hyper[name] = v
			}
		}
		title, note, tags := pick("Wide 100%", "narrow_net", "Wide net").(string),
			pick("", "sonar\nspoke").(string), []string{}
		if r.IntN(2) == 0 {
			tags = append(tags, pick("baseline", "smoke").(string))
		}
		require.NoError(t, f.ChangeRun(ctx, id, &title, tags, &note))
		run.Fields["title"], run.Fields["note"], run.Fields["tags"] = title, note, tags
		run.Texts = append([]string{title, note, run.Fields["host"].(string)}, tags...)
		state := pick("running", "finished", "failed").(string)
		var ended *time.Time
		if state != "running" {
			at := started.Add(time.Duration(r.IntN(9000)) * time.Second)
			ended = &at
			run.Fields["ended"], run.Fields["took"] = at, at.Sub(started).Seconds()
		}
		run.Fields["state"] = state
		_, err = f.SetRunState(ctx, id, state, ended)
		require.NoError(t, err)
		if r.IntN(3) > 0 {
			verdict, pace := pick("converged", "diverged").(string), pick("NaN", 0.5, 12.0)
			_, err = f.SetVerdict(ctx, id, map[string]any{"kind": verdict, "pace": pace})
			require.NoError(t, err)
			run.Fields["verdict"] = verdict
			if v, ok := pace.(float64); ok {
				run.Fields["pace"] = v
			}
		}
		for name, number := range curve {
			if r.IntN(4) == 0 {
				continue
			}
			low, high, last, then := r.Float64(), 1+r.Float64(), 0.5+r.Float64(), r.Float64()
			if r.IntN(5) == 0 {
				last = math.NaN()
			}
			if r.IntN(8) == 0 {
				low, high = math.NaN(), math.NaN()
			}
			_, err = f.Pool.Exec(ctx, "insert into curve (run, id, name) values ($1, $2, $3)", id, number, name)
			require.NoError(t, err)
			_, err = f.Pool.Exec(ctx, `insert into curve_summary (run, curve, count, nan, infinite, last_step, last_epoch, last_time, last_value, low_step, low_epoch, low_time, low_value,
				high_step, high_epoch, high_time, high_value, sketch_every, sketch, at_best) values ($1, $2, 1, 0, 0, 1, 1, 1, $3, 1, 1, 1, $4, 1, 1, 1, $5, 1, '', $6)`, id, number, last, low, high, then)
			require.NoError(t, err)
			best := low
			if name == "accuracy.val" {
				best = high
			}
			run.Figures[name] = filter.Figures{Best: best, Last: last, Lowest: low, Highest: high, AtBest: then}
		}
		run.Found = map[string]map[string]float64{}
		for number := range r.IntN(4) { // the latest on each counts
			var point int64
			require.NoError(t, f.Pool.QueryRow(ctx, `insert into checkpoint (run, key, leg, step, epoch, saved, size)
				values ($1, $2, 1, $3, 1, now(), 1) returning id`, id, uuid.NewString(), number).Scan(&point))
			on, split := pick("hydrophone#1:test", "").(string), pick("test", "val").(string)
			run.Fields["size"] = 1.0
			measures := map[string]any{"accuracy": r.Float64(), "f1": "NaN"}
			_, err = f.Pool.Exec(ctx, `insert into evaluation (run, number, key, checkpoint, data, split, figures, measures, command, ended)
				values ($1, $2, $3, $4, $5, $6, '{}', $7, '[]', now())`, id, number+1, uuid.NewString(), point, on, split, measures)
			require.NoError(t, err)
			if on == "" {
				on = split
			}
			run.Found[on] = map[string]float64{"accuracy": measures["accuracy"].(float64), "f1": math.NaN()}
		}
		runs = append(runs, run)
	}
	require.NoError(t, f.SetBest(ctx, project))
	lower := func(curve string) bool { return strings.HasPrefix(curve, "loss") }
	var number, condition func(depth int) string
	number = func(depth int) string {
		if depth > 0 && r.IntN(4) == 0 {
			return "(" + number(depth-1) + pick(" + ", " - ", " * ", " / ").(string) + number(depth-1) + ")"
		}
		return pick("hyper.lr", "hyper.mixed", "hyper.net.depth", `hyper["layers"]`, `best("loss.val")`,
			`last("accuracy.val")`, `lowest("accuracy.val")`, `highest("loss.val")`, `best("x")`, `at("accuracy.val")`,
			`evaluated("hydrophone#1:test").accuracy`, `evaluated("test").accuracy`, `evaluated("val").f1`,
			"number", "took", "pace", "size", "0.01", "1", "7", "-2.5").(string)
	}
	text := func() string {
		return pick("state", "title", "note", "commit", "verdict", "host", "hyper.mixed", `"finished"`, `"1"`,
			`"adam"`).(string)
	}
	condition = func(depth int) string {
		if depth > 0 && r.IntN(2) == 0 {
			return pick("!", "").(string) + "(" + condition(depth-1) + pick(" && ",
				" || ").(string) + condition(depth-1) + ")"
		}
		sign := pick(" == ", " != ", " < ", " <= ", " > ", " >= ").(string)
		switch r.IntN(9) {
		case 0, 1, 2:
			return number(2) + sign + number(1)
		case 3:
			return text() + sign + text()
		case 4:
			return pick(`"baseline" in tags`, `hyper.mixed in [1, "adam", true]`, `state in ["failed"]`,
				`hyper.lr in [0.1, 3]`, `hyper.mixed in tags`).(string)
		case 5:
			return pick("has(hyper.lr)", "has(hyper.none)", "hyper.flag", "!hyper.flag", "hyper.flag == true",
				"hyper.mixed == hyper.flag").(string)
		case 6:
			return pick(`text("WIDE")`, `text("100%")`, `text("w_n")`, `text("sonar")`, `text("smoke")`,
				`text("hydra-1")`).(string)
		case 7:
			return pick("started", "ended").(string) + sign + pick(`ago("12d")`, "started", "ended").(string)
		}
		return pick("title", "hyper.mixed", "commit").(string) + pick(".contains(", ".startsWith(",
			".endsWith(").(string) + pick(`"a"`, `"net"`, `"1"`, `"Wide"`).(string) + ")"
	}
	chosen := 0
	for i := range 700 {
		expression := condition(3)
		node, err := filter.Parse(expression, now)
		for err != nil && (strings.Contains(err.Error(), "no state ") || strings.Contains(err.Error(), "no verdict ")) {
			expression = condition(3) // a state or verdict that there is not is refused
			node, err = filter.Parse(expression, now)
		}
		require.NoError(t, err, expression)
		got, err := f.FindRuns(ctx, store.RunQuery{Project: project, Where: node, Lower: lower,
			Objective: "loss.val", Limit: 1000})
		if db.OutOfRange(err) {
			continue
		}
		require.NoError(t, err, expression)
		var want, have []float64
		for _, run := range runs {
			if node.Matches(run) {
				want = append(want, run.Fields["number"].(float64))
			}
		}
		for _, p := range got {
			have = append(have, float64(p.Number))
		}
		slices.Sort(have)
		require.Equal(t, want, have, "%d: %s", i, expression)
		if len(want) > 0 && len(want) < len(runs) {
			chosen++
		}
	}
	require.Greater(t, chosen, 350, "most expressions choose some")

	// Columns say what the slow evaluator says.
	for range 60 {
		expressions := []string{number(2), text(), "hyper.layers", "hyper.flag"}
		var nodes []*filter.Node
		for _, e := range expressions {
			node, err := filter.ParseValue(e, now)
			if err != nil { // a literal alone is no column
				node, err = filter.ParseValue("hyper.mixed", now)
			}
			require.NoError(t, err)
			nodes = append(nodes, node)
		}
		numbers := []int64{3, 17, 42, 80}
		got, err := f.RunValues(ctx, store.RunQuery{Project: project, Lower: lower,
			Objective: "loss.val"}, numbers, nodes)
		if db.OutOfRange(err) {
			continue
		}
		require.NoError(t, err)
		for _, n := range numbers {
			for i, node := range nodes {
				want := node.Value(runs[n-1])
				if want == nil {
					require.Nil(t, got[n][i], expressions)
					continue
				}
				var have any
				require.NoError(t, json.Unmarshal(got[n][i], &have))
				if w, ok := want.(float64); ok {
					require.InEpsilon(t, 1+w, 1+have.(float64), 1e-12, expressions)
				} else {
					require.Equal(t, want, have, expressions)
				}
			}
		}
	}

	for _, by := range []string{"hyper.lr", `best("loss.val")`, "title", "started", "took", "state"} {
		node, err := filter.ParseValue(by, now)
		require.NoError(t, err)
		for _, descending := range []bool{false, true} {
			whole, err := f.FindRuns(ctx, store.RunQuery{Project: project, Sort: node, Descending: descending,
				Lower: lower, Objective: "loss.val", Limit: 1000})
			require.NoError(t, err, by)
			require.Len(t, whole, len(runs))
			var pages []store.RunPlace
			for after := (*store.RunPlace)(nil); ; {
				page, err := f.FindRuns(ctx, store.RunQuery{Project: project, Sort: node, Descending: descending,
					Lower: lower, Objective: "loss.val", After: after, Limit: 7})
				require.NoError(t, err, by)
				if len(page) == 0 {
					break
				}
				pages = append(pages, page...)
				after = &page[len(page)-1]
			}
			require.Equal(t, whole, pages, "%s %v", by, descending)
			marks, err := f.Landmarks(ctx, store.RunQuery{Project: project, Sort: node, Descending: descending,
				Lower: lower, Objective: "loss.val"}, 11)
			require.NoError(t, err)
			require.Len(t, marks, len(whole)/11+1)
			for _, m := range marks {
				require.Equal(t, whole[m.Place-1], m.RunPlace, "%s %v", by, descending)
			}
			absent := false
			for _, p := range whole {
				require.False(t, absent && p.Value != nil, "absent values come last")
				absent = absent || p.Value == nil
			}
		}
	}
}
