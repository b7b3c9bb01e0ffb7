package entering

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/compare"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/service/act"
)

const (
	mostRuns  = 200     // looked at, the latest
	mostSeeds = 100     // runs of one setting
	mostWhere = 3 << 10 // bytes of a condition that finds them
)

// where is the condition by which a rule finds runs: those that ended by themselves or were stopped.
func where(r catalogue.Entering, more string) string {
	parts := []string{`state in ["finished", "stopped"]`}
	if r.Where != "" {
		parts = append(parts, "("+r.Where+")")
	}
	if more != "" {
		parts = append(parts, more)
	}
	return strings.Join(parts, " && ")
}

// judge judges runs by one rule of a model.
type judge struct {
	*Entering
	who   act.Who
	model *api.Model
	rule  catalogue.Entering

	editions map[int]*api.EditionFacts
	seeds    map[string][]float64 // of other runs, by checkpoint
}

func (s *Entering) judge(who act.Who, m *api.Model, r catalogue.Entering) *judge {
	j := &judge{Entering: s, who: who, model: m, rule: r, editions: map[int]*api.EditionFacts{},
		seeds: map[string][]float64{}}
	for i, e := range m.Latest {
		j.editions[e.Number] = &m.Latest[i].Facts
	}
	return j
}

// leading is the standing that runs are measured by.
func leading(m *api.Model) api.Standing {
	names := make([]string, len(m.Standings))
	for i, st := range m.Standings {
		names[i] = st.Name
	}
	if i := slices.Index(names, catalogue.Leading(names)); i >= 0 {
		return m.Standings[i]
	}
	return api.Standing{}
}

// ended are the runs that a rule is about, in the order in which they ended: the latest of them. The value of each is
// the data that the split of the project's objective was of.
func (j *judge) ended(ctx context.Context, more string) ([]api.Run, error) {
	project, err := j.runs.Project(ctx, j.model.Project)
	if err != nil {
		return nil, err
	}
	columns := ""
	if use := split(project.Objective); use != "" {
		columns = "data." + use
	}
	page, err := j.runs.ListRuns(ctx, j.who, &api.RunsInput{ProjectInput: api.ProjectInput{Project: j.model.Project},
		RunChoice: api.RunChoice{Where: where(j.rule, more), Sort: "ended", Order: "descending"},
		PageInput: api.PageInput{Limit: mostRuns}, Columns: columns})
	if err != nil {
		return nil, err
	}
	slices.SortStableFunc(page.Items, func(a, b api.Run) int {
		return cmp.Or(a.Ended.Compare(*b.Ended), cmp.Compare(a.Number, b.Number))
	})
	return page.Items, nil
}

// split is what the objective's curve is of; "": it does not say.
func split(o verdict.Objective) string {
	_, use := curve.SplitName(o.Curve)
	return use
}

// facts are what is known of an edition.
func (j *judge) facts(ctx context.Context, number int) (*api.EditionFacts, error) {
	if f := j.editions[number]; f != nil {
		return f, nil
	}
	e, err := j.models.GetEdition(ctx, j.who, &api.EditionInput{ModelInput: api.ModelInput{Model: j.model.Name},
		Edition: number})
	if err != nil {
		return nil, err
	}
	j.editions[number] = &e.Facts
	return &e.Facts, nil
}

// stood is a figure of an edition: of which objective, on which data.
type stood struct {
	figure    float64
	objective api.Objective
	data      string
}

// dataOf is the data that a run's objective was of; "": it did not say.
func dataOf(r api.Run) (of string) {
	if len(r.Values) > 0 {
		json.Unmarshal(r.Values[0], &of)
	}
	return of
}

