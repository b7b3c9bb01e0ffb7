package main

import (
	"encoding/binary"
	"encoding/csv"
	"fmt"
	"iter"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"

	"kembrel.internal/kembrel"
)

// The test clips, and the voyage from which they are made; nobody trains on them, however the others are split.
const (
	testClips = 480
	testFrom  = 2_000_000
)

// datasetClips is how many clips there are to train on in the harbour's dataset.
const datasetClips = 1920

// split divides clips into those to train on and those to validate on. By voyage no voyage is on both sides; by clip,
// which many do without thinking, nearly every voyage is, and the validation figure looks better than the model is.
func split(clips int, by string) (train, val []clip) {
	train, val = makeClips(clips, 0, dataSeed), makeClips(validationClips, validationFrom, dataSeed)
	if by != "clip" {
		return train, val
	}
	all := append(train, val...)
	order := rand.New(rand.NewPCG(dataSeed, 7)).Perm(len(all))
	train, val = nil, nil
	for i, at := range order {
		if i < validationClips {
			val = append(val, all[at])
		} else {
			train = append(train, all[at])
		}
	}
	return train, val
}

// splitNamed are the clips of a split that is to be evaluated; "" is the validation split.
func splitNamed(name, by string) (clips []clip, of string, err error) {
	train, val := split(datasetClips, by)
	switch name {
	case "", "val":
		return val, "val", nil
	case "train":
		return train, name, nil
	case "test":
		return makeClips(testClips, testFrom, dataSeed), name, nil
	}
	return nil, "", fmt.Errorf("the harbour has no split %q", name)
}

// key is the path of a clip among the harbour's files.
func (c *clip) key() string {
	return fmt.Sprintf("voyage%07d/%s-%d.npy", c.voyage, strings.ReplaceAll(classes[c.class], " ", "-"), c.number)
}

// handOver tells the recorder which clips are used, one by one.
func handOver(run *kembrel.Run, use string, clips []clip) {
	run.DataItems(use, "hydrophone", keys(clips))
}

func keys(clips []clip) iter.Seq2[string, string] {
	return func(yield func(key, digest string) bool) {
		for i := range clips {
			if !yield(clips[i].key(), "") {
				return
			}
		}
	}
}

// writeData writes the harbour's clips as files, and two tables that split them: by-voyage.csv and by-clip.csv.
func writeData(folder string) error {
	test := makeClips(testClips, testFrom, dataSeed)
	for _, by := range []string{"voyage", "clip"} {
		train, val := split(datasetClips, by)
		out, err := os.Create(filepath.Join(folder, "by-"+by+".csv"))
		if err != nil {
			return err
		}
		w := csv.NewWriter(out)
		w.Write([]string{"file", "split", "voyage", "label", "loudest"})
		for name, clips := range map[string][]clip{"train": train, "val": val, "test": test} {
			for i := range clips {
				c := &clips[i]
				if by == "voyage" {
					if err := c.write(filepath.Join(folder, filepath.FromSlash(c.key()))); err != nil {
						return err
					}
				}
				w.Write([]string{c.key(), name, fmt.Sprintf("voyage%07d", c.voyage), classes[c.class],
					fmt.Sprintf("%.1f", c.loudest())})
			}
		}
		w.Flush()
		if err := w.Error(); err != nil {
			return err
		}
		if err := out.Close(); err != nil {
			return err
		}
	}
	return nil
}

// loudest is the highest level of a clip, dB.
func (c *clip) loudest() float64 {
	most := math.Inf(-1)
	for _, v := range c.levels {
		most = max(most, v)
	}
	return most
}

// write writes a clip as NPY (version 1.0): float32, bands x frames.
func (c *clip) write(path string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	return os.WriteFile(path, c.npy(), 0o644)
}

func (c *clip) npy() []byte {
	head := fmt.Sprintf("{'descr': '<f4', 'fortran_order': False, 'shape': (%d, %d), }", bands, frames)
	for (10+len(head)+1)%64 != 0 {
		head += " "
	}
	out := append([]byte("\x93NUMPY\x01\x00"), byte(len(head)+1), byte((len(head)+1)>>8))
	out = append(append(out, head...), '\n')
	for _, v := range c.levels {
		out = binary.LittleEndian.AppendUint32(out, math.Float32bits(float32(v)))
	}
	return out
}
