package checkpoints

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

// saySizes says what the bytes of checkpoints come to.
func saySizes(z *api.StorageSizes, what string) string {
	t := z.Total
	beside := ""
	for _, b := range z.Beside {
		beside += fmt.Sprintf(" Beside them %s of %s.", map[string]string{
			"predictions": act.Many(int(b.Count), "prediction sheet", "prediction sheets"),
			"files":       act.Many(int(b.Count), "file of a run", "files of runs"),
			"editions":    act.Many(int(b.Count), "edition whose run is deleted", "editions whose runs are deleted"),
		}[b.Kind], api.Bytes(b.Bytes))
	}
	if t.Checkpoints == 0 {
		return "No checkpoint is held." + beside
	}
	says := fmt.Sprintf("%s of %s %s", act.Many(t.Checkpoints, "checkpoint", "checkpoints"), api.Bytes(t.Whole),
		"take "+api.Bytes(t.Stored))
	if t.Checkpoints == 1 {
		says = fmt.Sprintf("1 checkpoint of %s takes %s", api.Bytes(t.Whole), api.Bytes(t.Stored))
	}
	var ways []string
	if t.Bytes < t.Whole {
		ways = append(ways, fmt.Sprintf("what is equal is kept once (%s less)", api.Bytes(t.Whole-t.Bytes)))
	}
	if t.Stored < t.Bytes {
		ways = append(ways, fmt.Sprintf("the rest is packed (%s less)", api.Bytes(t.Bytes-t.Stored)))
	}
	if len(ways) > 0 {
		says += ": " + strings.Join(ways, ", ")
	}
	says += "."
	if len(z.Items) > 1 && t.Stored > 0 {
		says += fmt.Sprintf(" The largest %s is %s with %.0f %%.", what, z.Items[0].Address,
			100*float64(z.Items[0].Stored)/float64(t.Stored))
	}
	if t.Going > 0 {
		says += fmt.Sprintf(" %s after a grace period.", act.Many(t.Going, "checkpoint is to be deleted",
			"checkpoints are to be deleted"))
	}
	return says + beside
}

// sizesAge is how old the bytes may be that are shown: adding up those of 10,000 checkpoints of 300 MB takes five
// seconds. Counts are always new.
const sizesAge = time.Minute

// heldBytes are what checkpoints hold, as it was lately.
type heldBytes struct {
	parts map[int64]store.Held
	all   store.Held
	as    time.Time
}

// held adds up what the checkpoints of a project hold by run, or (0) those of all by project, one at a time.
func (s *Checkpoints) held(ctx context.Context, project int64, by string) (out heldBytes, err error) {
	s.sizing.Lock()
	defer s.sizing.Unlock()
	if known, ok := s.sizes[project]; ok && time.Since(known.as) < sizesAge {
		return known, nil
	}
	out.as = time.Now()
	if out.parts, err = s.db.Held(ctx, store.HeldQuery{By: by, Project: project}); err != nil {
		return out, err
	}
	all, err := s.db.Held(ctx, store.HeldQuery{By: "all", Project: project})
	if err != nil {
		return out, err
	}
	out.all = all[0]
	if time.Since(out.as) < sizesAge/100 { // quickly added up: it need not be old
		return out, nil
	}
	if s.sizes == nil || len(s.sizes) > 100 {
		s.sizes = map[int64]heldBytes{}
	}
	s.sizes[project] = out
	return out, nil
}

// GetStorage tells what takes how many bytes, the most first: by project, or by run of one.
func (s *Checkpoints) GetStorage(ctx context.Context, _ act.Who, in *api.StorageInput) (*api.StorageSizes, error) {
	project, by := int64(0), "project"
	if in.Project != "" {
		p, err := s.Project(ctx, in.Project)
		if err != nil {
			return nil, err
		}
		project, by = p.ID, "run"
	}
	held, err := s.held(ctx, project, by)
	if err != nil {
		return nil, err
	}
	sums, err := s.db.CheckpointSums(ctx, by, project)
	if err != nil {
		return nil, err
	}
	totals, err := s.db.ChunkTotals(ctx)
	if err != nil {
		return nil, err
	}
	out := &api.StorageSizes{Items: []api.SizedPart{}, Loose: totals.Loose, As: held.as,
		Total: api.Sizes{Bytes: held.all.Bytes, Stored: held.all.Stored, Own: held.all.Own}}
	all := true
	for _, r := range sums {
		if project == 0 {
			sees, err := s.Sees(ctx, r.Address)
			if err != nil {
				return nil, err
			}
			if !sees {
				all = false
				continue
			}
		}
		h := held.parts[r.Part]
		one := api.Sizes{Checkpoints: r.Checkpoints, Whole: r.Whole, Bytes: h.Bytes, Stored: h.Stored, Own: h.Own,
			Going: r.Going, Dropped: r.Dropped, Pinned: r.Pinned}
		out.Items = append(out.Items, api.SizedPart{Address: r.Address, Title: r.Title, Sizes: one})
		out.Total.Checkpoints += one.Checkpoints
		out.Total.Whole += one.Whole
		out.Total.Going += one.Going
		out.Total.Dropped += one.Dropped
		out.Total.Pinned += one.Pinned
	}
	if !all { // of what is seen, where what two projects share counts for both
		out.Loose, out.Total.Bytes, out.Total.Stored, out.Total.Own = 0, 0, 0, 0
		for _, i := range out.Items {
			out.Total.Bytes += i.Bytes
			out.Total.Stored += i.Stored
			out.Total.Own += i.Own
		}
	}
	slices.SortStableFunc(out.Items, func(a, b api.SizedPart) int {
		return cmp.Or(cmp.Compare(b.Stored, a.Stored), cmp.Compare(b.Dropped, a.Dropped),
			cmp.Compare(a.Address, b.Address))
	})
	if all { // otherwise it would tell of projects that are not seen
		beside, err := s.db.SizedBeside(ctx, project)
		if err != nil {
			return nil, err
		}
		for _, b := range beside {
			if b.Count > 0 {
				out.Beside = append(out.Beside, api.SizedKind(b))
			}
		}
	}
	out.Says = saySizes(out, map[string]string{"project": "project", "run": "run"}[by])
	out.Items = out.Items[:min(len(out.Items), 1000)]
	return out, nil
}
