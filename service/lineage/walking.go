package lineage

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"strconv"
	"strings"

	"kembrel/api"
	"kembrel/core/lineage"
	"kembrel/service/act"
	"kembrel/store"
)

// GetLineage says where a thing comes from and what uses it.
func (s *Lineage) GetLineage(ctx context.Context, who act.Who, in *api.LineageInput) (*api.Lineage, error) {
	of, err := s.find(ctx, in.Of)
	if err != nil {
		return nil, err
	}
	w := &walk{Lineage: s, limit: in.Limit, depth: map[store.LineageKey]int{of: 0}, gone: map[string]int{}}
	steps := in.Depth
	if steps == 0 {
		steps = in.Limit
	}
	if in.Only != "after" {
		err = w.up(ctx, of, steps)
	}
	if err == nil && in.Only != "before" {
		err = w.down(ctx, who, of, steps)
	}
	if err != nil {
		return nil, err
	}
	out := &api.Lineage{}
	if err := w.graph(ctx, of, &out.Graph); err != nil {
		return nil, err
	}
	if in.Only != "after" {
		out.Before = sayBefore(&out.Graph)
	}
	if in.Only != "before" {
		out.After = sayAfter(&out.Graph)
	}
	return out, nil
}

// find is the thing that an address names; what may not be seen is not there.
func (s *Lineage) find(ctx context.Context, address string) (key store.LineageKey, err error) {
	if strings.Contains(address, "#") {
		d, err := api.ParseData(address)
		if err != nil {
			return key, api.Fail(api.Invalid, "%v", err)
		}
		row, err := s.db.FindSnapshot(ctx, d.Dataset, d.Number)
		if errors.Is(err, store.ErrNone) && d.Split == "" {
			if key, err := s.findEdition(ctx, d.Dataset, d.Number); !errors.Is(err, store.ErrNone) {
				return key, err
			}
		}
		return store.LineageKey{Kind: "snapshot", ID: row.ID}, act.OrNotFound(err, "there is no %s#%d", d.Dataset,
			d.Number)
	}
	run, number, evaluation := api.ParseEvaluation(address)
	if !evaluation {
		if run, err = api.ParseAddress(address); err != nil {
			return key, api.Fail(api.Invalid, "%v; or a snapshot, hydrophone#3", err)
		}
		if run.Run == 0 {
			return key, api.Fail(api.Invalid, "%s is a project; say a run, a checkpoint or a snapshot", address)
		}
	}
	if sees, err := s.Sees(ctx, run.Project); err != nil {
		return key, err
	} else if !sees {
		return key, act.NoProject(run.Project)
	}
	in := api.RunInput{ProjectInput: api.ProjectInput{Project: run.Project}, Number: run.Run}
	id, err := s.RunID(ctx, in)
	switch {
	case err != nil:
		return key, err
	case evaluation:
		rows, err := s.db.ListEvaluations(ctx, store.EvaluationQuery{Run: id, Number: number, Limit: 1})
		if err == nil && len(rows) == 0 {
			err = api.Fail(api.NotFound, "there is no %s", address)
		}
		if err != nil {
			return key, err
		}
		return store.LineageKey{Kind: "evaluation", Run: id, ID: rows[0].ID}, nil
	case run.At.Kind != api.AtNone:
		_, _, point, err := s.checkpoints.FindWith(ctx, api.CheckpointInput{RunInput: in, At: run.At.String()})
		return store.LineageKey{Kind: "checkpoint", Run: id, ID: point}, err
	}
	return store.LineageKey{Kind: "run", Run: id}, nil
}

// findEdition finds an edition of a model that whoever asks sees.
func (s *Lineage) findEdition(ctx context.Context, model string, number int) (key store.LineageKey, err error) {
	e, err := s.db.EditionNamed(ctx, model, number)
	if err != nil {
		return key, err
	}
	if sees, err := s.Sees(ctx, e.Project); err != nil || !sees {
		return key, cmp.Or(err, store.ErrNone)
	}
	return store.LineageKey{Kind: "edition", ID: e.ID}, nil
}

// walk is a graph being gathered.
type walk struct {
	*Lineage
	limit int
	depth map[store.LineageKey]int // of each thing found: below 0 it is before
	gone  map[string]int           // of things that are not there any more, by the address that they had
	cut   bool
}

// up finds what a thing was made with, level by level.
func (w *walk) up(ctx context.Context, of store.LineageKey, steps int) error {
	level := []store.LineageKey{of}
	for d := -1; len(level) > 0; d-- {
		links, err := w.db.LineageUp(ctx, level)
		if err != nil {
			return err
		}
		level = nil
		for _, l := range links {
			from := store.LineageKey{Kind: l.FromKind, Run: l.FromRun, ID: l.FromID}
			_, known := w.depth[from]
			_, lost := w.gone[l.Address]
			switch {
			case known || from.Kind == "" && lost:
			case len(w.depth)+len(w.gone) >= w.limit || d < -steps:
				w.cut = true
			case from.Kind == "":
				w.gone[l.Address] = d
			default:
				w.depth[from] = d
				sees, err := w.sees(ctx, l.Project)
				if err != nil {
					return err
				}
				if sees { // of what may not be seen it is not told where it comes from
					level = append(level, from)
				}
			}
		}
	}
	return nil
}

