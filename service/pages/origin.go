package pages

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/core/hyper"
	"kembrel/service/act"
	"kembrel/service/runs"
	"kembrel/store"
)

// presentAddress is the address by which a checkpoint is found now that had another once: a later leg may have replaced
// it since, and the address means another one.
func (s *Pages) presentAddress(ctx context.Context, address string, leg int, step int64) (string, error) {
	from, err := api.ParseAddress(address)
	if err != nil || leg == 0 || from.Run == 0 {
		return address, nil
	}
	if s.Shown(ctx, address) == act.Hidden {
		return act.Hidden, nil
	}
	run, err := s.RunID(ctx, api.RunInput{ProjectInput: api.ProjectInput{Project: from.Project}, Number: from.Run})
	if api.Is(err, api.NotFound) { // it was deleted
		return address, nil
	}
	if err != nil {
		return "", err
	}
	ends, err := s.LegEnds(ctx, run)
	if err != nil {
		return "", err
	}
	if end, known := ends[leg]; known && step >= end {
		from.At = api.At{Kind: api.AtStep, Step: step, Leg: leg}
	}
	return from.String(), nil
}

// presentOrigins has a run's origin and what its legs went on from found now.
func (s *Pages) presentOrigins(ctx context.Context, r *api.RunDetail) (err error) {
	if o := r.Origin; o != nil && o.Kind == "branch" {
		if o.From, err = s.presentAddress(ctx, o.From, o.Leg, o.Step); err != nil {
			return err
		}
	}
	if r.Repeats != nil && r.Origin != nil && r.Origin.From == act.Hidden {
		r.Repeats.Says = "It was compared with a run that you do not see."
	}
	for i := range r.Legs {
		if l := r.Legs[i].Resumed; l != nil {
			if l.From, err = s.presentAddress(ctx, l.From, l.Leg, l.Step); err != nil {
				return err
			}
		}
	}
	return nil
}

// untaken finds which of the values that a run was asked to take it did not: those of its origin, or of the search that
// it is a trial of.
func (s *Pages) untaken(ctx context.Context, row store.Run, r *api.RunDetail) error {
	var asked map[string]json.RawMessage
	switch {
	case r.Origin != nil:
		asked = r.Origin.Asked
	case row.Search > 0:
		_, search, err := s.searches.Search(ctx, &api.SearchInput{ProjectInput: api.ProjectInput{Project: r.Project},
			Number: row.Search})
		if api.Is(err, api.NotFound) {
			return nil // deleted, or never there: nobody knows what it asked
		}
		if err != nil {
			return err
		}
		_, settings, err := s.searches.Settings(r.Project, search)
		if err != nil || row.Trial > len(settings) {
			return err
		}
		asked = map[string]json.RawMessage{}
		for _, v := range settings[row.Trial-1] {
			asked[v.Name] = v.Value
		}
	}
	for _, o := range hyper.Untaken(asked, r.Hyper) {
		r.Untaken = append(r.Untaken, api.Untaken(o))
	}
	return nil
}

// warnings gathers what a person should know before trusting or resuming a run.
func (s *Pages) warnings(ctx context.Context, r *api.RunDetail) ([]string, error) {
	var out []string
	if w := runs.StartWarning(r.Start, r.Origin); w != "" {
		out = append(out, w)
	}
	if len(r.Untaken) > 0 && r.Step > 0 {
		others := make([]hyper.Other, len(r.Untaken))
		for i, u := range r.Untaken {
			others[i] = hyper.Other(u)
		}
		out = append(out, hyper.SayUntaken(others))
	}
	for _, l := range r.Legs {
		if l.Resumed != nil && len(l.Resumed.Lacks) > 0 && (r.Origin == nil || l.Number > 1) {
			out = append(out, fmt.Sprintf("Leg %d went on from %s without its %s: its curves are not those of an uninterrupted run.", l.Number, l.Resumed.From, strings.Join(l.Resumed.Lacks, ", ")))
		}
	}
	if r.Checkpoints > 0 {
		page, err := s.checkpoints.ListCheckpoints(ctx, act.Who{},
			&api.RunInput{ProjectInput: api.ProjectInput{Project: r.Project}, Number: r.Number})
		if err != nil {
			return nil, err
		}
		classes := false
		for _, c := range r.Curves {
			classes = classes || checkpoint.Classifies(c.Name)
		}
		if len(page.Items) > 0 {
			out = append(out, checkpoint.Warnings(page.Items[0].Parts, r.Needs, classes)...)
		}
	}
	return out, nil
}
