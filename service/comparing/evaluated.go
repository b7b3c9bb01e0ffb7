package comparing

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"

	"kembrel/api"
	"kembrel/core/compare"
	"kembrel/service/finding"
	"kembrel/store"
)

// Limits of what is told of evaluations: on so many data, so many measures each.
const (
	mostData     = 12
	mostMeasures = 2
)

// measured are the measures by which evaluations are compared, the first that there are.
var measured = []string{"accuracy", "loss", "log_loss", "mae", "rmse"}

// evaluated holds the latest evaluations of runs on the same data against each other: those on which most runs were
// evaluated first.
func (s *Comparing) evaluated(ctx context.Context, runs []store.Run, groups []compare.Group) ([]api.ComparedEvaluation,
	error) {
	ids, places := make([]int64, len(runs)), map[int64]int{}
	for i, r := range runs {
		ids[i], places[r.ID] = r.ID, i
	}
	rows, err := s.db.LatestEvaluations(ctx, ids)
	if err != nil {
		return nil, err
	}
	by := map[string][]store.LatestEvaluation{}
	for _, r := range rows {
		by[r.On] = append(by[r.On], r)
	}
	order := slices.SortedFunc(maps.Keys(by), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(by[b]), len(by[a])), cmp.Compare(a, b))
	})
	out := []api.ComparedEvaluation{}
	for _, on := range order[:min(len(order), mostData)] {
		found := make([]map[string]api.Float, len(runs))
		alarmed := make([]bool, len(runs))
		has := map[string]bool{}
		for _, r := range by[on] {
			i := places[r.Run]
			if err := json.Unmarshal(r.Measures, &found[i]); err != nil {
				return nil, err
			}
			alarmed[i] = r.Alarmed
			for name := range found[i] {
				has[name] = true
			}
		}
		names := slices.DeleteFunc(slices.Clone(measured), func(n string) bool { return !has[n] })
		for _, name := range names[:min(len(names), mostMeasures)] {
			row := api.ComparedEvaluation{On: on, Measure: name}
			for i := range runs {
				v, ok := found[i][name]
				if !ok {
					v = api.Float(math.NaN())
				}
				row.Values, row.Alarmed = append(row.Values, v), append(row.Alarmed, alarmed[i] && ok)
			}
			for _, g := range groups {
				sum, n, wrong := 0.0, 0, false
				for _, i := range g.Runs {
					if v := float64(row.Values[i]); !math.IsNaN(v) {
						sum, n, wrong = sum+v, n+1, wrong || row.Alarmed[i]
					}
				}
				row.Groups = append(row.Groups, api.ComparedGroup{Mean: api.Float(sum / float64(n)), Runs: n,
					Alarmed: wrong})
			}
			out = append(out, row)
		}
	}
	return out, nil
}

// sayEvaluated says which setting is best on the data on which most runs were evaluated, of those whose evaluation
// raises no alarm; "" where there is none.
func sayEvaluated(rows []api.ComparedEvaluation, groups []api.RunGroup) string {
	if len(rows) == 0 {
		return ""
	}
	row, best, alarmed, compared := rows[0], -1, 0, 0
	lower := finding.LowerIsBetter(api.Objective{}, row.Measure)
	for i, g := range row.Groups {
		if g.Runs == 0 {
			continue
		}
		if compared++; g.Alarmed {
			alarmed++
			continue
		}
		if best < 0 || (g.Mean < row.Groups[best].Mean) == lower {
			best = i
		}
	}
	text := fmt.Sprintf("No setting was evaluated on %s without an alarm.", row.On)
	if best >= 0 {
		which := map[bool]string{true: "lowest", false: "highest"}[lower]
		text = fmt.Sprintf("On %s the %s %s is %.4g, of %s.", row.On, which, row.Measure,
			float64(row.Groups[best].Mean),
			groups[best].Label)
	}
	if best >= 0 && alarmed > 0 {
		text += fmt.Sprintf(" %d of %d raise alarms, and do not count.", alarmed, compared)
	}
	return text
}
