package main

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"

	"kembrel.internal/kembrel"

	"kembrel/core/tensor"
)

// architecture is what must be known to build the network again.
type architecture struct {
	Layers     []int   `json:"layers"`
	Activation string  `json:"activation"`
	Dropout    float64 `json:"dropout"`

	Tensors []tensor.Info `json:"tensors"` // what weights must be like
}

// preprocess is what turns a recording into the network's input and its output into an answer.
type preprocess struct {
	Bands   int      `json:"bands"`
	Frames  int      `json:"frames"`
	Labels  []string `json:"labels"`
	Scaling scaling  `json:"scaling"`
}

// savedParts are the parts of a checkpoint and their files.
var savedParts = map[string][]string{
	"weights":      {"weights.safetensors"},
	"optimiser":    {"optimiser.safetensors"},
	"architecture": {"architecture.json"},
	"preprocess":   {"preprocess.json"},
	"random":       {"random.bin"},
	"position":     {"position.json"},
}

// save writes a checkpoint's files into a folder.
func (t *training) save(folder string) error {
	var state []tensor.Tensor
	for _, p := range t.net.parameters() {
		if first := t.optimiser.first[p.name]; first != nil {
			state = append(state, tensor.Float64(p.name+".first", p.shape, first))
		}
		if second := t.optimiser.second[p.name]; second != nil {
			state = append(state, tensor.Float64(p.name+".second", p.shape, second))
		}
	}
	state = append(state, tensor.Float64("steps", []int64{1}, []float64{float64(t.optimiser.steps)}))
	if err := writeTensors(filepath.Join(folder, "weights.safetensors"), t.weights()); err != nil {
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
	if err := writeJSON(filepath.Join(folder, "architecture.json"), t.described()); err != nil {
		return err
	}
	if err := writeJSON(filepath.Join(folder, "position.json"), t.position); err != nil {
		return err
	}
	return writeJSON(filepath.Join(folder, "preprocess.json"), preprocess{bands, frames, classes, t.scaling})
}

// writeClips writes clips for programs in other languages: their scaled levels [clips, 384] and classes [clips].
func writeClips(path string, count int) error {
	clips := makeClips(count, 0, dataSeed)
	measureScaling(clips).apply(clips)
	levels, classes := tensor.Tensor{Info: tensor.Info{Name: "levels", Dtype: "F32",
		Shape: []int64{int64(count), bands * frames}}}, tensor.Tensor{Info: tensor.Info{Name: "classes", Dtype: "U8",
		Shape: []int64{int64(count)}}}
	for _, c := range clips {
		for _, v := range c.levels {
			levels.Data = binary.LittleEndian.AppendUint32(levels.Data, math.Float32bits(float32(v)))
		}
		classes.Data = append(classes.Data, byte(c.class))
	}
	return writeTensors(path, []tensor.Tensor{levels, classes})
}

func (t *training) described() architecture {
	a := t.architecture
	for _, w := range t.weights() {
		a.Tensors = append(a.Tensors, w.Info)
	}
	return a
}

func (t *training) weights() (out []tensor.Tensor) {
	for _, p := range t.net.parameters() {
		out = append(out, tensor.Float64(p.name, p.shape, p.values))
	}
	return out
}

// resume puts the training where a checkpoint was saved. Parts that were not given start afresh.
func (t *training) resume(from kembrel.Resume) error {
	weights, err := readTensors(from.File("weights"))
	if err != nil {
		return err
	}
	for _, p := range t.net.parameters() {
		values, err := weights[p.name].Float64s()
		if err != nil || len(values) != len(p.values) {
			return fmt.Errorf("%s has no %s of shape %v", from.From, p.name, p.shape)
		}
		copy(p.values, values)
	}
	t.position.Step = from.Step
	t.position.Epoch = int(from.Epoch) + 1
	if path := from.File("optimiser"); path != "" {
		state, err := readTensors(path)
		if err != nil {
			return err
		}
		for name, x := range state {
			values, err := x.Float64s()
			if err != nil {
				return err
			}
			if p, ok := strings.CutSuffix(name, ".first"); ok {
				t.optimiser.first[p] = values
			} else if p, ok := strings.CutSuffix(name, ".second"); ok {
				t.optimiser.second[p] = values
			} else if name == "steps" {
				t.optimiser.steps = int(values[0])
			}
		}
	}
	if path := from.File("random"); path != "" {
		state, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if err := t.source.UnmarshalBinary(state); err != nil {
			return err
		}
	}
	if path := from.File("position"); path != "" {
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		return json.Unmarshal(text, &t.position)
	}
	return nil
}

func readTensors(path string) (map[string]tensor.Tensor, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	list, err := tensor.ReadAll(f, info.Size())
	out := map[string]tensor.Tensor{}
	for _, x := range list {
		out[x.Name] = x
	}
	return out, err
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
	byName, err := readTensors(filepath.Join(folder, "weights.safetensors"))
	if err != nil {
		return nil, pre, err
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
