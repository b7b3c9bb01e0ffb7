package projects

import (
	"context"
	"fmt"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/service/act"
)

// GetImprovements tells how a project's best moved: the runs that beat all before them.
func (s *Projects) GetImprovements(ctx context.Context, _ act.Who,
	in *api.ImprovementsInput) (*api.Improvements, error) {
	p, err := s.Project(ctx, in.Project)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.Improvements(ctx, p.ID, p.Objective, in.Limit)
	if err != nil {
		return nil, err
	}
	out := &api.Improvements{Items: []api.Improvement{}}
	for _, r := range slices.Backward(rows) {
		out.Items = append(out.Items, api.Improvement{Run: fmt.Sprintf("%s/%d", p.Key, r.Number),
			At: time.UnixMilli(r.Time).UTC(), Best: api.Float(r.Best)})
	}
	if len(rows) > 0 {
		out.Count, out.Since = rows[0].Count, rows[0].Runs-rows[0].Nth
	}
	out.Says = sayImprovements(p.Objective.Curve, out)
	return out, nil
}

func sayImprovements(name string, in *api.Improvements) string {
	if len(in.Items) == 0 {
		return fmt.Sprintf("No run has a reading of %s yet.", name)
	}
	say := func(i api.Improvement) string {
		return fmt.Sprintf("%s (%s, %s)", curve.Number(float64(i.Best)), i.Run, i.At.Format("2006-01-02"))
	}
	first, last := in.Items[0], in.Items[len(in.Items)-1]
	var text string
	if len(in.Items) == 1 {
		text = fmt.Sprintf("The best %s is %s", name, say(last))
	} else {
		steps := act.Many(len(in.Items)-1, "step", "steps")
		if in.Count > int64(len(in.Items)) {
			steps = fmt.Sprintf("the last %d of %d steps", len(in.Items)-1, in.Count-1)
		}
		text = fmt.Sprintf("%s went from %s to %s in %s", name, say(first), say(last), steps)
	}
	switch in.Since {
	case 0:
		return text + "."
	case 1:
		return text + "; the run after it was no better."
	}
	return text + fmt.Sprintf("; of %d runs after it none was better.", in.Since)
}
