package catalogue

import (
	"math"

	"kembrel/core/compare"
)

// Entering says which checkpoint of a run enters a model by itself, and how much better it must be.
type Entering struct {
	Where      string   `json:"where,omitempty" maxLength:"3000" example:"search == 3" doc:"Only runs that fulfil this (docs/filter.md); empty: all that end by themselves or by a stop rule"`
	Checkpoint string   `json:"checkpoint" enum:"best,last"`
	Margin     *float64 `json:"margin,omitempty" minimum:"0" doc:"By how much its figure must be better than that of the edition in use; absent: by more than the noise between seeds"`
	Ask        string   `json:"ask,omitempty" maxLength:"40" example:"in-use" doc:"Standing that it is asked for"`
	Each       bool     `json:"each,omitempty" doc:"Each run that is better than the edition in use enters; otherwise it must be better than all that were entered since, too"`
}

// Fate is what a rule makes of a run.
type Fate string

// The fates.
const (
	Enters         Fate = "enters"
	NotBetter      Fate = "not-better"      // than the edition in use, or not by the margin
	WithinNoise    Fate = "within-noise"    // one more seed of the setting in use may well fall there
	NoiseUnknown   Fate = "noise-unknown"   // neither setting was run with several seeds
	AnotherBetter  Fate = "another-better"  // an edition that was entered since is as good or better
	NoFigure       Fate = "no-figure"       // of the objective, at the checkpoint
	NoCheckpoint   Fate = "no-checkpoint"   // that is there with its bytes
	OtherData      Fate = "other-data"      // its figure is of other data than that of the edition in use
	OtherObjective Fate = "other-objective" // it is judged by another curve or direction
	InAlready      Fate = "in-already"      // the checkpoint is an edition
)

// Fates are all of them.
var Fates = []Fate{Enters, NotBetter, WithinNoise, NoiseUnknown, AnotherBetter, NoFigure, NoCheckpoint, OtherData,
	OtherObjective, InAlready}

// Contender is a figure of the objective with those of runs that differ from its run in nothing but the seed.
type Contender struct {
	Figure float64 // NaN: there is none
	Seeds  []float64
}

// Judged is what a rule makes of a figure, and why.
type Judged struct {
	Fate   Fate
	Better float64 // by how much it is better than the edition in use; NaN where none is
	Low    float64 // 95 % range of that, as the noise between seeds has it; NaN where it is not known, or not asked
	High   float64
	Seeds  int // runs that the noise was told by
}

// Judge judges the figure of a run's checkpoint against that of the edition in use (nil: none is) and those of the
// editions that were entered since. lower: the lower figure is the better one.
func (e Entering) Judge(c Contender, inUse *Contender, since []float64, lower bool) Judged {
	better := func(a, b float64) float64 {
		if lower {
			return b - a
		}
		return a - b
	}
	out := Judged{Fate: Enters, Better: math.NaN(), Low: math.NaN(), High: math.NaN()}
	if math.IsNaN(c.Figure) || math.IsInf(c.Figure, 0) {
		out.Fate = NoFigure
		return out
	}
	if inUse != nil && !math.IsNaN(inUse.Figure) {
		out.Better = better(c.Figure, inUse.Figure)
		switch {
		case !(out.Better > 0) || e.Margin != nil && !(out.Better > *e.Margin):
			out.Fate = NotBetter
		case e.Margin == nil:
			out.noise(c, *inUse, lower)
		}
	}
	if out.Fate != Enters || e.Each {
		return out
	}
	for _, f := range since {
		if !(better(c.Figure, f) > 0) {
			out.Fate = AnotherBetter
			return out
		}
	}
	return out
}

// noise asks whether one more seed of the setting in use would fall where c is; where that setting was run once alone,
// whether the edition in use is where one more seed of c's setting would be.
func (j *Judged) noise(c, inUse Contender, lower bool) {
	a, b := compare.Describe([]float64{c.Figure}), compare.Describe(append([]float64{inUse.Figure}, inUse.Seeds...))
	if len(b.Values) < 2 {
		a = compare.Describe(append([]float64{c.Figure}, c.Seeds...))
	}
	j.Seeds = max(len(a.Values), len(b.Values))
	v := compare.Between(a, b)
	if v.Method == "" {
		j.Fate = NoiseUnknown
		return
	}
	j.Low, j.High = v.Low, v.High
	if lower {
		j.Low, j.High = -v.High, -v.Low
	}
	if !(j.Low > 0) {
		j.Fate = WithinNoise
	}
}
