package comparing

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/compare"
	"kembrel/core/curve"
	"kembrel/core/filter"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/comparing/document"
	"kembrel/service/finding"
)

// figuresOf reads values of runs as numbers, run by run; what is absent or no number is NaN.
func (s *Comparing) figuresOf(ctx context.Context, c *compared, columns []*filter.Node) ([][]float64, error) {
	numbers := make([]int64, len(c.runs))
	for i, r := range c.runs {
		numbers[i] = int64(r.Number)
	}
	found, err := s.db.RunValues(ctx, c.query, numbers, columns)
	if err != nil {
		return nil, finding.OrOutOfRange(err)
	}
	out := make([][]float64, len(c.runs))
	for i, n := range numbers {
		out[i] = make([]float64, len(columns))
		for k, v := range found[n] {
			var f *float64
			if json.Unmarshal(v, &f) != nil || f == nil {
				out[i][k] = math.NaN()
			} else {
				out[i][k] = *f
			}
		}
	}
	return out, nil
}

// lowerIsBetterOf says in which direction a value is better: curves as lowerIsBetter says, all else (times, sizes,
// hyperparameters) down.
func lowerIsBetterOf(o verdict.Objective, n *filter.Node) bool {
	switch n.Op {
	case filter.Best, filter.Last, filter.AtBest, filter.Lowest, filter.Highest:
		return finding.LowerIsBetter(o, n.Name)
	case filter.Add, filter.Subtract, filter.Multiply, filter.Divide:
		return lowerIsBetterOf(o, n.Args[0])
	}
	return true
}

// GetMattered says which hyperparameters mattered for a figure.
func (s *Comparing) GetMattered(ctx context.Context, _ act.Who, in *api.InfluenceInput) (*api.Mattered, error) {
	c, err := s.chosen(ctx, &in.CompareInput, mostWeighed)
	if err != nil {
		return nil, err
	}
	text := in.Figure
	if text == "" {
		text = "best"
	}
	columns, _, err := finding.ColumnsOf(c.objective, text)
	if err != nil {
		return nil, err
	}
	if len(columns) != 1 {
		return nil, api.Fail(api.Invalid, "one figure is weighed at a time, not %q", text)
	}
	if text == "best" || text == "last" {
		text = fmt.Sprintf("%s(%q)", text, c.objective.Curve)
	}
	values, err := s.figuresOf(ctx, c, columns)
	if err != nil {
		return nil, err
	}
	runs, figure := make([]compare.Run, len(c.runs)), make([]float64, len(c.runs))
	for i, r := range c.runs {
		runs[i] = compare.Run{Name: act.RunAddress(in.Project, r.Number), Title: r.Title}
		if err := json.Unmarshal(r.Hyper, &runs[i].Hyper); err != nil {
			return nil, err
		}
		figure[i] = values[i][0]
	}
	m := compare.Influences(runs, figure)
	out := &api.Mattered{Figure: text, Lower: lowerIsBetterOf(c.objective, columns[0]), Says: m.Say(text), Runs: m.Runs,
		Left: m.Left + int(c.left), Few: m.Few, Explained: api.Float(m.Explained),
		Sampled: c.sampled, Influences: []api.Influence{}, Pairs: []api.Pair{}, Points: []api.InfluencePoint{}}
	for _, v := range m.Influences {
		one := api.Influence{Name: v.Name, Runs: v.Runs, Correlation: api.Float(v.Correlation), Low: api.Float(v.Low),
			High: api.Float(v.High), Importance: api.Float(v.Importance)}
		for _, e := range v.Effects {
			one.Effects = append(one.Effects, api.Effect{Value: e.Value, Mean: api.Float(e.Mean), Low: api.Float(e.Low),
				High: api.Float(e.High)})
		}
		out.Influences = append(out.Influences, one)
	}
	for _, p := range m.Pairs {
		out.Pairs = append(out.Pairs, api.Pair{A: p.A, B: p.B, Strength: api.Float(p.Strength)})
	}
	for i, r := range runs {
		if math.IsNaN(figure[i]) || math.IsInf(figure[i], 0) {
			continue
		}
		p := api.InfluencePoint{Run: c.runs[i].Number, Title: r.Title, Figure: api.Float(figure[i]),
			Hyper: map[string]json.RawMessage{}}
		for _, v := range m.Influences {
			if h, ok := r.Hyper[v.Name]; ok {
				p.Hyper[v.Name] = h
			}
		}
		out.Points = append(out.Points, p)
	}
	return out, nil
}

