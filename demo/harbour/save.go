package main

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"

	"kembrel/core/tensor"
)

// architecture is what must be known to build the network again.
type architecture struct {
	Layers     []int   `json:"layers"`
	Activation string  `json:"activation"`
	Dropout    float64 `json:"dropout"`
}

// preprocess is what turns a recording into the network's input and its output into an answer.
type preprocess struct {
	Bands   int      `json:"bands"`
	Frames  int      `json:"frames"`
	Labels  []string `json:"labels"`
	Scaling scaling  `json:"scaling"`
}

// saved are the parts of a checkpoint and their files.
var saved = map[string][]string{
	"weights":      {"weights.safetensors"},
	"optimiser":    {"optimiser.safetensors"},
	"architecture": {"architecture.json"},
	"preprocess":   {"preprocess.json"},
	"random":       {"random.bin"},
}

// save writes a checkpoint's files into a folder.
func (t *training) save(folder string) error {
	var weights, state []tensor.Tensor
	for _, p := range t.net.parameters() {
		weights = append(weights, tensor.Float64(p.name, p.shape, p.values))
		if first := t.optimiser.first[p.name]; first != nil {
			state = append(state, tensor.Float64(p.name+".first", p.shape, first))
		}
		if second := t.optimiser.second[p.name]; second != nil {
			state = append(state, tensor.Float64(p.name+".second", p.shape, second))
		}
	}
	state = append(state, tensor.Float64("steps", []int64{1}, []float64{float64(t.optimiser.steps)}))
	if err := writeTensors(filepath.Join(folder, "weights.safetensors"), weights); err != nil {
		return err
	}
	if err := writeTensors(filepath.Join(folder, "optimiser.safetensors"), state); err != nil {
		return err
	}
	random, err := t.source.MarshalBinary()
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, "random.bin"), random, 0o644); err != nil {
		return err
	}
	if err := writeJSON(filepath.Join(folder, "architecture.json"), t.architecture); err != nil {
		return err
	}
	return writeJSON(filepath.Join(folder, "preprocess.json"), preprocess{bands, frames, classes, t.scaling})
}

func writeTensors(path string, tensors []tensor.Tensor) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	if err := tensor.WriteSafetensors(f, tensors); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

func writeJSON(path string, v any) error {
	text, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(text, '\n'), 0o644)
}

// load builds the network that a restored checkpoint holds.
func load(folder string) (*network, preprocess, error) {
	var a architecture
	var pre preprocess
	for name, to := range map[string]any{"architecture.json": &a, "preprocess.json": &pre} {
		content, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil {
			return nil, pre, err
		}
		if err := json.Unmarshal(content, to); err != nil {
			return nil, pre, fmt.Errorf("%s: %w", name, err)
		}
	}
	f, err := os.Open(filepath.Join(folder, "weights.safetensors"))
	if err != nil {
		return nil, pre, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, pre, err
	}
	tensors, err := tensor.ReadSafetensors(f, info.Size())
	if err != nil {
		return nil, pre, err
	}
	byName := map[string]tensor.Tensor{}
	for _, t := range tensors {
		byName[t.Name] = t
	}
	net := newNetwork(a.Layers, a.Activation, 0, rand.New(rand.NewPCG(0, 0)))
	for _, p := range net.parameters() {
		values, err := byName[p.name].Float64s()
		if err != nil || len(values) != len(p.values) {
			return nil, pre, fmt.Errorf("weights.safetensors has no %s of shape %v", p.name, p.shape)
		}
		copy(p.values, values)
	}
	return net, pre, nil
}
