package weights

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"sort"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/chunk"
	"kembrel/core/tensor"
	"kembrel/service/act"
)

// known reads what is kept of the weights in some files, by path, or nil where one is not looked into yet.
func (s *Weights) known(ctx context.Context,
	files []api.File) (list []described, problem string, ready bool, err error) {
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

// quantiles are the shares of a tensor's elements whose bounds are told.
var quantiles = []float64{0, .05, .25, .5, .75, .95, 1}

func toTensor(d described, histogram bool, odd string) api.Tensor {
	out := api.Tensor{Info: d.Info, Parameters: d.Info.Count(), NaN: d.NaN, Infinite: d.Infinite, Zero: d.Zero,
		Mean: api.Float(d.Mean), Deviation: api.Float(d.Deviation),
		Min: api.Float(d.Min), Max: api.Float(d.Max), Odd: odd}
	if histogram {
		out.Histogram = d.Histogram[:]
		for _, share := range quantiles {
			out.Quantiles = append(out.Quantiles, api.Float(d.Quantile(share)))
		}
	}
	return out
}

// GetTensors lists the tensors of a checkpoint.
func (s *Weights) GetTensors(ctx context.Context, _ act.Who, in *api.TensorsInput) (*api.Tensors, error) {
	c, _, err := s.checkpoints.Find(ctx, in.CheckpointInput)
	if err != nil {
		return nil, err
	}
	out := &api.Tensors{Address: c.Address, Tensors: []api.Tensor{}}
	if in.Part != checkpoint.Weights && in.Part != "" {
		c, rows, _, err := s.checkpoints.FindHeld(ctx, in.CheckpointInput)
		if err != nil {
			return nil, err
		}
		list, err := s.listedTensors(ctx, c, rows, in.Part)
		if err != nil {
			return nil, err
		}
		for _, t := range list {
			out.Tensors, out.Parameters = append(out.Tensors, api.Tensor{Info: t, Parameters: t.Count()}),
				out.Parameters+t.Count()
		}
		out.Says = fmt.Sprintf("%d tensors, %s parameters.", len(list), api.Thousands(out.Parameters))
		return out, nil
	}
	if !slices.Contains(c.Parts, checkpoint.Weights) {
		out.Ready, out.Absent, out.Says = true, true, withoutWeights(c)
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
		wrong := tensor.Health(d.Info, append(over[d.Name], d.Statistics))
		if wrong != "" {
			odd = append(odd, d.Name+" ("+wrong+")")
		}
		out.Tensors, out.Parameters = append(out.Tensors, toTensor(d, true, wrong)), out.Parameters+d.Info.Count()
	}
	switch {
	case problem != "":
		out.Says = "The weights cannot be read: " + sayProblem(problem) + "."
	case !ready:
		out.Says = "Its weights are being looked into."
	default:
		out.Says = fmt.Sprintf("%d tensors, %s parameters.", len(list), api.Thousands(out.Parameters))
		if len(odd) > 0 {
			out.Says += " Odd: " + act.Few(odd, 6) + "."
		}
	}
	return out, nil
}

// statisticsBefore gathers the statistics of each tensor over a run's checkpoints before a step, the earliest first; of
// many, some.
func (s *Weights) statisticsBefore(ctx context.Context, in api.RunInput,
	step int64) (map[string][]tensor.Statistics, error) {
	points, err := s.weightsOf(ctx, in)
	if err != nil {
		return nil, err
	}
	out := map[string][]tensor.Statistics{}
	for _, p := range points {
		if p.checkpoint.Step >= step {
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
func (s *Weights) weightsOf(ctx context.Context, in api.RunInput) ([]weightsPoint, error) {
	items, _, err := s.checkpoints.Checkpoints(ctx, in)
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
func (s *Weights) GetWeights(ctx context.Context, _ act.Who, in *api.WeightsInput) (*api.Weights, error) {
	points, err := s.weightsOf(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	out := &api.Weights{Checkpoints: []api.WeightsAtPoint{}, Says: "No weights that can be read were saved."}
	over, infos := map[string][]tensor.Statistics{}, map[string]tensor.Info{}
	for _, p := range points {
		at := api.WeightsAtPoint{Address: p.checkpoint.Address, Step: p.checkpoint.Step, Epoch: p.checkpoint.Epoch,
			Tensors: []api.Tensor{}}
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
		out.Says = "Odd: " + act.Few(odd, 6) + "."
	}
	return out, nil
}
