package runs

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"

	"kembrel/api"
	"kembrel/core/chunk"
	"kembrel/core/compare"
	"kembrel/core/curve"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

// checkOrigin finds what a new run says it comes from and returns it as it is kept; nil where it says nothing.
func (s *Runs) checkOrigin(ctx context.Context, o *api.Origin) (any, error) {
	if o == nil {
		return nil, nil
	}
	from, err := api.ParseAddress(o.From)
	if err != nil || from.Run == 0 || (o.Kind == "branch") != (from.At.Kind != api.AtNone) {
		return nil, api.Fail(api.Invalid,
			"a branch comes from a checkpoint and a rerun from a run, not from %.100q", o.From)
	}
	out := *o
	in := api.RunInput{ProjectInput: api.ProjectInput{Project: from.Project}, Number: from.Run}
	if o.Kind == "rerun" {
		_, err := s.RunID(ctx, in)
		return out, err
	}
	c, _, _, err := s.checkpoints.FindHeld(ctx, api.CheckpointInput{RunInput: in, At: from.At.String()})
	if err != nil {
		return nil, err
	}
	out.From, out.Step, out.Epoch, out.Leg = c.Address, c.Step, c.Epoch, c.Leg
	return out, nil
}

// Start is what is known of a run's starting weights: as the program declared them, or those of a checkpoint saved at
// step 0.
func (s *Runs) Start(ctx context.Context, run int64, said json.RawMessage) (*api.Start, error) {
	var out *api.Start
	if said != nil {
		if err := json.Unmarshal(said, &out); err != nil {
			return nil, err
		}
	}
	digest := ""
	if out != nil {
		digest = out.Digest
	}
	if digest == "" {
		first, err := s.db.FirstWeights(ctx, run)
		if err != nil || first == nil {
			return sayStart(out), err
		}
		if out == nil {
			out = &api.Start{}
		}
		out.Digest = chunk.Digest(first).String()
	}
	d, err := chunk.ParseDigest(out.Digest)
	if err != nil {
		return sayStart(out), nil // told by a program that computes otherwise
	}
	known, err := s.db.KnownWeights(ctx, run, d)
	if err != nil {
		return nil, err
	}
	if known != nil {
		sees, err := s.Sees(ctx, known.Project)
		if err != nil {
			return nil, err
		}
		if !sees {
			return sayStart(out), nil // it is as if it were not known
		}
		out.Equals = act.CheckpointAddress(known.Project, known.Number, known.Standing)
	}
	return sayStart(out), nil
}

func sayStart(s *api.Start) *api.Start {
	if s == nil {
		return nil
	}
	switch {
	case s.Equals != "":
		s.Says = "Its starting weights are equal to those of " + s.Equals + "."
	case s.Weights == "fresh" && s.Seed != nil:
		s.Says = fmt.Sprintf("Its weights were fresh, seed %d.", *s.Seed)
	case s.Weights == "fresh":
		s.Says = "Its weights were fresh."
	case s.Weights == "trained":
		s.Says = "Its weights were trained before, by no run that is known here."
	}
	return s
}

// StartWarning says what is odd about starting weights, or "".
func StartWarning(start *api.Start, origin *api.Origin) string {
	switch {
	case start == nil || start.Equals == "" || origin != nil && origin.Kind == "branch":
	case start.Weights == "fresh":
		return "The run was declared to start fresh, but its starting weights are equal to those of " +
			start.Equals + "."
	case start.Weights == "":
		return "The run goes on from trained weights: those it started with are equal to " + start.Equals +
			". If that is meant, say so (kembrel branch); if not, build the model anew before training."
	}
	return ""
}

// startWarnings are those that the recorder of a leg tells its person.
func (s *Runs) startWarnings(ctx context.Context, run int64) ([]string, error) {
	row, err := s.db.StartOf(ctx, run)
	if err != nil || row.Start == nil {
		return nil, err
	}
	start, err := s.Start(ctx, row.ID, row.Start)
	if err != nil {
		return nil, err
	}
	var origin *api.Origin
	if row.Origin != nil {
		if err := json.Unmarshal(row.Origin, &origin); err != nil {
			return nil, err
		}
	}
	if w := StartWarning(start, origin); w != "" {
		return []string{w}, nil
	}
	return nil, nil
}

// maxRepeat is how many readings of each of two runs are compared.
const maxRepeat = 2_000_000

// compareWithOrigin keeps how a finished rerun without changed values compares with the run that it repeats.
func (s *Runs) compareWithOrigin(ctx context.Context, run int64) error {
	row, err := s.db.StartOf(ctx, run)
	if err != nil || row.Origin == nil {
		return err
	}
	var origin api.Origin
	if err := json.Unmarshal(row.Origin, &origin); err != nil || origin.Kind != "rerun" || len(origin.Asked) > 0 {
		return err
	}
	from, err := api.ParseAddress(origin.From)
	if err != nil {
		return err
	}
	other, err := s.RunID(ctx, api.RunInput{ProjectInput: api.ProjectInput{Project: from.Project}, Number: from.Run})
	if err != nil {
		return err
	}
	had, err := s.programCurves(ctx, other)
	if err != nil {
		return err
	}
	has, err := s.programCurves(ctx, run)
	if err != nil {
		return err
	}
	out := api.Repeats{Same: true}
	first := math.Inf(1)
	var since compare.Repeat
	names := slices.Sorted(maps.Keys(has))
	for _, name := range names {
		r := compare.Repeats(had[name], has[name])
		out.Readings += r.Readings
		out.Same = out.Same && r.Same
		out.Difference = max(out.Difference, api.Float(r.Difference))
		if r.Since != nil && float64(r.Since.Step) < first {
			first, since, out.Curve, out.Since = float64(r.Since.Step), r, name, finding.Figure(name, *r.Since)
		}
	}
	switch {
	case out.Readings == 0:
		out.Same, out.Says = false, "Repeatable: it has no reading in common with "+origin.From+"."
	case out.Same:
		out.Says = fmt.Sprintf("Repeatable: yes. All %d readings equal those of %s, bit for bit.",
			out.Readings, origin.From)
	case out.Since == nil:
		out.Says = fmt.Sprintf("Repeatable: to %.0e. The %d readings differ from those of %s by no more.",
			math.Max(float64(out.Difference), 1e-16), out.Readings, origin.From)
	default:
		where := fmt.Sprintf("step %d", out.Since.Step)
		if e := float64(out.Since.Epoch); e == e {
			where = "epoch " + strconv.FormatFloat(math.Ceil(e), 'f', -1, 64)
		}
		out.Says = fmt.Sprintf("Repeatable: no, since %s: %s was %.6g in %s and is %.6g.", where, out.Curve, since.Was,
			origin.From, float64(out.Since.Value))
	}
	return s.db.SetRepeats(ctx, run, out)
}

// programCurves reads what a run's program recorded, by curve.
func (s *Runs) programCurves(ctx context.Context, run int64) (map[string][]curve.Reading, error) {
	out, total := map[string][]curve.Reading{}, 0
	err := s.readings.Scan(ctx, store.Span{Run: run}, func(name string, points []curve.Point, values []float64) error {
		if curve.OfMachine(name) || total > maxRepeat {
			return nil
		}
		for i, p := range points {
			out[name] = append(out[name], curve.Reading{Point: p, Value: values[i]})
		}
		total += len(points)
		return nil
	})
	return out, err
}
