package service

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
	"kembrel/core/compare"
	"kembrel/core/curve"
	"kembrel/core/hyper"
	"kembrel/store"
	"kembrel/store/pg"
)

// checkOrigin finds what a new run says it comes from and returns it as it is kept; nil where it says nothing.
func (s *Service) checkOrigin(ctx context.Context, o *api.Origin) (any, error) {
	if o == nil {
		return nil, nil
	}
	from, err := api.ParseAddress(o.From)
	if err != nil || from.Run == 0 || (o.Kind == "branch") != (from.At.Kind != api.AtNone) {
		return nil, api.Fail(api.Invalid, "a branch comes from a checkpoint and a rerun from a run, not from %.100q", o.From)
	}
	out := *o
	in := api.RunInput{ProjectInput: api.ProjectInput{Project: from.Project}, Number: from.Run}
	if o.Kind == "rerun" {
		_, err := s.runID(ctx, in)
		return out, err
	}
	c, _, _, err := s.findHeld(ctx, api.CheckpointInput{RunInput: in, At: from.At.String()})
	if err != nil {
		return nil, err
	}
	out.From, out.Step, out.Epoch, out.Leg = c.Address, c.Step, c.Epoch, c.Leg
	return out, nil
}

// presentAddress is the address by which a checkpoint is found now that had another once: a later leg may have replaced it since, and the address
// means another one.
func (s *Service) presentAddress(ctx context.Context, address string, leg int, step int64) (string, error) {
	from, err := api.ParseAddress(address)
	if err != nil || leg == 0 || from.Run == 0 {
		return address, nil
	}
	run, err := s.runID(ctx, api.RunInput{ProjectInput: api.ProjectInput{Project: from.Project}, Number: from.Run})
	if api.Is(err, api.NotFound) { // it was deleted
		return address, nil
	}
	if err != nil {
		return "", err
	}
	ends, err := s.legEnds(ctx, run)
	if err != nil {
		return "", err
	}
	if end, known := ends[leg]; known && step >= end {
		from.At = api.At{Kind: api.AtStep, Step: step, Leg: leg}
	}
	return from.String(), nil
}

// presentOrigins has a run's origin and what its legs went on from found now.
func (s *Service) presentOrigins(ctx context.Context, r *api.RunDetail) (err error) {
	if o := r.Origin; o != nil && o.Kind == "branch" {
		if o.From, err = s.presentAddress(ctx, o.From, o.Leg, o.Step); err != nil {
			return err
		}
	}
	for i := range r.Legs {
		if l := r.Legs[i].Resumed; l != nil {
			if l.From, err = s.presentAddress(ctx, l.From, l.Leg, l.Step); err != nil {
				return err
			}
		}
	}
	return nil
}

func sayOrigin(o *api.Origin) string {
	text := "It repeats " + o.From
	if o.Kind == "branch" {
		text = "It branched from " + o.From
		if len(o.Parts) > 0 {
			text += " with its " + strings.Join(o.Parts, ", ")
		}
	}
	names := make([]string, 0, len(o.Asked))
	for name, v := range o.Asked {
		names = append(names, name+" = "+string(v))
	}
	slices.Sort(names)
	if len(names) > 0 {
		text += ", asked for " + strings.Join(names, ", ")
	}
	return text + "."
}

// start is what is known of a run's starting weights: as the program declared them, or those of a checkpoint saved at step 0.
func (s *Service) start(ctx context.Context, run int64, said json.RawMessage) (*api.Start, error) {
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
		out.Equals = checkpointAddress(known.Project, known.Number, known.Standing)
	}
	return sayStart(out), nil
}