// run judges a run against the edition in use (0: none is) and the figures of the editions that were entered since.
func (j *judge) run(ctx context.Context, r api.Run, inUse int, since []stood) (api.RuleRun, error) {
	out := api.RuleRun{Run: r.Address, Ended: *r.Ended, Curve: r.Objective.Curve, InUse: inUse}
	point, _, _, err := j.checkpoints.FindHeld(ctx, api.CheckpointInput{RunInput: api.RunInput{
		ProjectInput: api.ProjectInput{Project: r.Project}, Number: r.Number}, At: j.rule.Checkpoint})
	if api.Is(err, api.NotFound) || api.Is(err, api.Gone) {
		out.Fate = catalogue.NoCheckpoint
		return out, nil
	}
	if err != nil {
		return out, err
	}
	at := api.At{Kind: api.AtStep, Step: point.Step, Leg: point.Leg}
	out.Origin = fmt.Sprintf("%s@%s", r.Address, at)
	c := catalogue.Contender{Figure: math.NaN()}
	if v, known := point.Figures[r.Objective.Curve]; known {
		c.Figure, out.Figure = float64(v), &v
	}
	var against *catalogue.Contender
	if inUse > 0 {
		facts, err := j.facts(ctx, inUse)
		if err != nil {
			return out, err
		}
		switch {
		case facts.Objective != r.Objective:
			out.Fate = catalogue.OtherObjective
			return out, nil
		case facts.Data[split(r.Objective)] != dataOf(r):
			out.Fate = catalogue.OtherData
			return out, nil
		}
		against = &catalogue.Contender{Figure: math.NaN()}
		if v, known := facts.Figures[r.Objective.Curve]; known {
			against.Figure, out.Against = float64(v), &v
		}
		if j.rule.Margin == nil {
			if against.Seeds, err = j.others(ctx, facts.Run, facts.Hyper); err != nil {
				return out, err
			}
			if len(against.Seeds) == 0 {
				if c.Seeds, err = j.others(ctx, r.Address, r.Hyper); err != nil {
					return out, err
				}
			}
		}
	}
	var alike []float64
	for _, s := range since {
		if s.objective == r.Objective && s.data == dataOf(r) {
			alike = append(alike, s.figure)
		}
	}
	got := j.rule.Judge(c, against, alike, r.Objective.Direction == verdict.Lower)
	out.Fate, out.Seeds = got.Fate, got.Seeds
	out.Better, out.Low, out.High = known(got.Better), known(got.Low), known(got.High)
	return out, nil
}

func known(v float64) *api.Float {
	if math.IsNaN(v) {
		return nil
	}
	f := api.Float(v)
	return &f
}

