package main

import (
	"math"
	"math/rand/v2"
)

// The classes of vessel that the harbour authority tells apart by their sound.
var classes = []string{"tug", "ferry", "trawler", "dredger", "cargo ship", "motor sailer"}

const (
	bands  = 24 // a third of an octave each, from 10 Hz up
	frames = 16 // an eighth of a second each
)

// sound is what a class of vessel tends to sound like.
type sound struct {
	shaft      float64 // turns per second
	blades     float64
	harmonics  float64 // level of the blade-rate lines, dB over the noise
	cavitation float64 // level of the broad hump, dB
	hump       float64 // band where it is highest
	modulation float64 // depth of the swing with the shaft, dB
	machinery  float64 // level of the engine's own line
	engine     float64 // band of that line
}

var sounds = []sound{
	{shaft: 3.1, blades: 4, harmonics: 10, cavitation: 9, hump: 14, modulation: 5, machinery: 6, engine: 9},
	{shaft: 2.4, blades: 5, harmonics: 8, cavitation: 11, hump: 16, modulation: 3.5, machinery: 4, engine: 11},
	{shaft: 2.8, blades: 3, harmonics: 9, cavitation: 8, hump: 13, modulation: 5.5, machinery: 7, engine: 8},
	{shaft: 2.6, blades: 4, harmonics: 6, cavitation: 10, hump: 11, modulation: 2.5, machinery: 9, engine: 10},
	{shaft: 1.6, blades: 5, harmonics: 11, cavitation: 10, hump: 12, modulation: 4, machinery: 5, engine: 7},
	{shaft: 3.6, blades: 3, harmonics: 5, cavitation: 6, hump: 17, modulation: 3, machinery: 6, engine: 12},
}

// clip is two seconds of listening: bands x frames levels in dB around 0, and whose voyage it is.
type clip struct {
	levels [bands * frames]float64
	class  int
	voyage int
	number int // of the voyage, from 1
}

// clipsPerVoyage is how many clips are taken while one vessel passes. They resemble each other, so a voyage must not be
// on both sides of a split.
const clipsPerVoyage = 8

// makeClips makes n clips of whole voyages, the classes in turn; the same seed gives the same clips. first is the
// number of the first voyage.
func makeClips(n, first int, seed uint64) []clip {
	out := make([]clip, 0, n)
	for v := first; len(out) < n; v++ {
		rng := rand.New(rand.NewPCG(seed, uint64(v)+1))
		class := v % len(classes)
		ship := vary(sounds[class], rng)
		sea := 1.5 + 2.5*rng.Float64() // dB of noise: the sea state
		distance := 3 * rng.NormFloat64()
		for i := range min(clipsPerVoyage, n-len(out)) {
			c := clip{class: class, voyage: v, number: i + 1}
			listen(&c, ship, sea, distance, rng)
			out = append(out, c)
		}
	}
	return out
}

// vary makes one ship of a class: ships of a class differ, and resemble ships of others.
func vary(s sound, rng *rand.Rand) sound {
	by := func(v, share float64) float64 { return v * (1 + share*rng.NormFloat64()) }
	s.shaft = by(s.shaft, 0.12)
	s.harmonics = by(s.harmonics, 0.3)
	s.cavitation = by(s.cavitation, 0.25)
	s.hump += 1.6 * rng.NormFloat64()
	s.modulation = math.Abs(by(s.modulation, 0.3))
	s.machinery = by(s.machinery, 0.35)
	s.engine += 1.3 * rng.NormFloat64()
	return s
}

func listen(c *clip, s sound, sea, distance float64, rng *rand.Rand) {
	phase := 2 * math.Pi * rng.Float64()
	for f := range frames {
		at := float64(f) / 8
		swing := s.modulation * math.Sin(2*math.Pi*s.shaft*at+phase)
		for b := range bands {
			level := distance - 0.35*float64(b) // far sounds lose their high bands
			level += s.cavitation * math.Exp(-square((float64(b)-s.hump)/4)) * (1 + 0.12*swing)
			for k := 1.0; k <= 4; k++ {
				// the band that the k-th harmonic of the blade rate falls into
				line := 3 * math.Log2(k*s.shaft*s.blades/10)
				level += s.harmonics / k * math.Exp(-square((float64(b)-line)/0.8))
			}
			level += s.machinery * math.Exp(-square((float64(b)-s.engine)/0.9))
			if b > 10 {
				level += swing * 0.6
			}
			c.levels[b*frames+f] = level + sea*rng.NormFloat64()
		}
	}
}

func square(v float64) float64 { return v * v }

// scaling brings levels to mean 0 and deviation 1 per band, as measured on the training clips.
type scaling struct {
	Mean      []float64 `json:"mean"`
	Deviation []float64 `json:"deviation"`
}

func measureScaling(clips []clip) scaling {
	s := scaling{Mean: make([]float64, bands), Deviation: make([]float64, bands)}
	count := float64(len(clips) * frames)
	for b := range bands {
		var sum, squares float64
		for i := range clips {
			for f := range frames {
				v := clips[i].levels[b*frames+f]
				sum += v
				squares += v * v
			}
		}
		s.Mean[b] = sum / count
		s.Deviation[b] = math.Sqrt(squares/count - square(sum/count))
	}
	return s
}

func (s scaling) apply(clips []clip) {
	for i := range clips {
		for b := range bands {
			for f := range frames {
				v := &clips[i].levels[b*frames+f]
				*v = (*v - s.Mean[b]) / s.Deviation[b]
			}
		}
	}
}
