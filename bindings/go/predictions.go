package kembrel

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"maps"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
)

// Predictions are a model's answers on examples of a split. Columns are as long as Keys, or nil.
type Predictions struct {
	Split string // "val"
	Step  int64
	Epoch float64 // NaN: none

	Keys    []string // of the examples, each once; those of the dataset's items where there is one
	Groups  []string // what they belong to, such as a voyage
	Texts   []string
	Classes []string // names; nil: the answers are numbers

	True      []int       // places in Classes; -1: not known
	Predicted []int       // the same; nil: where the highest score is
	Scores    [][]float32 // for each example a score for each class; nil: none
	Target    []float64   // of answers that are numbers: what is true; NaN: not known
	Value     []float64   // and the answers

	// Several labels: names of classes, of all those in Classes where that is given; nil: not known, or from Scores.
	TrueLabels, PredictedLabels [][]string
	// Texts. One that is not known cannot be told from an empty one; leave TrueTexts nil where none is known.
	TrueTexts, PredictedTexts []string
	// Masks: pictures whose pixels are places in Classes, 255 none; nil: none.
	TrueMasks, PredictedMasks []*image.Paletted

	Media map[string][][]byte // what a person is shown, by name: bytes of pictures or sounds; nil: none of an example
	Own   map[string][]any    // columns of one's own: texts, numbers, booleans
}

// Predictions hands over a model's answers. It returns once the files are written; the recorder makes them safe and
// sends them, and the service computes figures from them and raises alarms.
func (r *Run) Predictions(p Predictions) error {
	err := r.predictions(p)
	if err != nil {
		r.fail(err)
	}
	return r.forgive(err)
}

func (r *Run) predictions(p Predictions) error {
	task := p.task()
	classes, err := json.Marshal(p.Classes)
	if err == nil {
		err = p.check()
	}
	if err != nil {
		return fmt.Errorf("predictions on %s: %w", p.Split, err)
	}
	return r.handOver("sheet", func() {
		r.line = strconv.AppendInt(append(r.line, `,"step":`...), p.Step, 10)
		if !math.IsNaN(p.Epoch) {
			r.line = appendFloat(append(r.line, `,"epoch":`...), p.Epoch)
		}
		r.line = appendText(append(r.line, `,"split":`...), p.Split)
		r.line = appendText(append(r.line, `,"task":`...), task)
		if p.Classes != nil {
			r.line = append(append(r.line, `,"classes":`...), classes...)
		}
	}, func(folder string) (string, any, error) {
		files, err := p.write(folder)
		return "files", files, err
	})
}

// task is what the answers are.
func (p *Predictions) task() string {
	switch {
	case p.TrueMasks != nil || p.PredictedMasks != nil:
		return "masks"
	case p.TrueLabels != nil || p.PredictedLabels != nil:
		return "labels"
	case p.TrueTexts != nil || p.PredictedTexts != nil:
		return "text"
	case p.Classes != nil:
		return "classes"
	}
	return "number"
}

// check says what does not fit together.
func (p *Predictions) check() error {
	sizes := map[string]int{"Groups": len(p.Groups), "Texts": len(p.Texts), "True": len(p.True),
		"Predicted": len(p.Predicted), "Scores": len(p.Scores), "Target": len(p.Target), "Value": len(p.Value),
		"TrueLabels": len(p.TrueLabels), "PredictedLabels": len(p.PredictedLabels), "TrueTexts": len(p.TrueTexts),
		"PredictedTexts": len(p.PredictedTexts), "TrueMasks": len(p.TrueMasks),
		"PredictedMasks": len(p.PredictedMasks)}
	for name, values := range p.Media {
		sizes[name] = len(values)
	}
	for name, values := range p.Own {
		sizes[name] = len(values)
	}
	for name, n := range sizes {
		if n != 0 && n != len(p.Keys) {
			return fmt.Errorf("%d values of %s for %d examples", n, name, len(p.Keys))
		}
	}
	for i, row := range p.Scores {
		if len(row) != len(p.Classes) {
			return fmt.Errorf("%d scores of example %d for %d classes", len(row), i, len(p.Classes))
		}
	}
	return nil
}

// exampleLine is a line of examples.jsonl.
type exampleLine struct {
	Key       string                    `json:"key"`
	True      any                       `json:"true,omitempty"`
	Predicted any                       `json:"predicted,omitempty"`
	Group     string                    `json:"group,omitempty"`
	Text      string                    `json:"text,omitempty"`
	Media     map[string]map[string]int `json:"media,omitempty"`
	Own       map[string]any            `json:"own,omitempty"`
}

