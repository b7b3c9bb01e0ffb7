package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
	"kembrel/core/tensor"
	"kembrel/store/pg"
)

// described is a tensor with its statistics, as it is kept.
type described struct {
	tensor.Info
	tensor.Statistics
}

// inspectPace is how often files that nobody has looked into are looked for, beside at each commit here.
const inspectPace = time.Minute

// inspectWeights computes statistics of each file of weights once, after its commit, one at a time.
func (s *Service) inspectWeights(ctx context.Context) {
	ticker := time.NewTicker(inspectPace)
	defer ticker.Stop()
	for {
		for more := true; more; {
			var err error
			if more, err = s.inspectSome(ctx); err != nil && ctx.Err() == nil {
				s.options.Log.Warn("statistics of weights wait", "err", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-s.inspect:
		case <-ticker.C:
		}
	}
}

// inspectSome looks into some files; more is true where others may be left and this got on.
func (s *Service) inspectSome(ctx context.Context) (more bool, err error) {
	pending, err := s.db.PendingTensors(ctx)
	if err != nil {
		return false, err
	}
	for _, p := range pending {
		err := s.db.InTx(ctx, func(q pg.Queries) error {
			mine, err := q.LockTensors(ctx, p.Digest)
			if err != nil || !mine {
				return err
			}
			if known, err := q.Tensors(ctx, [][]byte{p.Digest}); err != nil || len(known) > 0 {
				return err
			}
			found, err := s.inspectFile(ctx, p)
			if err != nil {
				return err
			}
			more = true
			return q.SetTensors(ctx, found)
		})
		if err != nil {
			return false, err
		}
		s.live.touch("s", p.Run)
	}
	return more, nil
}

// inspectFile computes what is kept of a file. What is wrong with the file itself is kept as its problem.
func (s *Service) inspectFile(ctx context.Context, p pg.PendingFile) (pg.TensorFile, error) {
	out := pg.TensorFile{Digest: p.Digest, Tensors: json.RawMessage("[]")}
	files, err := s.db.ListFiles(ctx, p.Run, p.Checkpoint)
	if err != nil {
		return out, err
	}
	i := slices.IndexFunc(files, func(f pg.File) bool { return f.Path == p.Path })
	if i < 0 {
		return out, nil
	}
	f, err := s.openTensors(ctx, files[i])
	if err == nil {
		list := make([]described, len(f.Tensors))
		for k, t := range f.Tensors {
			list[k].Info = t
			if list[k].Statistics, err = f.Statistics(k); err != nil {
				break
			}
		}
		if err == nil {
			var print chunk.Digest
			if print, err = tensor.Fingerprint(f); err == nil {
				out.Weights = print[:]
				out.Tensors, err = json.Marshal(list)
				return out, err
			}
		}
	}
	if errors.Is(err, tensor.ErrFormat) {
		out.Problem = clean(err.Error())
		return out, nil
	}
	return out, err
}

// openTensors opens a file of tensors in the blob store.
func (s *Service) openTensors(ctx context.Context, f pg.File) (*tensor.File, error) {
	pieces, err := chunk.Unpack(f.Chunks)
	if err != nil {
		return nil, err
	}
	return tensor.Open(&readerAt{from: fileReader{ctx: ctx, blobs: s.blobs, pieces: pieces, size: f.Size}}, f.Size)
}

// readerAt reads a file at any place.
type readerAt struct {
	mutex sync.Mutex
	from  fileReader
}

func (r *readerAt) ReadAt(p []byte, at int64) (int, error) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.from.at = at
	n, err := io.ReadFull(&r.from, p)
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = io.EOF
	}
	return n, err
}

