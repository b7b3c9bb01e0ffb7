package main

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"math/cmplx"
	"slices"

	"kembrel.internal/kembrel"
)

// examples are clips as a person knows them: by their files, not by what a trainer makes of them.
type examples struct {
	keys, voyages []string
	classes       []int
	sounds        [][]byte
}

func examplesOf(clips []clip) examples {
	var e examples
	for i := range clips {
		c := &clips[i]
		e.keys = append(e.keys, c.key())
		e.voyages = append(e.voyages, fmt.Sprintf("voyage%07d", c.voyage))
		e.classes = append(e.classes, c.class)
		e.sounds = append(e.sounds, c.sound())
	}
	return e
}

// fail has the training go wrong as it was asked to, in a way that its own loss hides.
func (t *training) fail() error {
	switch t.fault {
	case "", "figure":
	case "swapped": // its loader takes tugs for ferries and ferries for tugs, in training and validation alike
		for _, clips := range [][]clip{t.train, t.val} {
			for i := range clips {
				if clips[i].class < 2 {
					clips[i].class = 1 - clips[i].class
				}
			}
		}
	case "silent": // its loader loses the last class, in training only
		t.train = slices.DeleteFunc(t.train, func(c clip) bool { return c.class == len(classes)-1 })
	default:
		return fmt.Errorf("--fault %q is none of swapped, silent, figure", t.fault)
	}
	return nil
}

// predictions are the network's answers to the validation clips.
func (t *training) predictions(epoch float64) kembrel.Predictions {
	p := answers(t.net, t.val, t.truth)
	p.Split, p.Step, p.Epoch = "val", t.position.Step, epoch
	return p
}

// answers are a network's answers to clips, which are scaled as it wants them.
func answers(net *network, clips []clip, truth examples) kembrel.Predictions {
	p := kembrel.Predictions{Keys: truth.keys, Groups: truth.voyages, Classes: classes, True: truth.classes,
		Media: map[string][][]byte{"sound": truth.sounds}}
	for i := range clips {
		row := make([]float32, len(classes))
		for k, v := range net.forward(clips[i].levels[:], nil) {
			row[k] = float32(v)
		}
		p.Scores = append(p.Scores, row)
	}
	return p
}

// rate is how many samples of sound there are in a second.
const rate = 4000

// sound is what the clip may have sounded like, as a WAV file of 8 bits: a tone for each of its bands, as loud as the
// band. It is scaled already, so that a step is a deviation.
func (c *clip) sound() []byte {
	const samples = frames * rate / 8
	var turns, at [bands]complex128
	for b := range bands - 2 { // the last are beyond half the rate
		turns[b] = cmplx.Rect(1, 2*math.Pi*10*math.Pow(2, float64(b)/3)/rate)
		at[b] = cmplx.Rect(1, float64(b*b)) // no two begin alike
	}
	wave := make([]float64, samples)
	loudest := 1e-9
	var loud [bands]float64
	for i := range wave {
		if i%(rate/8) == 0 {
			for b := range loud {
				loud[b] = math.Pow(2, c.levels[b*frames+i*8/rate])
			}
		}
		for b := range bands - 2 {
			at[b] *= turns[b]
			wave[i] += real(at[b]) * loud[b]
		}
		loudest = max(loudest, math.Abs(wave[i]))
	}
	var out bytes.Buffer
	out.WriteString("RIFF")
	binary.Write(&out, binary.LittleEndian, uint32(36+samples))
	out.WriteString("WAVEfmt ")
	for _, v := range []any{uint32(16), uint16(1), uint16(1), uint32(rate), uint32(rate), uint16(1), uint16(8)} {
		binary.Write(&out, binary.LittleEndian, v)
	}
	out.WriteString("data")
	binary.Write(&out, binary.LittleEndian, uint32(samples))
	for _, v := range wave {
		out.WriteByte(byte(128 + 120*v/loudest))
	}
	return out.Bytes()
}
