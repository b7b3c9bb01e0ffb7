package api

import (
	"time"

	"kembrel/core/assess"
	"kembrel/core/tensor"
)

// Description describes an edition for those who use it: what people wrote of the model, and what is known of the
// edition.
type Description struct {
	Address    string         `json:"address" example:"vessel-classifier#3"`
	Model      string         `json:"model"`
	Number     int            `json:"number"`
	Title      string         `json:"title"`
	Purpose    string         `json:"purpose,omitempty" doc:"As Markdown, like limits and contact"`
	Limits     string         `json:"limits,omitempty"`
	Contact    string         `json:"contact,omitempty"`
	Who        string         `json:"who"`
	Entered    time.Time      `json:"entered"`
	Why        string         `json:"why,omitempty"`
	Standings  []string       `json:"standings"`
	Warnings   []string       `json:"warnings,omitempty"`
	Load       []LoadLines    `json:"load" doc:"How it is loaded"`
	Files      []File         `json:"files"`
	Figures    []FigureOf     `json:"figures"`
	Seen       []string       `json:"seen,omitempty" doc:"Data of which examples were in its training"`
	Classes    []ClassesOn    `json:"classes,omitempty" doc:"Of its evaluations, as long as its run is there"`
	Checks     []EditionCheck `json:"checks"`
	SignOffs   []SignedFor    `json:"sign_offs,omitempty" doc:"Who had signed off for each standing that it has or had"`
	Data       []FactOf       `json:"data" doc:"What was used for what"`
	Made       []Fact         `json:"made" doc:"How it was made"`
	Parameters int64          `json:"parameters" doc:"Numbers in its weights; 0: they are in no format that is read"`
	Arrays     int64          `json:"arrays"`
	Tensors    []tensor.Info  `json:"tensors,omitempty" doc:"At most 200"`
}

// LoadLines are lines of a program that loads an edition.
type LoadLines struct {
	In       string `json:"in" example:"In Python"`
	Language string `json:"language" example:"python"`
	Lines    string `json:"lines"`
}

// Fact is something known by a name.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// FactOf is a use and what is used for it.
type FactOf struct {
	Name string `json:"name" example:"train"`
	Of   string `json:"of" example:"hydrophone#2:train"`
}

// FigureOf is a figure of some data.
type FigureOf struct {
	Name  string `json:"name"`
	Of    string `json:"of" doc:"The run's own readings, or the data it was evaluated on"`
	Value Float  `json:"value"`
}

// ClassesOn are figures by class of an evaluation.
type ClassesOn struct {
	On      string         `json:"on"`
	Classes []assess.Class `json:"classes"`
}

// DescriptionInput asks for a description as a file.
type DescriptionInput struct {
	EditionInput
	Format string `query:"format" enum:"markdown,html,cyclonedx" default:"markdown"`
}