// known reads what is kept of the weights in some files, by path, or nil where one is not looked into yet.
func (s *Service) known(ctx context.Context, files []api.File) (list []described, problem string, ready bool, err error) {
	var digests [][]byte
	for _, f := range files {
		if f.Part != checkpoint.Weights || !checkpoint.HoldsTensors(f.Path) {
			continue
		}
		d, err := chunk.ParseDigest(f.Digest)
		if err != nil {
			return nil, "", false, err
		}
		digests = append(digests, d[:])
	}
	rows, err := s.db.Tensors(ctx, digests)
	if err != nil {
		return nil, "", false, err
	}
	for _, r := range rows {
		var some []described
		if err := json.Unmarshal(r.Tensors, &some); err != nil {
			return nil, "", false, err
		}
		list = append(list, some...)
		if r.Problem != "" {
			problem = r.Problem
		}
	}
	unique := map[string]bool{}
	for _, d := range digests {
		unique[string(d)] = true
	}
	return list, problem, len(rows) == len(unique), nil
}

func toTensor(d described, histogram bool, odd string) api.Tensor {
	out := api.Tensor{Info: d.Info, Parameters: d.Info.Count(), NaN: d.NaN, Infinite: d.Infinite, Zero: d.Zero, Mean: api.Float(d.Mean), Deviation: api.Float(d.Deviation),
		Min: api.Float(d.Min), Max: api.Float(d.Max), Odd: odd}
	if histogram {
		out.Histogram = d.Histogram[:]
	}
	return out
}

// GetTensors lists the tensors of a checkpoint.
func (s *Service) GetTensors(ctx context.Context, _ Who, in *api.TensorsInput) (*api.Tensors, error) {
	c, rows, err := s.find(ctx, in.CheckpointInput)
	if err != nil {
		return nil, err
	}
	out := &api.Tensors{Address: c.Address, Tensors: []api.Tensor{}}
	if in.Part != checkpoint.Weights && in.Part != "" {
		list, err := s.listedTensors(ctx, c, rows, in.Part)
		if err != nil {
			return nil, err
		}
		for _, t := range list {
			out.Tensors, out.Parameters = append(out.Tensors, api.Tensor{Info: t, Parameters: t.Count()}), out.Parameters+t.Count()
		}
		out.Says = fmt.Sprintf("%d tensors, %s parameters.", len(list), thousands(out.Parameters))
		return out, nil
	}
	list, problem, ready, err := s.known(ctx, c.Files)
	if err != nil {
		return nil, err
	}
	out.Ready, out.Problem = ready, problem
	over, err := s.statisticsBefore(ctx, in.RunInput, c.Step)
	if err != nil {
		return nil, err
	}
	var odd []string
	for _, d := range list {
		wrong := tensor.Health(d.Info, over[d.Name])
		if wrong != "" {
			odd = append(odd, d.Name+" ("+wrong+")")
		}
		out.Tensors, out.Parameters = append(out.Tensors, toTensor(d, true, wrong)), out.Parameters+d.Info.Count()
	}
	switch {
	case problem != "":
		out.Says = "The weights cannot be read: " + problem + "."
	case !ready:
		out.Says = "Its weights are being looked into."
	default:
		out.Says = fmt.Sprintf("%d tensors, %s parameters.", len(list), thousands(out.Parameters))
		if len(odd) > 0 {
			out.Says += " Odd: " + few(odd, 6) + "."
		}
	}
	return out, nil
}

func thousands(n int64) string {
	text := fmt.Sprint(n)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}

// statisticsBefore gathers the statistics of each tensor over a run's checkpoints up to a step, the earliest first.
func (s *Service) statisticsBefore(ctx context.Context, in api.RunInput, step int64) (map[string][]tensor.Statistics, error) {
	points, err := s.weightsOf(ctx, in)
	if err != nil {
		return nil, err
	}
	out := map[string][]tensor.Statistics{}
	for _, p := range points {
		if p.checkpoint.Step > step {
			break
		}
		for _, d := range p.tensors {
			out[d.Name] = append(out[d.Name], d.Statistics)
		}
	}
	return out, nil
}

type weightsPoint struct {
	checkpoint api.Checkpoint
	tensors    []described
}