// GetTradeOff marks the runs that no other beats in two or three figures.
func (s *Comparing) GetTradeOff(ctx context.Context, _ act.Who, in *api.TradeOffInput) (*api.TradeOff, error) {
	c, err := s.chosen(ctx, &in.CompareInput, mostWeighed)
	if err != nil {
		return nil, err
	}
	columns, names, err := finding.ColumnsOf(c.objective, in.Figures)
	if err != nil {
		return nil, err
	}
	if len(columns) < 2 || len(columns) > 3 {
		return nil, api.Fail(api.Invalid, "two or three figures are held against each other, not %d", len(columns))
	}
	out := &api.TradeOff{Figures: names, Points: []api.TradePoint{}, Sampled: c.sampled}
	for _, n := range columns {
		out.Lower = append(out.Lower, lowerIsBetterOf(c.objective, n))
	}
	values, err := s.figuresOf(ctx, c, columns)
	if err != nil {
		return nil, err
	}
	var best []string
	for i, marked := range compare.Undominated(values, out.Lower) {
		r := c.runs[i]
		if slices.ContainsFunc(values[i], math.IsNaN) {
			out.Left++
			continue
		}
		out.Points = append(out.Points, api.TradePoint{Run: r.Number, Title: r.Title, Values: values[i],
			Undominated: marked})
		if marked {
			best = append(best, act.RunAddress(in.Project, r.Number))
		}
	}
	switch n := len(best); {
	case len(out.Points) == 0:
		out.Says = "No run has all of these figures."
	case n == 1:
		out.Says = fmt.Sprintf("%s beats the other %d in every figure.", best[0], len(out.Points)-1)
	default:
		out.Says = fmt.Sprintf("%d of %d runs are beaten by no other: %s.", n, len(out.Points),
			strings.Join(best[:min(n, 8)], ", "))
		if n > 8 {
			out.Says = strings.TrimSuffix(out.Says, ".") + " and more."
		}
	}
	return out, nil
}

// leastWeighed is how many runs a document must hold to say what mattered.
const leastWeighed = 6

// ComparisonDocument gathers what a document of a comparison says: the objective's curves and its training side, what
// mattered where there are enough runs, and best figure, time per epoch and checkpoint size against each other.
func (s *Comparing) ComparisonDocument(ctx context.Context, who act.Who,
	in *api.DocumentInput) (*document.Comparison, error) {
	c, err := s.Compare(ctx, who, &in.CompareInput)
	if err != nil {
		return nil, err
	}
	out := &document.Comparison{Comparison: c, Learning: &api.Learning{}, At: time.Now()}
	if in.Format == "csv" || len(c.Runs) == 0 {
		return out, nil
	}
	names := []string{c.Objective.Curve}
	if measure, split := curve.SplitName(c.Objective.Curve); split != "train" && split != "" {
		names = append(names, measure+".train")
	}
	if out.Learning, err = s.GetLearning(ctx, who, &api.LearningInput{CompareInput: in.CompareInput, Names: names,
		By: "epoch", Pixels: 600, Groups: len(c.Groups) < len(c.Runs)}); err != nil {
		return nil, err
	}
	if len(c.Runs) >= leastWeighed {
		if out.Mattered, err = s.GetMattered(ctx, who, &api.InfluenceInput{CompareInput: in.CompareInput}); err != nil {
			return nil, err
		}
	}
	trade, err := s.GetTradeOff(ctx, who, &api.TradeOffInput{CompareInput: in.CompareInput, Figures: "best,pace,size"})
	if err == nil && len(trade.Points) > 1 {
		out.Trade = trade
	}
	return out, err
}
