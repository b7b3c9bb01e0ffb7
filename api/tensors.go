package api

import "kembrel/core/tensor"

// TensorsInput asks for the tensors of a checkpoint.
type TensorsInput struct {
	CheckpointInput
	Part string `query:"part" default:"weights" maxLength:"60" doc:"weights, or architecture where that lists tensors"`
}

// Tensors are those of a part of a checkpoint, in the order of the files.
type Tensors struct {
	Address    string   `json:"address"`
	Says       string   `json:"says" doc:"What they come to, in a sentence"`
	Ready      bool     `json:"ready" doc:"Statistics are there; they are computed a moment after the checkpoint is committed"`
	Problem    string   `json:"problem,omitempty" doc:"Why a file could not be read"`
	Parameters int64    `json:"parameters" doc:"Elements of all"`
	Absent     bool     `json:"absent,omitempty" doc:"The checkpoint has no weights"`
	Tensors    []Tensor `json:"tensors"`
}

// Tensor is one of them. Figures are of its finite elements.
type Tensor struct {
	tensor.Info
	Parameters int64   `json:"parameters"`
	NaN        int64   `json:"nan,omitempty"`
	Infinite   int64   `json:"infinite,omitempty"`
	Zero       int64   `json:"zero,omitempty"`
	Mean       Float   `json:"mean"`
	Deviation  Float   `json:"deviation"`
	Min        Float   `json:"min"`
	Max        Float   `json:"max"`
	Histogram  []int64 `json:"histogram,omitempty" doc:"64 equal bins from min to max"`
	Quantiles  []Float `json:"quantiles,omitempty" doc:"With the histogram: the values below which 0, 5, 25, 50, 75, 95 and 100 % of the finite elements lie, interpolated within its bins"`
	Odd        string  `json:"odd,omitempty" doc:"What is wrong with it: dead, exploding, not numbers"`
}

// WeightsInput asks how a run's weights are distributed over its checkpoints.
type WeightsInput struct {
	RunInput
	Name string `query:"name" maxLength:"1000" doc:"With the histograms of this tensor"`
}

// Weights are the tensors of a run's checkpoints, the earliest first.
type Weights struct {
	Says        string           `json:"says" doc:"Dead and exploding layers, in a sentence"`
	Checkpoints []WeightsAtPoint `json:"checkpoints"`
}

// WeightsAtPoint are those of one checkpoint; histograms are there for the tensor asked for only.
type WeightsAtPoint struct {
	Address string   `json:"address"`
	Step    int64    `json:"step"`
	Epoch   Float    `json:"epoch"`
	Tensors []Tensor `json:"tensors"`
}

// MatchSide is one side of a match: a checkpoint, or a list of tensors.
type MatchSide struct {
	Address string        `json:"address,omitempty" maxLength:"100" example:"vessels/3@best"`
	Part    string        `json:"part,omitempty" maxLength:"60" doc:"weights (if absent), or architecture where that lists tensors"`
	Tensors []tensor.Info `json:"tensors,omitempty" maxItems:"100000"`
}

// MatchInput asks whether tensors that are given fit those that are wanted.
type MatchInput struct {
	Body struct {
		Given MatchSide `json:"given"`
		Want  MatchSide `json:"want"`
	}
}

// Match is the answer.
type Match struct {
	Says string `json:"says" doc:"The outcome in a sentence"`
	Fits bool   `json:"fits"`
	tensor.Match
}

// DifferenceInput compares a checkpoint's weights with those of another.
type DifferenceInput struct {
	CheckpointInput
	From string `query:"from" required:"true" maxLength:"100" doc:"Address of the checkpoint to compare with"`
}

// Difference says how weights changed from one checkpoint to another.
type Difference struct {
	Says    string             `json:"says"`
	From    string             `json:"from"`
	To      string             `json:"to"`
	Match   Match              `json:"match" doc:"Tensors that only one of them has, or in another shape, are not compared"`
	Tensors []TensorDifference `json:"tensors"`
}

// TensorDifference says how one tensor changed.
type TensorDifference struct {
	Name     string  `json:"name"`
	Shape    []int64 `json:"shape"`
	Equal    bool    `json:"equal" doc:"Bit for bit, as frozen layers are"`
	Distance Float   `json:"distance" doc:"Euclidean"`
	Relative Float   `json:"relative" doc:"Distance to the norm before"`
	Cosine   Float   `json:"cosine"`
	Largest  Float   `json:"largest" doc:"Largest change of one element"`
	At       int64   `json:"at" doc:"Which element that is, row-major from 0"`
	Odd      int64   `json:"odd,omitempty" doc:"Elements not finite in one of them, left out"`
}

// The operations on tensors.
var (
	GetTensors = declare[TensorsInput, Tensors](Spec{ID: "tensors", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/checkpoints/{at}/tensors",
		Summary: "List the tensors of a checkpoint with statistics", Access: Reader})
	GetWeights = declare[WeightsInput, Weights](Spec{ID: "weights", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/weights",
		Summary: "How a run's weights are distributed over its checkpoints", Access: Reader})
	MatchTensors = declare[MatchInput, Match](Spec{ID: "match", Method: "POST", Path: "/match",
		Summary: "Say whether tensors fit before they are loaded", Access: SignedIn, MaxBody: 32 << 20})
	GetDifference = declare[DifferenceInput, Difference](Spec{ID: "difference", Method: "GET",
		Path:    "/projects/{project}/runs/{number}/checkpoints/{at}/difference",
		Summary: "Compare the weights of two checkpoints", Access: Reader, Long: true})
)
