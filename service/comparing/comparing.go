package comparing

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/compare"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

// How many runs one comparison holds, and how many one question about what mattered looks at.
const (
	mostCompared = 200
	mostWeighed  = 2000
	mostSampled  = 1000 // of a project that has more than mostWeighed
)

// compared are runs of a project that somebody asks about.
type compared struct {
	project   store.Project
	objective verdict.Objective
	query     store.RunQuery
	runs      []store.Run // in the order asked for
	left      int64       // chosen by the filter beyond what there is room for
	sampled   int         // runs that the project has had, where runs are a sample of them; 0: they are none
	baseline  int         // number of a run; 0: none
}

// chosen finds the runs of a comparison.
func (s *Comparing) chosen(ctx context.Context, in *api.CompareInput, most int) (*compared, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	o := p.Objective
	out := &compared{project: p, objective: o, baseline: in.Baseline}
	if out.query, err = finding.RunQuery(p.ID, o, in.RunChoice); err != nil {
		return nil, err
	}
	numbers := make([]int64, 0, len(in.Runs))
	for _, n := range in.Runs {
		if !slices.Contains(numbers, int64(n)) {
			numbers = append(numbers, int64(n))
		}
	}
	if len(numbers) > most {
		return nil, api.Fail(api.Invalid, "%d runs are too many for this (at most %d)", len(numbers), most)
	}
	if in.Runs == nil && most == mostWeighed && strings.TrimSpace(in.Where) == "" && in.Sort == "" {
		if numbers, err = s.sample(ctx, out); err != nil {
			return nil, err
		}
	}
	if in.Runs == nil && out.sampled == 0 {
		if out.query.Limit = most; out.query.Sort == nil { // the best, not the newest, where not all have room
			out.query.Sort, _ = finding.ValueOf(o, "best", time.Now())
			out.query.Descending = !finding.LowerIsBetter(o, o.Curve)
		}
		asked := finding.AskedBy(in.RunChoice, out.query.Where, out.query.Sort, nil, nil)
		err := s.Costly(ctx, asked, func(ctx context.Context) error {
			places, err := s.db.FindRuns(ctx, out.query)
			if err != nil {
				return err
			}
			for _, place := range places {
				numbers = append(numbers, place.Number)
			}
			if len(places) < most {
				return nil
			}
			marks, err := s.db.Landmarks(ctx, out.query, math.MaxInt32)
			if err == nil {
				out.left = marks[len(marks)-1].Place - int64(len(places))
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	rows, err := s.db.RunsByNumber(ctx, p.ID, numbers)
	if err != nil {
		return nil, err
	}
	byNumber := map[int64]store.Run{}
	for _, r := range rows {
		byNumber[int64(r.Number)] = r
	}
	for _, n := range numbers {
		r, ok := byNumber[n]
		aside := in.Shown == "" && (r.Archived != nil || r.Doomed != nil)
		if out.sampled > 0 && (!ok || aside) { // deleted, or out of the way
			continue
		}
		if !ok {
			return nil, api.Fail(api.NotFound, "there is no run %s; kembrel runs %s lists the project's runs",
				act.RunAddress(in.Project, int(n)), in.Project)
		}
		out.runs = append(out.runs, r)
	}
	if out.baseline == 0 {
		out.baseline = p.Baseline
	} else if _, err := s.RunID(ctx, api.RunInput{ProjectInput: in.ProjectInput, Number: out.baseline}); err != nil {
		return nil, err
	}
	return out, nil
}

// sample takes runs of a project that has more than there is room for: spread evenly over their numbers, so that old
// and new ones count alike and the same are taken each time. It takes none where all have room.
func (s *Comparing) sample(ctx context.Context, c *compared) (numbers []int64, err error) {
	newest := store.RunQuery{Project: c.query.Project, Descending: true, Limit: 1}
	found, err := s.db.FindRuns(ctx, newest)
	if err != nil || len(found) == 0 || found[0].Number <= mostWeighed {
		return nil, err
	}
	last := found[0].Number
	for i := range int64(mostSampled) {
		numbers = append(numbers, 1+i*(last-1)/(mostSampled-1))
	}
	c.sampled = int(last)
	return numbers, nil
}

// summaries are those of one curve, by run.
func (s *Comparing) summariesOf(ctx context.Context, runs []store.Run, name string) (map[int64]store.Summary, error) {
	ids := make([]int64, len(runs))
	for i, r := range runs {
		ids[i] = r.ID
	}
	rows, err := s.db.Summaries(ctx, ids, name)
	out := map[int64]store.Summary{}
	for _, sum := range rows {
		out[sum.Run] = sum
	}
	return out, err
}

// Compare answers what people ask of several runs.
func (s *Comparing) Compare(ctx context.Context, _ act.Who, in *api.CompareInput) (*api.Comparison, error) {
	c, err := s.chosen(ctx, in, mostCompared)
	if err != nil {
		return nil, err
	}
	sums, err := s.summariesOf(ctx, c.runs, c.objective.Curve)
	if err != nil {
		return nil, err
	}
	out := &api.Comparison{Project: in.Project, Objective: c.objective, Left: c.left, Baseline: c.baseline,
		Runs: []api.Run{}, Groups: []api.RunGroup{}, Differ: []api.FactRow{}, Same: []api.FactRow{},
		Changes: []api.CodeChange{}}
	recipes, err := s.RecipesOf(ctx, c.runs)
	if err != nil {
		return nil, err
	}
	data, err := s.dataOf(ctx, c.runs)
	if err != nil {
		return nil, err
	}
	runs := make([]compare.Run, len(c.runs))
	facts := make([][]compare.Fact, len(c.runs))
	changes := map[int]string{}
	for i, r := range c.runs {
		run := s.ToRun(ctx, in.Project, c.objective, r, sums[r.ID])
		out.Runs = append(out.Runs, run)
		recipe := recipes[r.ID]
		runs[i] = toCompared(run, recipe)
		facts[i] = factsOf(run, recipe, r, data[r.ID])
		if i := slices.IndexFunc(out.Changes, func(c api.CodeChange) bool {
			return c.Commit == recipe.Commit && changes[c.Run] == recipe.Changes
		}); i >= 0 {
			out.Changes[i].Runs = append(out.Changes[i].Runs, r.Number)
		} else if recipe.Changes != "" {
			changes[r.Number] = recipe.Changes
			out.Changes = append(out.Changes, api.CodeChange{Run: r.Number, Runs: []int{r.Number},
				Commit: recipe.Commit, Patch: recipe.Changes[:min(len(recipe.Changes), 64<<10)]})
		}
	}
	groups := compare.Groups(runs)
	lower := c.objective.Direction == verdict.Lower
	compare.Rank(groups, lower)
	out.Groups = toGroups(c, groups)
	differ, same := compare.Differences(sections, facts)
	for _, r := range differ {
		row := api.FactRow{Section: r.Section, Name: r.Name, Values: r.Values, Has: r.Has}
		base := 0
		for k, g := range groups {
			var values []string
			for _, i := range g.Runs {
				v := r.Values[i]
				if !r.Has[i] {
					v = "·"
				}
				if !slices.Contains(values, v) {
					values = append(values, v)
				}
				if c.runs[i].Number == c.baseline {
					base = k
				}
			}
			row.Groups = append(row.Groups, strings.Join(values, ", "))
		}
		for _, v := range row.Groups {
			row.Apart = append(row.Apart, v != row.Groups[base])
		}
		out.Differ = append(out.Differ, row)
	}
	for _, r := range same {
		out.Same = append(out.Same, api.FactRow{Section: r.Section, Name: r.Name, Values: r.Values[:1], Has: r.Has[:1]})
	}
	if !slices.ContainsFunc(differ, func(r compare.Row) bool {
		return r.Section == "code" &&
			r.Name == "uncommitted change"
	}) {
		out.Changes = []api.CodeChange{}
	}
	if out.Evaluated, err = s.evaluated(ctx, c.runs, groups); err != nil {
		return nil, err
	}
	out.Answers = api.CompareAnswers{Evaluated: sayEvaluated(out.Evaluated, out.Groups),
		Best: compare.SayRanking(groups, lower), Apart: compare.SayApart(groups),
		Differed: sayDiffered(differ, same), Learned: sayLearned(out.Runs)}
	return out, nil
}

// toCompared is a run as core compares it.
func toCompared(run api.Run, recipe api.Recipe) compare.Run {
	packages, _ := json.Marshal(recipe.Packages)
	code := []string{recipe.Commit, recipe.Changes, string(packages)}
	if run.Origin != nil && run.Origin.Kind == "branch" {
		code = append(code, run.Origin.From, strings.Join(run.Origin.Parts, " "))
	}
	out := compare.Run{Name: run.Address, Title: run.Title, Hyper: run.Hyper, Code: strings.Join(code, "\x00"),
		Best: math.NaN(), Last: math.NaN()}
	if run.Best != nil {
		out.Best = float64(run.Best.Value)
	}
	if run.Last != nil {
		out.Last = float64(run.Last.Value)
	}
	return out
}

func toGroups(c *compared, groups []compare.Group) []api.RunGroup {
	numbers := func(indices []int) (out []int) {
		for _, i := range indices {
			out = append(out, c.runs[i].Number)
		}
		return out
	}
	margin := func(a, b compare.Group) *api.Margin {
		v := compare.Between(a.Best, b.Best)
		return &api.Margin{Of: b.Label, Difference: api.Float(v.Difference), Low: api.Float(v.Low),
			High: api.Float(v.High), Method: v.Method, Beyond: v.Beyond, Says: v.Say(a, b)}
	}
	base := slices.IndexFunc(groups, func(g compare.Group) bool {
		return c.baseline > 0 &&
			slices.Contains(numbers(g.Runs), c.baseline)
	})
	out := []api.RunGroup{}
	for k, g := range groups {
		row := api.RunGroup{Label: g.Label, Runs: numbers(g.Runs), Twice: numbers(g.Twice), Best: toGroupFigure(g.Best),
			Last: toGroupFigure(g.Last)}
		if k+1 < len(groups) {
			row.Next = margin(g, groups[k+1])
		}
		if base >= 0 && base != k {
			row.Baseline = margin(g, groups[base])
		}
		out = append(out, row)
	}
	return out
}

func toGroupFigure(s compare.Sample) api.GroupFigure {
	return api.GroupFigure{Count: len(s.Values), Values: append([]float64{}, s.Values...), Mean: api.Float(s.Mean),
		Deviation: api.Float(s.Deviation), Lowest: api.Float(s.Lowest), Highest: api.Float(s.Highest)}
}

// sections are what facts are sorted by.
var sections = []string{"hyperparameter", "seed", "data", "code", "package", "machine", "start", "command"}

// isData reports whether a hyperparameter names the data, as programs without snapshots do.
func isData(name string) bool {
	head, _, _ := strings.Cut(name, ".")
	return slices.Contains([]string{"data", "dataset", "snapshot"}, head)
}

// dataOf is what runs used.
func (s *Comparing) dataOf(ctx context.Context, runs []store.Run) (map[int64][]store.RunData, error) {
	ids := make([]int64, len(runs))
	for i, r := range runs {
		ids[i] = r.ID
	}
	rows, err := s.db.RunData(ctx, ids)
	out := map[int64][]store.RunData{}
	for _, r := range rows {
		out[r.Run] = append(out[r.Run], r)
	}
	return out, err
}

// factsOf are the things that went into a run.
func factsOf(run api.Run, recipe api.Recipe, row store.Run, data []store.RunData) (out []compare.Fact) {
	add := func(section, name, value string) {
		if value != "" {
			out = append(out, compare.Fact{Section: section, Name: name, Value: value})
		}
	}
	for name, v := range run.Hyper {
		section := "hyperparameter"
		if compare.IsSeed(name) {
			section = "seed"
		} else if isData(name) {
			section = "data"
		}
		add(section, name, compare.Plain(v))
	}
	for _, u := range data {
		switch {
		case u.Address != "":
			add("data", u.Use, u.Address)
		case u.Asked != "":
			add("data", u.Use, u.Asked+", not known")
		default:
			add("data", u.Use, act.Many(int(u.Items), "item", "items")+", not known")
		}
	}
	add("code", "commit", recipe.Commit)
	if recipe.Changes != "" {
		add("code", "uncommitted change", fmt.Sprintf("%d lines, %s", strings.Count(recipe.Changes, "\n"),
			chunk.Sum([]byte(recipe.Changes)).String()[:11]))
	} else if recipe.ChangesSize > 0 {
		add("code", "uncommitted change", api.Bytes(recipe.ChangesSize)+", too large to record")
	}
	add("code", "untracked files", strings.Join(recipe.Untracked, " "))
	add("code", "program", recipe.Program)
	add("code", "repository", recipe.Remote)
	add("code", "language", recipe.Language)
	for name, version := range recipe.Packages {
		add("package", name, version)
	}
	add("machine", "host", recipe.Host)
	add("machine", "system", recipe.System)
	add("machine", "CPU", recipe.CPU)
	if recipe.Memory > 0 {
		add("machine", "memory", api.Bytes(recipe.Memory))
	}
	add("machine", "GPUs", strings.Join(recipe.GPUs, ", "))
	for name, v := range recipe.Environment {
		add("machine", name, v)
	}
	var start *api.Start
	if row.Start != nil && json.Unmarshal(row.Start, &start) == nil {
		add("start", "weights", start.Weights)
	}
	if run.Origin != nil {
		add("start", "origin", run.Origin.Kind+" of "+run.Origin.From)
	}
	add("command", "command", strings.Join(recipe.Command, " "))
	add("command", "folder", recipe.Folder)
	return out
}

// sayDiffered counts what differs by section.
func sayDiffered(differ, same []compare.Row) string {
	counts := map[string]int{}
	for _, r := range differ {
		counts[r.Section]++
	}
	plural := map[string]string{"hyperparameter": "hyperparameters", "seed": "seeds", "package": "packages"}
	var parts, none []string
	for _, section := range sections {
		switch n := counts[section]; {
		case n == 0 && slices.Contains([]string{"package", "code", "machine", "data"}, section):
			none = append(none, section)
		case n == 0:
		case n > 1 && plural[section] != "":
			parts = append(parts, fmt.Sprintf("%d %s", n, plural[section]))
		case section == "hyperparameter" || section == "package":
			parts = append(parts, "one "+section)
		default:
			parts = append(parts, map[string]string{"seed": "the seed", "code": "the code", "machine": "the machine",
				"start": "the start", "command": "the command", "data": "the data"}[section])
		}
	}
	text := "Nothing that went in differs."
	if len(parts) > 0 {
		text = join(parts) + "."
		text = strings.ToUpper(text[:1]) + text[1:]
	}
	if len(same) > 0 {
		text += fmt.Sprintf(" %d other values are the same.", len(same))
	}
	if len(none) > 0 && len(parts) > 0 {
		text += " No " + strings.Join(none, ", no ") + " differs."
	}
	return text
}

// join writes a list as people say it.
func join(parts []string) string {
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}

// sayLearned says how runs learned: each of a few, counts of many.
func sayLearned(runs []api.Run) string {
	if len(runs) <= 4 {
		var parts []string
		for _, r := range runs {
			if r.Verdict != nil && r.Verdict.Said != "" {
				parts = append(parts, r.Address+": "+strings.TrimSuffix(firstSentence(r.Verdict.Said), ".")+".")
			}
		}
		return strings.Join(parts, " ")
	}
	counts := map[string]int{}
	for _, r := range runs {
		kind := "not judged"
		if r.Verdict != nil && r.Verdict.Kind != "" {
			kind = r.Verdict.Kind
		}
		counts[kind]++
	}
	var parts []string
	kinds := slices.Sorted(maps.Keys(counts))
	slices.SortStableFunc(kinds, func(a, b string) int { return counts[b] - counts[a] })
	for _, kind := range kinds {
		parts = append(parts, fmt.Sprintf("%d %s", counts[kind], kind))
	}
	if len(parts) == 1 {
		return fmt.Sprintf("All %d are %s.", len(runs), kinds[0])
	}
	return "Of " + fmt.Sprint(len(runs)) + " runs " + join(parts) + "."
}

func firstSentence(text string) string {
	head, _, _ := strings.Cut(text, ". ")
	return head
}