// maxWeightsPoints is how many checkpoints are drawn at most; of more, some are left out evenly.
const maxWeightsPoints = 100

// weightsOf reads what is kept of the weights of a run's present checkpoints, the earliest first.
func (s *Service) weightsOf(ctx context.Context, in api.RunInput) ([]weightsPoint, error) {
	items, _, err := s.checkpoints(ctx, in)
	if err != nil {
		return nil, err
	}
	items = slices.DeleteFunc(items, func(c api.Checkpoint) bool { return c.Replaced })
	slices.Reverse(items)
	if n := len(items); n > maxWeightsPoints {
		some := make([]api.Checkpoint, maxWeightsPoints)
		for i := range some {
			some[i] = items[i*(n-1)/(maxWeightsPoints-1)]
		}
		items = some
	}
	var out []weightsPoint
	for _, c := range items {
		list, _, _, err := s.known(ctx, c.Files)
		if err != nil {
			return nil, err
		}
		if len(list) > 0 {
			out = append(out, weightsPoint{c, list})
		}
	}
	return out, nil
}

// GetWeights tells how a run's weights are distributed over its checkpoints.
func (s *Service) GetWeights(ctx context.Context, _ Who, in *api.WeightsInput) (*api.Weights, error) {
	points, err := s.weightsOf(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	out := &api.Weights{Checkpoints: []api.WeightsAtPoint{}, Says: "No weights that can be read were saved."}
	over, infos := map[string][]tensor.Statistics{}, map[string]tensor.Info{}
	for _, p := range points {
		at := api.WeightsAtPoint{Address: p.checkpoint.Address, Step: p.checkpoint.Step, Epoch: p.checkpoint.Epoch, Tensors: []api.Tensor{}}
		for _, d := range p.tensors {
			over[d.Name], infos[d.Name] = append(over[d.Name], d.Statistics), d.Info
			at.Tensors = append(at.Tensors, toTensor(d, d.Name == in.Name, tensor.Health(d.Info, over[d.Name])))
		}
		out.Checkpoints = append(out.Checkpoints, at)
	}
	if len(points) == 0 {
		return out, nil
	}
	var odd []string
	for name, list := range over {
		if wrong := tensor.Health(infos[name], list); wrong != "" {
			odd = append(odd, name+" ("+wrong+")")
		}
	}
	sort.Strings(odd)
	if out.Says = "No layer is dead, none explodes."; len(odd) > 0 {
		out.Says = "Odd: " + few(odd, 6) + "."
	}
	return out, nil
}

// maxListed bounds a part that lists tensors as text, in bytes.
const maxListed = 16 << 20

// listedTensors reads the list of tensors in a part such as the architecture: a JSON file {"tensors": [{"name", "dtype", "shape"}, ...]}, or
// any file of tensors.
func (s *Service) listedTensors(ctx context.Context, c *api.Checkpoint, rows []pg.File, part string) ([]tensor.Info, error) {
	var out []tensor.Info
	found := false
	for _, f := range rows {
		if f.Part != part {
			continue
		}
		if checkpoint.HoldsTensors(f.Path) {
			file, err := s.openTensors(ctx, f)
			if errors.Is(err, tensor.ErrFormat) {
				continue
			} else if err != nil {
				return nil, err
			}
			out, found = append(out, file.Tensors...), true
			continue
		}
		if f.Size > maxListed {
			continue
		}
		pieces, err := chunk.Unpack(f.Chunks)
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(&fileReader{ctx: ctx, blobs: s.blobs, pieces: pieces, size: f.Size})
		if err != nil {
			return nil, err
		}
		if list, ok := tensor.ParseList(text); ok {
			out, found = append(out, list...), true
		}
	}
	if !found {
		return nil, api.Fail(api.NotFound, "the part %s of %s lists no tensors; it has the parts %s", part, c.Address, strings.Join(c.Parts, ", "))
	}
	return out, nil
}

// side reads one side of a match.
func (s *Service) side(ctx context.Context, in api.MatchSide) ([]tensor.Info, error) {
	if in.Address == "" {
		return in.Tensors, nil
	}
	at, err := checkpointInput(in.Address)
	if err != nil {
		return nil, err
	}
	if in.Part != "" && in.Part != checkpoint.Weights {
		c, rows, err := s.find(ctx, at)
		if err != nil {
			return nil, err
		}
		return s.listedTensors(ctx, c, rows, in.Part)
	}
	_, files, err := s.openWeights(ctx, at)
	if err != nil {
		return nil, err
	}
	var out []tensor.Info
	for _, f := range files {
		out = append(out, f.Tensors...)
	}
	return out, nil
}

func checkpointInput(address string) (api.CheckpointInput, error) {
	a, err := api.ParseAddress(address)
	if err != nil || a.At.Kind == api.AtNone {
		return api.CheckpointInput{}, api.Fail(api.Invalid, "%.100q names no checkpoint, such as vessels/3@best", address)
	}
	return api.CheckpointInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: a.Project}, Number: a.Run}, At: a.At.String()}, nil
}

