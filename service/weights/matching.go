package weights

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/tensor"
	"kembrel/service/act"
	"kembrel/store"
)

// maxListed bounds a part that lists tensors as text, in bytes.
const maxListed = 16 << 20

// listedTensors reads the list of tensors in a part such as the architecture: a JSON file {"tensors": [{"name",
// "dtype", "shape"}, ...]}, or any file of tensors.
func (s *Weights) listedTensors(ctx context.Context, c *api.Checkpoint, rows []store.File,
	part string) ([]tensor.Info, error) {
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
		content, err := s.checkpoints.Content(ctx, f)
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(content)
		if err != nil {
			return nil, err
		}
		if list, ok := tensor.ParseList(text); ok {
			out, found = append(out, list...), true
		}
	}
	if !found {
		return nil, api.Fail(api.NotFound, "the part %s of %s lists no tensors; it has the parts %s", part, c.Address,
			strings.Join(c.Parts, ", "))
	}
	return out, nil
}

// side reads one side of a match.
func (s *Weights) side(ctx context.Context, in api.MatchSide) ([]tensor.Info, error) {
	if in.Address == "" {
		return in.Tensors, nil
	}
	at, err := checkpointInput(in.Address)
	if err != nil {
		return nil, err
	}
	if in.Part != "" && in.Part != checkpoint.Weights {
		c, rows, _, err := s.checkpoints.FindHeld(ctx, at)
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
		return api.CheckpointInput{},
			api.Fail(api.Invalid, "%.100q names no checkpoint, such as vessels/3@best", address)
	}
	return api.CheckpointInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: a.Project},
		Number: a.Run}, At: a.At.String()}, nil
}

// openWeights opens the files of a checkpoint's weights.
func (s *Weights) openWeights(ctx context.Context, in api.CheckpointInput) (*api.Checkpoint, []*tensor.File, error) {
	c, rows, _, err := s.checkpoints.FindHeld(ctx, in)
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
			return nil, nil, api.Fail(api.Unreadable, "%s, file %s: %v", c.Address, f.Path, err)
		} else if err != nil {
			return nil, nil, err
		}
		out = append(out, file)
	}
	if len(out) == 0 {
		return nil, nil, api.Fail(api.NotFound, "%s: %s", c.Address, withoutWeights(c))
	}
	return c, out, nil
}

func withoutWeights(c *api.Checkpoint) string {
	return "It has no weights; its parts are " + strings.Join(c.Parts, ", ") + "."
}

// MatchTensors says whether tensors fit before they are loaded.
func (s *Weights) MatchTensors(ctx context.Context, _ act.Who, in *api.MatchInput) (*api.Match, error) {
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
func (s *Weights) GetDifference(ctx context.Context, _ act.Who, in *api.DifferenceInput) (*api.Difference, error) {
	from, err := checkpointInput(in.From)
	if err != nil {
		return nil, err
	}
	select { // each reads whole checkpoints
	case s.differing <- struct{}{}:
	case <-ctx.Done():
		return nil, ctx.Err()
	}
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
	out := &api.Difference{From: a.Address, To: b.Address, Match: api.Match{Says: m.Sentence(), Fits: m.Fits(),
		Match: m}, Tensors: []api.TensorDifference{}}
	list, err := tensor.Differ(x, y)
	if err != nil {
		return nil, err
	}
	equal := 0
	for _, d := range list {
		if d.Equal {
			equal++
		}
		out.Tensors = append(out.Tensors, api.TensorDifference{Name: d.Name, Shape: d.Shape, Equal: d.Equal,
			Distance: api.Float(d.Distance), Relative: api.Float(d.Relative),
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
