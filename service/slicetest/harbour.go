package slicetest

import (
	"context"
	"log/slog"

	"kembrel/api"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

type (
	actStorage     = act.Storage
	findingStorage = finding.Storage
)

// Harbour holds the project vessels, which is open, and quays, which is closed; nothing else is there.
type Harbour struct {
	actStorage
	findingStorage

	Projects map[string]store.Project
	Runs     map[int]store.Run         // of vessels, by number; the id of each is 100 and its number
	Sums     map[int64][]store.Summary // by run
	Legs     map[int64][]store.Leg     // by run
	Events   []store.Event             // those written
}

// New makes one with so many runs.
func New(runs int) *Harbour {
	loss := verdict.Objective{Curve: "loss.val", Direction: verdict.Lower}
	h := &Harbour{Projects: map[string]store.Project{
		"vessels": {ID: 1, Key: "vessels", Open: true, Objective: loss},
		"quays":   {ID: 2, Key: "quays", Objective: loss}},
		Runs: map[int]store.Run{}, Sums: map[int64][]store.Summary{}, Legs: map[int64][]store.Leg{}}
	for n := 1; n <= runs; n++ {
		h.Runs[n] = store.Run{ID: int64(100 + n), Number: n, State: "finished", Who: "Ines"}
	}
	return h
}

// Finder is the base of slices, on this harbour.
func (h *Harbour) Finder() *finding.Finder {
	return finding.New(act.New(h, slog.New(slog.DiscardHandler)), h)
}

// Ctx is the context of a request of somebody with a role on vessels.
func Ctx(ctx context.Context, role api.RoleName) (context.Context, act.Who) {
	who := act.Who{ID: 7, Name: "Teo"}.With([]store.RoleOn{{Project: "vessels", Role: string(role)}})
	return act.As(ctx, who, "192.0.2.1"), who
}

// In names vessels.
var In = api.ProjectInput{Project: "vessels"}

// ProjectPlace finds a project.
func (h *Harbour) ProjectPlace(_ context.Context, key string) (store.Place, error) {
	p, ok := h.Projects[key]
	if !ok {
		return store.Place{}, store.ErrNone
	}
	return store.Place{ID: p.ID, Open: p.Open}, nil
}

// ProjectByKey finds a project.
func (h *Harbour) ProjectByKey(_ context.Context, key string) (store.Project, error) {
	p, ok := h.Projects[key]
	if !ok {
		return p, store.ErrNone
	}
	return p, nil
}

// RunID finds a run.
func (h *Harbour) RunID(_ context.Context, project string, number int) (int64, error) {
	r, ok := h.Runs[number]
	if !ok || project != "vessels" {
		return 0, store.ErrNone
	}
	return r.ID, nil
}

// RunByNumber finds a run.
func (h *Harbour) RunByNumber(_ context.Context, project int64, number int) (store.Run, error) {
	r, ok := h.Runs[number]
	if !ok || project != 1 {
		return r, store.ErrNone
	}
	return r, nil
}

// RunsByNumber finds runs.
func (h *Harbour) RunsByNumber(_ context.Context, _ int64, numbers []int64) (out []store.Run, err error) {
	for _, n := range numbers {
		if r, ok := h.Runs[int(n)]; ok {
			out = append(out, r)
		}
	}
	return out, nil
}

// Summaries are those of some runs, of one curve or of all ("").
func (h *Harbour) Summaries(_ context.Context, runs []int64, name string) (out []store.Summary, err error) {
	for _, run := range runs {
		for _, s := range h.Sums[run] {
			if name == "" || s.Name == name {
				s.Run = run
				out = append(out, s)
			}
		}
	}
	return out, nil
}

// ListLegs are a run's.
func (h *Harbour) ListLegs(_ context.Context, run int64) ([]store.Leg, error) {
	return h.Legs[run], nil
}

// AddEvent keeps what was written.
func (h *Harbour) AddEvent(_ context.Context, e store.Event) error {
	h.Events = append(h.Events, e)
	return nil
}

// RunOf is the project and address of a run.
func (h *Harbour) RunOf(_ context.Context, run int64) (int64, string, error) {
	return 1, act.RunAddress("vessels", int(run-100)), nil
}

// Verbs are those of the events.
func (h *Harbour) Verbs() (out []string) {
	for _, e := range h.Events {
		out = append(out, e.Kind+" "+e.Subject+" "+e.Verb)
	}
	return out
}

// Tell takes news for other replicas, of which there are none.
func (h *Harbour) Tell(context.Context, string) error { return nil }
