package kembrel

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
)

// Tensor is a tensor that is wanted; a dtype left out fits any.
type Tensor struct {
	Name  string  `json:"name"`
	Dtype string  `json:"dtype,omitempty"` // as safetensors names them: "F32"
	Shape []int64 `json:"shape"`
}

// Mismatch is a tensor that is there in another shape or dtype.
type Mismatch struct {
	Name        string
	Given, Want Tensor
}

// Fit says how the tensors in a file fit those that are wanted.
type Fit struct {
	Fits                bool
	Says                string // the outcome in a sentence
	Missing, Unexpected []Tensor
	Shapes, Dtypes      []Mismatch
	Renames             []struct{ Given, Want string } // likely new names
}

// Match says how the tensors in a file (safetensors, NPY, NPZ) fit those that a model wants, before anything is loaded.
func Match(file string, wanted []Tensor) (Fit, error) {
	var fit Fit
	text, err := json.Marshal(map[string]any{"tensors": wanted})
	if err != nil {
		return fit, err
	}
	list, err := os.CreateTemp("", "kembrel-wanted-*.json")
	if err != nil {
		return fit, err
	}
	defer os.Remove(list.Name())
	_, err = list.Write(text)
	if err = errors.Join(err, list.Close()); err != nil {
		return fit, err
	}
	binary, err := findBinary()
	if err != nil {
		return fit, err
	}
	out, err := exec.Command(binary, "match", file, list.Name(), "--output", "json").Output()
	var ended *exec.ExitError
	if errors.As(err, &ended) && ended.ExitCode() == 7 { // they do not fit
		err = nil
	}
	if err != nil {
		if ended != nil {
			err = errors.New(string(ended.Stderr))
		}
		return fit, fmt.Errorf("match %s: %w", file, err)
	}
	return fit, json.Unmarshal(out, &fit)
}