// checkpointAddress is the address of a checkpoint of some run.
func checkpointAddress(project string, number int, p pg.Standing) string {
	stand := checkpoint.Stand{Leg: p.Leg, Step: p.Step, Epoch: p.Epoch, Replaced: p.Replaced}
	return api.Address{Project: project, Run: number, At: stand.Own(p.Shared)}.String()
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

// startWarning says what is odd about starting weights, or "".
func startWarning(start *api.Start, origin *api.Origin) string {
	switch {
	case start == nil || start.Equals == "" || origin != nil && origin.Kind == "branch":
	case start.Weights == "fresh":
		return "The run was declared to start fresh, but its starting weights are equal to those of " + start.Equals + "."
	case start.Weights == "":
		return "The run goes on from trained weights: those it started with are equal to " + start.Equals + ". If that is meant, say so (kembrel branch); if not, build the model anew before training."
	}
	return ""
}

// startWarnings are those that the recorder of a leg tells its person.
func (s *Service) startWarnings(ctx context.Context, run int64) ([]string, error) {
	row, err := s.db.StartOf(ctx, run)
	if err != nil || row.Start == nil {
		return nil, err
	}
	start, err := s.start(ctx, row.ID, row.Start)
	if err != nil {
		return nil, err
	}
	var origin *api.Origin
	if row.Origin != nil {
		if err := json.Unmarshal(row.Origin, &origin); err != nil {
			return nil, err
		}
	}
	if w := startWarning(start, origin); w != "" {
		return []string{w}, nil
	}
	return nil, nil
}

// untaken finds which of the values that a run was asked to take it did not: those of its origin, or of the search that it is a trial of.
func (s *Service) untaken(ctx context.Context, row pg.Run, r *api.RunDetail) error {
	var asked map[string]json.RawMessage
	switch {
	case r.Origin != nil:
		asked = r.Origin.Asked
	case row.Search > 0:
		_, _, search, err := s.search(ctx, &api.SearchInput{ProjectInput: api.ProjectInput{Project: r.Project}, Number: row.Search})
		if api.Is(err, api.NotFound) {
			return nil // deleted, or never there: nobody knows what it asked
		}
		if err != nil {
			return err
		}
		_, settings, err := s.settings(r.Project, search)
		if err != nil || row.Trial > len(settings) {
			return err
		}
		asked = map[string]json.RawMessage{}
		for _, v := range settings[row.Trial-1] {
			asked[v.Name] = v.Value
		}
	}
	for _, o := range hyper.Untaken(asked, r.Hyper) {
		r.Untaken = append(r.Untaken, api.Untaken(o))
	}
	return nil
}

// warnings gathers what a person should know before trusting or resuming a run.
func (s *Service) warnings(ctx context.Context, r *api.RunDetail) ([]string, error) {
	var out []string
	if w := startWarning(r.Start, r.Origin); w != "" {
		out = append(out, w)
	}
	if len(r.Untaken) > 0 && r.Step > 0 {
		others := make([]hyper.Other, len(r.Untaken))
		for i, u := range r.Untaken {
			others[i] = hyper.Other(u)
		}
		out = append(out, hyper.SayUntaken(others))
	}
	for _, l := range r.Legs {
		if l.Resumed != nil && len(l.Resumed.Lacks) > 0 && (r.Origin == nil || l.Number > 1) {
			out = append(out, fmt.Sprintf("Leg %d went on from %s without its %s: its curves are not those of an uninterrupted run.", l.Number, l.Resumed.From, strings.Join(l.Resumed.Lacks, ", ")))
		}
	}
	if r.Checkpoints > 0 {
		page, err := s.ListCheckpoints(ctx, Who{}, &api.RunInput{ProjectInput: api.ProjectInput{Project: r.Project}, Number: r.Number})
		if err != nil {
			return nil, err
		}
		classes := false
		for _, c := range r.Curves {
			classes = classes || checkpoint.Classifies(c.Name)
		}
		if len(page.Items) > 0 {
			out = append(out, checkpoint.Warnings(page.Items[0].Parts, r.Needs, classes)...)
		}
	}
	return out, nil
}

// maxRepeat is how many readings of each of two runs are compared.
const maxRepeat = 2_000_000

// compareWithOrigin keeps how a finished rerun without changed values compares with the run that it repeats.
func (s *Service) compareWithOrigin(ctx context.Context, run int64) error {
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
	other, err := s.runID(ctx, api.RunInput{ProjectInput: api.ProjectInput{Project: from.Project}, Number: from.Run})
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
			first, since, out.Curve, out.Since = float64(r.Since.Step), r, name, figure(name, *r.Since)
		}
	}
	switch {
	case out.Readings == 0:
		out.Same, out.Says = false, "Repeatable: it has no reading in common with "+origin.From+"."
	case out.Same:
		out.Says = fmt.Sprintf("Repeatable: yes. All %d readings equal those of %s, bit for bit.", out.Readings, origin.From)
	case out.Since == nil:
		out.Says = fmt.Sprintf("Repeatable: to %.0e. The %d readings differ from those of %s by no more.", math.Max(float64(out.Difference), 1e-16), out.Readings, origin.From)
	default:
		where := fmt.Sprintf("step %d", out.Since.Step)
		if e := float64(out.Since.Epoch); e == e {
			where = "epoch " + strconv.FormatFloat(math.Ceil(e), 'f', -1, 64)
		}
		out.Says = fmt.Sprintf("Repeatable: no, since %s: %s was %.6g in %s and is %.6g.", where, out.Curve, since.Was, origin.From, float64(out.Since.Value))
	}
	return s.db.SetRepeats(ctx, run, out)
}

// programCurves reads what a run's program recorded, by curve.
func (s *Service) programCurves(ctx context.Context, run int64) (map[string][]curve.Reading, error) {
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