// write writes the files of a sheet and returns their names.
func (p *Predictions) write(folder string) (files []string, err error) {
	files = []string{"examples.jsonl"}
	if p.Scores != nil {
		files = append(files, "scores.npy")
		data := make([]byte, 0, 4*len(p.Scores)*len(p.Classes))
		for _, row := range p.Scores {
			for _, v := range row {
				data = binary.LittleEndian.AppendUint32(data, math.Float32bits(v))
			}
		}
		if err := writeArray(filepath.Join(folder, "scores.npy"), "<f4", data, len(p.Scores),
			len(p.Classes)); err != nil {
			return nil, err
		}
	}
	if p.Predicted != nil || p.Value != nil {
		files = append(files, "predicted.npy")
		data := make([]byte, 0, 8*len(p.Keys))
		for _, v := range p.Predicted {
			data = binary.LittleEndian.AppendUint64(data, math.Float64bits(float64(v)))
		}
		if p.Classes == nil {
			for _, v := range p.Value {
				data = binary.LittleEndian.AppendUint64(data, math.Float64bits(v))
			}
		}
		if err := writeArray(filepath.Join(folder, "predicted.npy"), "<f8", data, len(p.Keys)); err != nil {
			return nil, err
		}
	}
	var places []map[string]map[string]int
	media, err := p.media()
	if err != nil {
		return nil, err
	}
	if len(media) > 0 {
		files = append(files, "media")
		if places, err = p.writeMedia(filepath.Join(folder, "media"), media); err != nil {
			return nil, err
		}
	}
	return files, inFile(filepath.Join(folder, "examples.jsonl"), func(w *bufio.Writer) error {
		lines := json.NewEncoder(w)
		lines.SetEscapeHTML(false)
		for i, key := range p.Keys {
			l := exampleLine{Key: key}
			switch {
			case p.TrueLabels != nil && p.TrueLabels[i] != nil:
				l.True = p.TrueLabels[i]
			case p.TrueTexts != nil:
				l.True = p.TrueTexts[i]
			case p.Classes != nil && p.True != nil && p.True[i] >= 0:
				l.True = p.True[i]
			case p.Classes == nil && p.Target != nil && !math.IsNaN(p.Target[i]) && !math.IsInf(p.Target[i], 0):
				l.True = p.Target[i]
			}
			switch {
			case p.PredictedLabels != nil && p.PredictedLabels[i] != nil:
				l.Predicted = p.PredictedLabels[i]
			case p.PredictedTexts != nil:
				l.Predicted = p.PredictedTexts[i]
			}
			if p.Groups != nil {
				l.Group = p.Groups[i]
			}
			if p.Texts != nil {
				l.Text = p.Texts[i]
			}
			if places != nil {
				l.Media = places[i]
			}
			for name, values := range p.Own {
				if l.Own == nil {
					l.Own = map[string]any{}
				}
				l.Own[name] = values[i]
			}
			if err := lines.Encode(l); err != nil {
				return err
			}
		}
		return nil
	})
}

// media are what a person is shown, with the masks, as PNG.
func (p *Predictions) media() (map[string][][]byte, error) {
	out := maps.Clone(p.Media)
	for name, masks := range map[string][]*image.Paletted{"true": p.TrueMasks, "predicted": p.PredictedMasks} {
		if masks == nil {
			continue
		}
		list := make([][]byte, len(masks))
		for i, m := range masks {
			if m == nil {
				continue
			}
			whole := *m // a palette of 256, so that each pixel keeps its place
			for len(whole.Palette) < 256 {
				whole.Palette = append(whole.Palette[:len(whole.Palette):len(whole.Palette)], color.Gray{Y: 255})
			}
			var content bytes.Buffer
			if err := png.Encode(&content, &whole); err != nil {
				return nil, err
			}
			list[i] = content.Bytes()
		}
		if out == nil {
			out = map[string][][]byte{}
		}
		out[name] = list
	}
	return out, nil
}

// writeMedia writes all media behind each other and returns where those of each example lie.
func (p *Predictions) writeMedia(path string, media map[string][][]byte) ([]map[string]map[string]int, error) {
	places, at := make([]map[string]map[string]int, len(p.Keys)), 0
	err := inFile(path, func(w *bufio.Writer) error {
		for _, name := range slices.Sorted(maps.Keys(media)) { // so that it is the same each time
			for i, content := range media[name] {
				if len(content) == 0 {
					continue
				}
				if places[i] == nil {
					places[i] = map[string]map[string]int{}
				}
				places[i][name] = map[string]int{"at": at, "size": len(content)}
				at += len(content)
				if _, err := w.Write(content); err != nil {
					return err
				}
			}
		}
		return nil
	})
	return places, err
}

// writeArray writes an array as NPY version 1.
func writeArray(path, kind string, data []byte, shape ...int) error {
	sizes := ""
	for _, n := range shape {
		sizes += strconv.Itoa(n) + ", "
	}
	head := fmt.Sprintf("{'descr': '%s', 'fortran_order': False, 'shape': (%s), }", kind, sizes[:len(sizes)-1])
	for (10+len(head)+1)%64 != 0 {
		head += " "
	}
	head += "\n"
	return inFile(path, func(w *bufio.Writer) error {
		w.WriteString("\x93NUMPY\x01\x00")
		w.Write(binary.LittleEndian.AppendUint16(nil, uint16(len(head))))
		w.WriteString(head)
		_, err := w.Write(data)
		return err
	})
}

// inFile writes a file.
func inFile(path string, write func(w *bufio.Writer) error) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	w := bufio.NewWriterSize(f, 1<<20)
	if err = write(w); err == nil {
		err = w.Flush()
	}
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}
