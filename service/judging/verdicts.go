package judging

import (
	"context"
	"errors"
	"math"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

// judgedPlaces is into how many epochs or stretches of steps curves are folded before they are judged.
const judgedPlaces = 512

// Judge reads what a run's curves say and keeps it, and what its other curves were when it was best.
func (s *Judging) Judge(ctx context.Context, run int64) error {
	rows, err := s.db.Judgements(ctx, []int64{run})
	if err != nil || len(rows) == 0 {
		return err
	}
	v, err := s.VerdictOf(ctx, run, rows[0].Objective)
	if err != nil {
		return err
	}
	if _, err = s.db.SetVerdict(ctx, run, v); err != nil {
		return err
	}
	return s.lookAtBest(ctx, rows[0])
}

// lookAtBest keeps what each curve of a run was when the objective was best: its last reading at or before that step.
func (s *Judging) lookAtBest(ctx context.Context, row store.Judgement) error {
	o := row.Objective
	sums, err := s.db.Summaries(ctx, []int64{row.ID}, "")
	if err != nil {
		return err
	}
	var best curve.Reading
	known, last := false, int64(0)
	for _, c := range sums {
		last = max(last, c.LastStep)
		if c.Name == o.Curve {
			best, known = o.Best(c.Core())
			if c.SketchEvery == curve.NoSketch {
				if err := s.drawSketch(ctx, row.ID, c); err != nil {
					return err
				}
			}
		}
	}
	if !known {
		return nil
	}
	// While nothing has come from beyond the best step, readings of that step may still come.
	settled := last > best.Step
	if settled && row.BestStep != nil && *row.BestStep == best.Step {
		return nil
	}
	folds, err := s.readings.View(ctx, store.Span{Run: row.ID},
		curve.Window{By: curve.ByStep, From: 0, To: float64(best.Step), Width: float64(best.Step + 1)},
		curve.Smoothing{})
	if err != nil {
		return err
	}
	ids, values := make([]int, len(sums)), make([]*float64, len(sums))
	for i, c := range sums {
		ids[i] = c.Curve
		if f := folds[c.Name].Folds; len(f) > 0 && !math.IsNaN(f[0].Last.Value) {
			values[i] = &f[0].Last.Value
		}
	}
	step := &best.Step
	if !settled && row.State == "running" {
		step = nil
	}
	return s.db.SetAtBest(ctx, row.ID, ids, values, step)
}

// sketchPixels is how many values a sketch that is drawn later has at most.
const sketchPixels = 64

// drawSketch makes the sketch of a curve that became the objective after it was summarised.
func (s *Judging) drawSketch(ctx context.Context, run int64, c store.Summary) error {
	w := curve.Window{By: curve.ByStep, To: float64(c.LastStep),
		Width: max(1, curve.PixelWidth(curve.ByStep, 0, float64(c.LastStep), sketchPixels))}
	got, err := s.readings.View(ctx, store.Span{Run: run, Names: []string{c.Name}}, w, curve.Smoothing{})
	if err != nil {
		return err
	}
	var values []float64
	for _, f := range got[c.Name].Folds {
		values = append(values, f.Last.Value)
	}
	if len(values) == 0 {
		return nil
	}
	return s.db.SetSketch(ctx, run, c.Curve, curve.SketchOf(c.Count, values))
}

// LookAgain judges ended runs anew whose figures at the best are not known: after another objective was set, or an
// upgrade.
func (s *Judging) LookAgain(ctx context.Context) error {
	runs, err := s.db.UnlookedRuns(ctx)
	for _, r := range runs {
		err = errors.Join(err, s.Judge(ctx, r))
	}
	return err
}

// VerdictOf judges a run now, by its objective.
func (s *Judging) VerdictOf(ctx context.Context, run int64, o verdict.Objective) (*api.Verdict, error) {
	sums, err := s.db.Summaries(ctx, []int64{run}, o.Curve)
	if err != nil {
		return nil, err
	}
	sum := curve.NewSummary()
	if len(sums) > 0 {
		sum = sums[0].Core()
	}
	f, err := s.foldsOf(ctx, run, o, sum)
	if err != nil {
		return nil, err
	}
	return f.verdict(o, sum), nil
}

// judgedFolds are the curves by which a run is judged, folded into epochs or stretches of steps.
type judgedFolds struct {
	window     curve.Window
	train, val []curve.Fold
	before     ancestry
}

// judgedWindow folds a stretch of epochs or steps.
func judgedWindow(by curve.By, from, to float64) curve.Window {
	w := curve.Window{By: by, From: from, To: to, Width: 1}
	if to-from > judgedPlaces || by == curve.ByStep {
		w.Width = max(curve.PixelWidth(by, from, to, judgedPlaces), 1)
	}
	return w
}

// foldsOf reads them. sum is the objective's summary.
func (s *Judging) foldsOf(ctx context.Context, run int64, o verdict.Objective,
	sum curve.Summary) (f judgedFolds, err error) {
	f.window.By = curve.ByEpoch
	if math.IsNaN(sum.Last.Epoch) {
		f.window.By = curve.ByStep
	}
	trainName := ""
	names := []string{o.Curve}
	if measure, split := curve.SplitName(o.Curve); split == "val" || split == "test" {
		trainName = measure + ".train"
		names = append(names, trainName)
	}
	from, to, ok, err := s.readings.Extent(ctx, run, f.window.By)
	if err != nil || !ok {
		return f, err
	}
	f.window = judgedWindow(f.window.By, from, to)
	folds, err := s.readings.View(ctx, store.Span{Run: run, Names: names}, f.window, curve.Smoothing{})
	f.train, f.val = folds[trainName].Folds, folds[o.Curve].Folds
	if err == nil {
		f.before, err = s.ancestry(ctx, run, names, f.window.By)
	}
	return f, err
}

func (f judgedFolds) verdict(o verdict.Objective, sum curve.Summary) *api.Verdict {
	by := f.window.By
	j := verdict.Judge(o, by, verdict.FromFolds(by, f.train).Behind(f.before.train),
		verdict.FromFolds(by, f.val).Behind(f.before.val))
	return &api.Verdict{Kind: string(j.Kind), Said: j.Say(o, sum), By: string(by), Since: api.Float(j.Since),
		Train: api.Float(j.Train), Val: api.Float(j.Val),
		Gap: api.Float(j.Gap), Noise: api.Float(j.Noise), Learnt: api.Float(j.Learnt),
		Unseen: api.Float(j.Unseen),
		Slope:  api.Float(j.Slope), Places: j.Places,
		Pace: api.Float(pace(f.val))}
}

// pace is the usual time per epoch lately, in seconds; NaN where epochs are unknown.
func pace(folds []curve.Fold) float64 {
	var paces []float64
	for i := max(1, len(folds)-20); i < len(folds); i++ {
		a, b := folds[i-1].Last, folds[i].Last
		if d := b.Epoch - a.Epoch; d > 0 {
			paces = append(paces, float64(b.Time-a.Time)/1000/d)
		}
	}
	if len(paces) == 0 {
		return math.NaN()
	}
	slices.Sort(paces)
	return paces[len(paces)/2]
}

// freshVerdict judges a run now and returns what is kept.
func (s *Judging) freshVerdict(ctx context.Context, run int64) (*api.Verdict, error) {
	if err := s.Judge(ctx, run); err != nil {
		return nil, err
	}
	rows, err := s.db.Judgements(ctx, []int64{run})
	if err != nil || len(rows) == 0 {
		return &api.Verdict{}, err
	}
	return finding.ToVerdict(rows[0].Verdict, rows[0].Dispute), nil
}

// DisputeVerdict keeps a person's disagreement with a verdict, and the reason.
func (s *Judging) DisputeVerdict(ctx context.Context, who act.Who, in *api.DisputeInput) (*api.Verdict, error) {
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	v, err := s.freshVerdict(ctx, run)
	if err != nil {
		return nil, err
	}
	if v.Kind == "" {
		return nil, api.Fail(api.Invalid, "%s has no verdict yet", act.RunAddress(in.Project, in.Number))
	}
	dispute := api.Dispute{Kind: v.Kind, Reason: act.Clean(in.Body.Reason), Who: who.Name, At: time.Now()}
	return s.changeDispute(ctx, who, run, dispute, act.Did{Verb: "verdict-disputed",
		Data: map[string]any{"verdict": v.Kind, "reason": dispute.Reason}})
}

// UndisputeVerdict lets the verdict stand again.
func (s *Judging) UndisputeVerdict(ctx context.Context, who act.Who, in *api.RunInput) (*api.Verdict, error) {
	run, err := s.RunID(ctx, *in)
	if err != nil {
		return nil, err
	}
	return s.changeDispute(ctx, who, run, nil, act.Did{Verb: "verdict-undisputed"})
}

func (s *Judging) changeDispute(ctx context.Context, who act.Who, run int64, dispute any,
	did act.Did) (*api.Verdict, error) {
	err := s.db.InTx(ctx, func(q Tx) error {
		if err := q.DisputeVerdict(ctx, run, dispute); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "run", Run: run, Person: who.ID, Verb: did.Verb, Data: did.Data})
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	return s.freshVerdict(ctx, run)
}