// others are the best figures of the other runs of a run's setting, which differ in nothing but the seed.
func (j *judge) others(ctx context.Context, run string, hyper map[string]json.RawMessage) ([]float64, error) {
	if found, asked := j.seeds[run]; asked {
		return found, nil
	}
	condition := ""
	for _, name := range slices.Sorted(maps.Keys(hyper)) {
		v := string(hyper[name])
		if compare.IsSeed(name) || strings.HasPrefix(v, "[") || strings.HasPrefix(v, "{") || v == "null" ||
			len(condition)+len(name)+len(v) > mostWhere {
			continue // what it lets through is compared below
		}
		condition += fmt.Sprintf(` && hyper[%s] == %s`, strconv.Quote(name), v)
	}
	page, err := j.runs.ListRuns(ctx, j.who, &api.RunsInput{ProjectInput: api.ProjectInput{Project: j.model.Project},
		RunChoice: api.RunChoice{Where: where(catalogue.Entering{}, strings.TrimPrefix(condition, " && "))},
		PageInput: api.PageInput{Limit: mostSeeds}})
	if api.Is(err, api.Invalid) { // a name or value that no condition can hold
		j.seeds[run] = nil
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	all := []compare.Run{{Name: run, Hyper: hyper}}
	for _, r := range page.Items {
		if r.Address == run || r.Best == nil {
			continue
		}
		all = append(all, compare.Run{Name: r.Address, Hyper: r.Hyper, Best: float64(r.Best.Value)})
	}
	var out []float64
	for _, group := range compare.Groups(all) {
		if !slices.Contains(group.Runs, 0) {
			continue
		}
		for _, i := range group.Runs {
			if i > 0 && !slices.Contains(group.Twice, i) {
				out = append(out, all[i].Best)
			}
		}
	}
	j.seeds[run] = out
	return out, nil
}

// TryRule shows what a rule would have done: each run against the edition that was in use when it ended, and against
// those that the rule would have entered since.
func (s *Entering) TryRule(ctx context.Context, who act.Who, in *api.NewRule) (*api.RulePast, error) {
	m, err := s.check(ctx, who, in)
	if err != nil {
		return nil, err
	}
	j := s.judge(who, m, in.Body)
	runs, err := j.ended(ctx, "")
	if err != nil {
		return nil, err
	}
	out := &api.RulePast{Runs: []api.RuleRun{}}
	would, before := []stood{}, 0
	name, entered := leading(m).Name, 0
	for _, r := range runs {
		inUse := usedAt(m, name, *r.Ended)
		if inUse != before {
			would, before = nil, inUse
		}
		got, err := j.run(ctx, r, inUse, would)
		if err != nil {
			return nil, err
		}
		if got.Fate == catalogue.Enters {
			entered++
			if got.Figure != nil {
				would = append(would, stood{float64(*got.Figure), r.Objective, dataOf(r)})
			}
		}
		got.Says = sayRun(&got)
		out.Runs = append(out.Runs, got)
	}
	out.Says = fmt.Sprintf("Of %s that ended, %d would have entered %s.",
		act.Many(len(runs), "run", "runs"), entered, m.Name)
	if len(runs) == mostRuns {
		out.Says = fmt.Sprintf("Of the latest %d runs that ended, %d would have entered %s.", mostRuns, entered, m.Name)
	}
	return out, nil
}

// usedAt is the edition that had a standing at a time; 0: none had.
func usedAt(m *api.Model, standing string, at time.Time) int {
	for _, h := range m.History {
		if h.Standing == standing && !h.Since.After(at) && (h.Until == nil || h.Until.After(at)) {
			return h.Edition
		}
	}
	return 0
}

// sayRun says what a rule made of a run.
func sayRun(r *api.RuleRun) string {
	than := func() string {
		text := ""
		if r.Figure != nil && r.Against != nil && r.Better != nil {
			word := "better"
			if *r.Better < 0 {
				word = "worse"
			}
			text = fmt.Sprintf("%s %s against %s of #%d in use, %s by %s", r.Curve, curve.Number(float64(*r.Figure)),
				curve.Number(float64(*r.Against)), r.InUse, word, curve.Number(math.Abs(float64(*r.Better))))
			if *r.Better == 0 {
				text = fmt.Sprintf("%s %s, the same as #%d in use", r.Curve, curve.Number(float64(*r.Figure)), r.InUse)
			}
		} else if r.Figure != nil {
			text = fmt.Sprintf("%s %s", r.Curve, curve.Number(float64(*r.Figure)))
		}
		if r.Low != nil && r.High != nil {
			text += fmt.Sprintf(" (%s to %s by the noise between %d seeds)", curve.Number(float64(*r.Low)),
				curve.Number(float64(*r.High)), r.Seeds)
		}
		return text
	}
	switch r.Fate {
	case catalogue.Enters:
		text := than()
		if r.InUse == 0 {
			text += "; no edition was in use"
		}
		if r.Edition > 0 {
			return fmt.Sprintf("Entered as #%d: %s.", r.Edition, text)
		}
		return "Enters: " + text + "."
	case catalogue.NotBetter:
		return "Not better, or not by enough: " + than() + "."
	case catalogue.WithinNoise:
		return "Cannot be told from the noise between seeds: " + than() + "."
	case catalogue.NoiseUnknown:
		return "Cannot be told from the noise between seeds, as neither setting was run with another seed: " + than() +
			". Run one, or give the rule a margin."
	case catalogue.AnotherBetter:
		return "An edition entered since is as good or better: " + than() + "."
	case catalogue.NoFigure:
		return fmt.Sprintf("Its checkpoint has no figure of %s.", r.Curve)
	case catalogue.NoCheckpoint:
		return "It has no such checkpoint with its bytes."
	case catalogue.OtherData:
		return fmt.Sprintf("Its %s is of other data than that of #%d in use.", r.Curve, r.InUse)
	case catalogue.OtherObjective:
		return fmt.Sprintf("It is judged by %s, and #%d in use by another objective.", r.Curve, r.InUse)
	case catalogue.InAlready:
		return fmt.Sprintf("Its checkpoint is #%d already.", r.Edition)
	}
	return ""
}