// down finds what was made with a thing, level by level.
func (w *walk) down(ctx context.Context, who act.Who, of store.LineageKey, steps int) error {
	level := []store.LineageKey{of}
	for d := 1; len(level) > 0; d++ {
		made, err := w.db.LineageDown(ctx, who.Seen(), level, w.limit+1)
		if err != nil {
			return err
		}
		level = nil
		w.cut = w.cut || len(made) > w.limit // those that are known already may have taken the place of others
		for _, key := range made {
			if _, known := w.depth[key]; known {
				continue
			}
			if len(w.depth)+len(w.gone) >= w.limit || d > steps {
				w.cut = true
				break
			}
			w.depth[key] = d
			level = append(level, key)
		}
	}
	return nil
}

// graph describes what was found, with every link between two of the things.
func (w *walk) graph(ctx context.Context, of store.LineageKey, out *lineage.Graph) error {
	keys := slices.Collect(maps.Keys(w.depth))
	rows, err := w.db.LineageNodes(ctx, keys)
	if err != nil {
		return err
	}
	links, err := w.db.LineageUp(ctx, keys)
	if err != nil {
		return err
	}
	*out = lineage.Graph{Of: -1, Nodes: []lineage.Node{}, Links: []lineage.Edge{}, Cut: w.cut}
	place, points := map[store.LineageKey]int{}, map[int64]int64{}
	for _, r := range rows {
		key := store.LineageKey{Kind: r.Kind, Run: r.Run, ID: r.ID}
		n, err := w.node(ctx, r)
		if err != nil {
			return err
		}
		if n.Depth = w.depth[key]; key == of {
			out.Of = len(out.Nodes)
		}
		if r.Kind == "checkpoint" {
			points[r.Run]++
		}
		place[key] = len(out.Nodes)
		out.Nodes = append(out.Nodes, n)
	}
	if out.Of < 0 {
		return api.Fail(api.NotFound, "it was deleted while it was looked at")
	}
	for _, r := range rows {
		if n := &out.Nodes[place[store.LineageKey{Kind: r.Kind, Run: r.Run, ID: r.ID}]]; n.Kind == lineage.Run {
			n.More = max(0, r.Saved-points[r.Run])
		}
	}
	lost := map[string]int{}
	for _, address := range slices.Sorted(maps.Keys(w.gone)) {
		n := lineage.Node{Kind: lineage.Run, Address: w.Shown(ctx, address), State: lineage.Gone,
			Depth: w.gone[address]}
		if strings.Contains(address, "@") {
			n.Kind = lineage.Checkpoint
		}
		if n.Address == act.Hidden {
			n.Address, n.State = "", lineage.Hidden
		}
		lost[address] = len(out.Nodes)
		out.Nodes = append(out.Nodes, n)
	}
	for _, l := range links {
		to, ok := place[store.LineageKey{Kind: l.ToKind, Run: l.ToRun, ID: l.ToID}]
		from, known := place[store.LineageKey{Kind: l.FromKind, Run: l.FromRun, ID: l.FromID}]
		if l.FromKind == "" {
			from, known = lost[l.Address]
		}
		if ok && known && out.Nodes[to].State != lineage.Hidden {
			out.Links = append(out.Links, lineage.Edge{From: from, To: to, How: lineage.How(l.How), Use: l.Use,
				Data: l.Data})
		}
	}
	out.Sort()
	return nil
}

// sees reports whether whoever asks sees what belongs to a project; snapshots belong to none.
func (s *Lineage) sees(ctx context.Context, project string) (bool, error) {
	if project == "" {
		return true, nil
	}
	return s.Sees(ctx, project)
}

// node is what is shown of a thing; of what may not be seen, its kind alone.
func (s *Lineage) node(ctx context.Context, r store.LineageNode) (lineage.Node, error) {
	n := lineage.Node{Kind: lineage.Kind(r.Kind)}
	if sees, err := s.sees(ctx, r.Project); err != nil || !sees {
		n.State = lineage.Hidden
		return n, err
	}
	run := act.RunAddress(r.Project, r.Number)
	switch n.Kind {
	case lineage.Snapshot:
		n.Address = r.Dataset + "#" + strconv.Itoa(r.Of)
		if n.Title = api.Thousands(r.Items) + " items"; r.Items == 1 {
			n.Title = "1 item"
		}
	case lineage.Run:
		n.Address, n.Title, n.State = run, r.Title, r.State
	case lineage.Checkpoint:
		n.Address = act.CheckpointAddress(r.Project, r.Number, r.Standing)
	case lineage.Edition:
		n.Address, n.Title = r.Dataset+"#"+strconv.Itoa(r.Of), r.Title
		if err := json.Unmarshal(r.Made, &n.Places); err != nil {
			return n, err
		}
	case lineage.Evaluation:
		n.Address = api.EvaluationAddress(run, r.Of)
		found, err := mainFigure(r.Made)
		if err != nil {
			return n, err
		}
		if n.Title = found; r.On != "" {
			n.Title = strings.TrimSpace(found + " on " + r.On)
		}
	}
	if r.Doomed {
		n.State = lineage.Gone
		return n, nil
	}
	if n.Who = r.Who; r.At != nil {
		n.At = *r.At
	}
	return n, nil
}

// mainFigure is what an evaluation found, in a word.
func mainFigure(measures []byte) (string, error) {
	var all map[string]api.Float
	if err := json.Unmarshal(measures, &all); err != nil {
		return "", err
	}
	names := slices.Sorted(maps.Keys(all))
	for _, name := range append([]string{"accuracy", "mae", "loss"}, names...) {
		if v, ok := all[name]; ok {
			return name + " " + strconv.FormatFloat(float64(v), 'g', 4, 64), nil
		}
	}
	return "", nil
}
