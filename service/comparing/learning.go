package comparing

import (
	"context"
	"math"
	"slices"

	"kembrel/api"
	"kembrel/core/compare"
	"kembrel/service/act"
	"kembrel/store"
)

// GetLearning reads curves of several runs, on one axis.
func (s *Comparing) GetLearning(ctx context.Context, who act.Who, in *api.LearningInput) (*api.Learning, error) {
	c, err := s.chosen(ctx, &in.CompareInput, mostCompared)
	if err != nil {
		return nil, err
	}
	if in.By == "" {
		in.By = "epoch"
	}
	out := &api.Learning{By: in.By, Lines: []api.LearningLine{}, Baseline: c.baseline}
	recipes, err := s.RecipesOf(ctx, c.runs)
	if err != nil {
		return nil, err
	}
	members := make([]compare.Run, len(c.runs))
	byRun := map[string]map[int]*api.LearningLine{}
	for i, r := range c.runs {
		members[i] = toCompared(s.ToRun(ctx, in.Project, c.objective, r, store.Summary{}), recipes[r.ID])
		lines, err := s.linesOf(ctx, who, in, r)
		if err != nil {
			return nil, err
		}
		for name, l := range lines {
			if byRun[name] == nil {
				byRun[name] = map[int]*api.LearningLine{}
			}
			byRun[name][i] = l
		}
	}
	base, err := s.baseLines(ctx, who, in, c)
	if err != nil {
		return nil, err
	}
	groups := compare.Groups(members)
	if !in.Groups {
		groups = nil
		for i, m := range members {
			label := m.Title
			if label == "" {
				label = m.Name
			}
			groups = append(groups, compare.Group{Label: label, Runs: []int{i}})
		}
	}
	for _, name := range in.Names {
		own := base[name]
		if g := slices.IndexFunc(groups, func(g compare.Group) bool {
			return slices.ContainsFunc(g.Runs, func(i int) bool { return c.runs[i].Number == c.baseline })
		}); g >= 0 { // the baseline is one of them: its line, or its group's mean
			own = groupLine(groups[g], byRun[name], c)
		}
		for _, g := range groups {
			l := groupLine(g, byRun[name], c)
			if l == nil {
				continue
			}
			l.Name = name
			if own != nil {
				less := compare.Less(compare.Line{X: l.X, Y: l.Y}, compare.Line{X: own.X, Y: own.Y})
				l.LessX, l.LessY, l.Baseline = less.X, less.Y, slices.Contains(l.Runs, c.baseline)
			}
			out.Lines = append(out.Lines, *l)
		}
	}
	return out, nil
}

// groupLine is a run's line, or the mean of a group's with what lies between; nil where none has the curve.
func groupLine(g compare.Group, lines map[int]*api.LearningLine, c *compared) *api.LearningLine {
	var have []compare.Line
	out := api.LearningLine{Label: g.Label}
	var first *api.LearningLine
	for _, i := range g.Runs {
		if l := lines[i]; l != nil && !slices.Contains(g.Twice, i) {
			have = append(have, compare.Line{X: l.X, Y: l.Y})
			out.Runs = append(out.Runs, c.runs[i].Number)
			if first == nil {
				first = l
			}
		}
	}
	switch len(have) {
	case 0:
		return nil
	case 1:
		out.X, out.Y, out.Raw, out.Low, out.High = first.X, first.Y, first.Raw, first.Low, first.High
	default:
		mean, low, high := compare.Band(have)
		out.X, out.Y, out.Low, out.High = mean.X, mean.Y, low, high
	}
	return &out
}

// baseLines are the baseline's lines where it is none of the runs compared.
func (s *Comparing) baseLines(ctx context.Context, who act.Who, in *api.LearningInput,
	c *compared) (map[string]*api.LearningLine, error) {
	if c.baseline == 0 || slices.ContainsFunc(c.runs, func(r store.Run) bool { return r.Number == c.baseline }) {
		return nil, nil
	}
	row, err := s.db.RunByNumber(ctx, c.project.ID, c.baseline)
	if err != nil {
		return nil, act.OrNotFound(err, "there is no run %s", act.RunAddress(in.Project, c.baseline))
	}
	return s.linesOf(ctx, who, in, row)
}

// linesOf reads those of the curves asked for that a run has.
func (s *Comparing) linesOf(ctx context.Context, who act.Who, in *api.LearningInput,
	r store.Run) (map[string]*api.LearningLine, error) {
	known, err := s.db.CachedCurves(ctx, r.ID, in.Names, 0)
	if err != nil {
		return nil, err
	}
	ask := &api.CurvesInput{RunInput: api.RunInput{ProjectInput: in.ProjectInput, Number: r.Number}, By: in.By,
		From: in.From, To: in.To, Pixels: in.Pixels, Smooth: in.Smooth, Median: in.Median}
	if in.By == "time" {
		began := float64(r.Started.UnixMilli())
		ask.From = began + in.From*1000
		if in.To > 0 {
			ask.To = began + in.To*1000
		}
		ask.Smooth, ask.Median = in.Smooth*1000, in.Median*1000
	}
	for _, name := range in.Names {
		if _, ok := known.Numbers[name]; ok && !slices.Contains(ask.Names, name) {
			ask.Names = append(ask.Names, name)
		}
	}
	out := map[string]*api.LearningLine{}
	if len(ask.Names) == 0 {
		return out, nil
	}
	found, err := s.curves.GetCurves(ctx, who, ask)
	if err != nil {
		return nil, err
	}
	for _, curve := range found.Curves {
		axis := found.Axes[curve.Axis]
		l := &api.LearningLine{Y: curve.Value, Low: curve.Min, High: curve.Max}
		if len(curve.Mean) > 0 {
			l.Y = curve.Mean
		}
		if len(curve.Smooth) > 0 {
			l.Raw, l.Y = l.Y, curve.Smooth
		}
		l.X = make([]float64, len(l.Y))
		for i := range l.X {
			switch in.By {
			case "time":
				l.X[i] = float64(axis.Time[i]-r.Started.UnixMilli()) / 1000
			case "step":
				l.X[i] = float64(axis.Step[i])
			default:
				l.X[i] = axis.Epoch[i]
			}
		}
		if len(l.X) > 0 && !math.IsNaN(l.X[0]) {
			out[curve.Name] = l
		}
	}
	return out, nil
}