// openWeights opens the files of a checkpoint's weights.
func (s *Service) openWeights(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []*tensor.File, error) {
	c, rows, err := s.find(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	var out []*tensor.File
	for _, f := range rows {
		if f.Part != checkpoint.Weights || !checkpoint.HoldsTensors(f.Path) {
			continue
		}
		file, err := s.openTensors(ctx, f)
		if errors.Is(err, tensor.ErrFormat) {
			return nil, nil, api.Fail(api.Invalid, "%s, file %s: %v", c.Address, f.Path, err)
		} else if err != nil {
			return nil, nil, err
		}
		out = append(out, file)
	}
	if len(out) == 0 {
		return nil, nil, api.Fail(api.NotFound, "%s has no weights; it has the parts %s", c.Address, strings.Join(c.Parts, ", "))
	}
	return c, out, nil
}

// MatchTensors says whether tensors fit before they are loaded.
func (s *Service) MatchTensors(ctx context.Context, _ Who, in *api.MatchInput) (*api.Match, error) {
	given, err := s.side(ctx, in.Body.Given)
	if err != nil {
		return nil, err
	}
	want, err := s.side(ctx, in.Body.Want)
	if err != nil {
		return nil, err
	}
	m := tensor.Compare(given, want)
	return &api.Match{Says: m.Sentence(), Fits: m.Fits(), Match: m}, nil
}

// GetDifference compares the weights of two checkpoints, reading both.
func (s *Service) GetDifference(ctx context.Context, _ Who, in *api.DifferenceInput) (*api.Difference, error) {
	from, err := checkpointInput(in.From)
	if err != nil {
		return nil, err
	}
	s.differing <- struct{}{} // each reads whole checkpoints
	defer func() { <-s.differing }()
	a, before, err := s.openWeights(ctx, from)
	if err != nil {
		return nil, err
	}
	b, after, err := s.openWeights(ctx, in.CheckpointInput)
	if err != nil {
		return nil, err
	}
	x, y := tensor.Join(before...), tensor.Join(after...)
	m := tensor.Compare(y.Tensors, x.Tensors)
	out := &api.Difference{From: a.Address, To: b.Address, Match: api.Match{Says: m.Sentence(), Fits: m.Fits(), Match: m}, Tensors: []api.TensorDifference{}}
	list, err := tensor.Differ(x, y)
	if err != nil {
		return nil, err
	}
	equal := 0
	for _, d := range list {
		if d.Equal {
			equal++
		}
		out.Tensors = append(out.Tensors, api.TensorDifference{Name: d.Name, Shape: d.Shape, Equal: d.Equal, Distance: api.Float(d.Distance), Relative: api.Float(d.Relative),
			Cosine: api.Float(d.Cosine), Largest: api.Float(d.Largest), At: d.At, Odd: d.Odd})
	}
	switch {
	case equal == len(list) && m.Fits():
		out.Says = fmt.Sprintf("All %d tensors are equal, bit for bit.", equal)
	default:
		out.Says = fmt.Sprintf("%d of %d tensors are equal, bit for bit.", equal, len(list))
		if !m.Fits() {
			out.Says += " " + m.Sentence()
		}
	}
	return out, nil
}

// verifications reads those of a run's checkpoints, by checkpoint.
func (s *Service) verifications(ctx context.Context, run int64) (map[int64][]api.Verification, error) {
	rows, err := s.db.ListVerifications(ctx, run)
	out := map[int64][]api.Verification{}
	for _, r := range rows {
		v := api.Verification{At: r.At, Who: r.Who, Host: r.Host}
		if err := json.Unmarshal(r.Result, &v); err != nil {
			return nil, err
		}
		v.At, v.Who, v.Host = r.At, r.Who, r.Host
		v.Says = sayVerified(v)
		out[r.Checkpoint] = append(out[r.Checkpoint], v)
	}
	return out, err
}

func sayVerified(v api.Verification) string {
	head := "verified"
	if !v.Same {
		head = "not the same"
	}
	var parts []string
	for _, f := range v.Figures {
		if f.Recorded == nil {
			continue
		}
		sign := "="
		if !f.Same {
			sign = "≠"
		} else if float64(f.Found) != float64(*f.Recorded) {
			sign = "≈"
		}
		parts = append(parts, fmt.Sprintf("%s %.6g %s %.6g", f.Curve, float64(f.Found), sign, float64(*f.Recorded)))
	}
	return fmt.Sprintf("%s on %s at %s: %s", head, v.Host, v.At.UTC().Format("2006-01-02 15:04 UTC"), few(parts, 6))
}

// AddVerification compares what an evaluation found with what was recorded, and keeps the outcome.
func (s *Service) AddVerification(ctx context.Context, who Who, in *api.NewVerification) (*api.Verification, error) {
	c, _, err := s.find(ctx, in.CheckpointInput)
	if err != nil {
		return nil, err
	}
	tolerance := float64(in.Body.Tolerance)
	if !(tolerance >= 0) || math.IsInf(tolerance, 0) {
		return nil, api.Fail(api.Invalid, "a tolerance is a number from 0 up")
	}
	v := api.Verification{Same: true, At: time.Now(), Host: clean(in.Body.Host), Command: in.Body.Command}
	compared := 0
	for _, name := range sortedKeys(in.Body.Figures) {
		f := api.VerifiedFigure{Curve: clean(name), Found: in.Body.Figures[name], Tolerance: in.Body.Tolerance}
		if recorded, ok := c.Figures[name]; ok {
			compared++
			f.Recorded = &recorded
			a, b := float64(recorded), float64(f.Found)
			f.Same = a == b || a != a && b != b || math.Abs(a-b) <= tolerance
			v.Same = v.Same && f.Same
		}
		v.Figures = append(v.Figures, f)
	}
	if compared == 0 {
		return nil, api.Fail(api.Invalid, "none of the figures reported (%s) was recorded with %s, which has %s", few(sortedKeys(in.Body.Figures), 10), c.Address, few(sortedKeys(c.Figures), 20))
	}
	run, err := s.runID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	items, ids, err := s.checkpoints(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(items, func(x api.Checkpoint) bool { return x.Leg == c.Leg && x.Step == c.Step })
	err = s.db.InTx(ctx, func(q pg.Queries) error {
		if err := q.AddVerification(ctx, run, ids[i], who.ID, v.Host, v); err != nil {
			return err
		}
		return s.runEvent(ctx, q, pg.Event{Kind: "checkpoint", Run: run, Person: who.ID, What: "verified"})
	})
	s.live.news()
	v.Says = sayVerified(v)
	return &v, err
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}
