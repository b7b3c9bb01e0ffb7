package main

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"os"
	"path/filepath"
	"strconv"
)

// report writes what a person wants to read of a training into a folder: a table of the epochs, a text of the classes,
// and pictures of a clip of each class with its sound.
type report struct {
	folder string
	rows   [][]string
}

func (r *report) epoch(values ...float64) {
	row := make([]string, len(values))
	for i, v := range values {
		row[i] = strconv.FormatFloat(v, 'g', 5, 64)
	}
	r.rows = append(r.rows, row)
}

func (r *report) write(net *network, clips []clip) error {
	if r.folder == "" {
		return nil
	}
	if err := os.MkdirAll(filepath.Join(r.folder, "clips"), 0o755); err != nil {
		return err
	}
	var table, text bytes.Buffer
	w := csv.NewWriter(&table)
	w.Write([]string{"epoch", "loss.train", "loss.val", "accuracy.train", "accuracy.val"})
	w.WriteAll(r.rows)
	right, all := make([]int, len(classes)), make([]int, len(classes))
	first := map[int]*clip{}
	for i := range clips {
		c := &clips[i]
		if first[c.class] == nil {
			first[c.class] = c
		}
		all[c.class]++
		if best(net.forward(c.levels[:], nil)) == c.class {
			right[c.class]++
		}
	}
	fmt.Fprintf(&text, "Vessels by their sound, %d clips that nobody trained on\n\n", len(clips))
	files := map[string][]byte{"epochs.csv": table.Bytes()}
	for i, name := range classes {
		fmt.Fprintf(&text, "%-14s %4d of %4d right\n", name, right[i], all[i])
		if c := first[i]; c != nil {
			files[filepath.Join("clips", name+".png")] = c.picture()
			files[filepath.Join("clips", name+".wav")] = c.sound()
		}
	}
	files["report.txt"] = text.Bytes()
	for name, content := range files {
		if err := os.WriteFile(filepath.Join(r.folder, name), content, 0o644); err != nil {
			return err
		}
	}
	return nil
}

func best(scores []float64) (at int) {
	for i, v := range scores {
		if v > scores[at] {
			at = i
		}
	}
	return at
}

// picture is a clip's levels over its bands and frames, the lowest band at the foot.
func (c *clip) picture() []byte {
	const side = 10
	low, high := c.levels[0], c.levels[0]
	for _, v := range c.levels {
		low, high = min(low, v), max(high, v)
	}
	p := image.NewGray(image.Rect(0, 0, frames*side, bands*side))
	for y := range bands * side {
		for x := range frames * side {
			v := c.levels[(bands-1-y/side)*frames+x/side]
			p.SetGray(x, y, color.Gray{Y: uint8(255 * (v - low) / max(high-low, 1e-9))})
		}
	}
	var out bytes.Buffer
	if err := png.Encode(&out, p); err != nil {
		return nil
	}
	return out.Bytes()
}
