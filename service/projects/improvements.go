package projects

import (
	"context"
	"fmt"
	"slices"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/verdict"
	"kembrel/service/act"
)

// mostSince is how many runs after the last improvement are counted.
const mostSince = 1000

// GetImprovements tells how a project's best moved: the runs that beat all before them.
func (s *Projects) GetImprovements(ctx context.Context, _ act.Who,
	in *api.ImprovementsInput) (*api.Improvements, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.Improvements(ctx, p.ID, p.Objective.Direction == verdict.Lower, in.Limit+1)
	if err != nil {
		return nil, err
	}
	out := &api.Improvements{Items: []api.Improvement{}, Earlier: len(rows) > in.Limit}
	for _, r := range slices.Backward(rows[:min(len(rows), in.Limit)]) {
		out.Items = append(out.Items, api.Improvement{Run: fmt.Sprintf("%s/%d", p.Key, r.Number), Started: r.Started,
			Best: api.Float(r.Best)})
	}
	if len(rows) > 0 {
		if out.Since, err = s.db.RunsSince(ctx, p.ID, rows[0].Number, mostSince+1); err != nil {
			return nil, err
		}
	}
	out.Says = sayImprovements(p.Objective.Curve, out)
	return out, nil
}

func sayImprovements(name string, in *api.Improvements) string {
	if len(in.Items) == 0 {
		return fmt.Sprintf("No run has a reading of %s yet.", name)
	}
	say := func(i api.Improvement) string {
		return fmt.Sprintf("%s (%s, %s)", curve.Number(float64(i.Best)), i.Run, i.Started.UTC().Format("2006-01-02"))
	}
	first, last := in.Items[0], in.Items[len(in.Items)-1]
	var text string
	if len(in.Items) == 1 {
		text = fmt.Sprintf("The best %s is %s", name, say(last))
	} else {
		steps := act.Many(len(in.Items)-1, "step", "steps")
		if in.Earlier {
			steps = "the last " + steps
		}
		text = fmt.Sprintf("%s went from %s to %s in %s", name, say(first), say(last), steps)
	}
	switch {
	case in.Since == 0:
		return text + "."
	case in.Since == 1:
		return text + "; the run after it was no better."
	case in.Since > mostSince:
		return text + fmt.Sprintf("; of more than %d runs after it none was better.", mostSince)
	}
	return text + fmt.Sprintf("; of %d runs after it none was better.", in.Since)
}
