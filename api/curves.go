package api

import "encoding/json"

// CurvesInput reads curves of a run.
type CurvesInput struct {
	RunInput
	Names  []string `query:"names" maxItems:"5000" doc:"Curves wanted, separated by commas; absent: all"`
	By     string   `query:"by" enum:"step,epoch,time" default:"step" doc:"The axis of from, to, pixels and smoothing; time is in milliseconds since 1970 UTC"`
	From   float64  `query:"from" doc:"Where the window begins on the axis"`
	To     float64  `query:"to" doc:"Where it ends, included; 0: the end"`
	Pixels int      `query:"pixels" minimum:"0" maximum:"20000" doc:"Fold the readings of the window into at most so many pixels; 0: every reading"`
	Width  float64  `query:"width" minimum:"0" doc:"Fold by pixels of this width, as an earlier answer said; pixels is then not looked at"`
	Smooth float64  `query:"smooth" minimum:"0" doc:"Half-life of an exponential smoothing, in units of the axis; 0: none"`
	Leg    int      `query:"leg" minimum:"0" doc:"Only what this leg recorded, with what later legs replaced; 0: the run as it is"`
	Median float64  `query:"median" minimum:"0" doc:"Stretch of the axis for a moving median; 0: none"`
}

// Curves are the curves of a run in a window of an axis.
type Curves struct {
	Legs   int     `json:"legs" doc:"Legs of the run; a new one may have replaced what was read before"`
	Width  float64 `json:"width" doc:"Of a pixel, on the axis: pixel i covers [i width, (i+1) width). 0: every reading is there"`
	Axes   []Axis  `json:"axes" doc:"Where the values stand; curves with the same points share one"`
	Curves []Curve `json:"curves" doc:"By name"`
}

// Curve is a curve's values, one for each point of its axis: the reading there, which is the last of its pixel. What
// the other readings of the pixel were is in the other lists, which are absent where each pixel has one reading.
type Curve struct {
	Name     string `json:"name"`
	Axis     int    `json:"axis" doc:"Index into axes"`
	Value    Floats `json:"value"`
	Smooth   Floats `json:"smooth,omitempty" doc:"The smoothed value at that reading, from all readings before it"`
	Count    Ints   `json:"count,omitempty" doc:"Readings in the pixel"`
	NaN      Ints   `json:"nan,omitempty" doc:"Readings in the pixel that are NaN; absent where none is"`
	Infinite Ints   `json:"infinite,omitempty" doc:"Readings in the pixel that are infinite; absent where none is"`
	Min      Floats `json:"min,omitempty" doc:"Lowest finite reading, NaN where none is finite"`
	Max      Floats `json:"max,omitempty" doc:"Highest finite reading"`
	Mean     Floats `json:"mean,omitempty" doc:"Mean of the finite readings, to 24 bits"`
}

// EventsInput subscribes to the live stream.
type EventsInput struct {
	Project string `query:"project" maxLength:"40" doc:"Only this project"`
	Run     int    `query:"run" minimum:"0" doc:"Only this run of it"`
	Last    string `header:"Last-Event-ID" maxLength:"60" doc:"Replay what came after"`
}

// Event is a change of state, or the news that a run has new readings (kind "readings", which is not replayed: who
// reconnects reads the curves from where it was).
type Event struct {
	ID      int64           `json:"id,omitempty" doc:"Its number"`
	Kind    string          `json:"kind" enum:"service,session,person,team,role,project,search,run,leg,checkpoint,readings,summary,output" doc:"Of what kind of thing"`
	Verb    string          `json:"verb,omitempty" doc:"What was done, such as started, finished, lost"`
	Subject string          `json:"subject,omitempty" doc:"To what: an address or a name"`
	Project string          `json:"project,omitempty"`
	Run     int             `json:"run,omitempty"`
	Data    json.RawMessage `json:"data,omitempty" doc:"What more there is to know, by name"`
	Says    string          `json:"says,omitempty" doc:"Verb and data as a person reads them"`
	Who     string          `json:"who,omitempty"`
	From    string          `json:"from,omitempty" doc:"Address from which it was done; only in the audit"`
	At      string          `json:"at,omitempty"`
}

// The operations on curves and the live stream. Curves come as JSON or, asked for by Accept, as CBOR with typed arrays
// (docs/curves.md).
var (
	GetCurves = declare[CurvesInput, Curves](Spec{ID: "curves", Method: "GET",
		Path: "/projects/{project}/runs/{number}/curves", Summary: "Read curves", Access: Reader, Binary: true})
	GetEvents = declare[EventsInput, None](Spec{ID: "events", Method: "GET", Path: "/events",
		Summary: "Live stream (server-sent events)", Access: SignedIn, Status: 200,
		Media: []string{"text/event-stream"}})
)
