package history

import (
	"context"
	"fmt"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/history"
)

// An imported run of up to this many numbers is sent as one history, which is kept whole or not at all. A larger one is
// sent as a recorder sends a run, in batches of so many points; cut off, the same import goes on where it was.
const (
	onePiece     = 1_500_000
	importPoints = 4096
)

// bringIn keeps an imported run under a key.
func bringIn(ctx context.Context, c *client.Client, r history.Imported, in *api.NewHistory) (*api.Run, error) {
	numbers := 3 * len(r.Batch.Axis)
	for i := range r.Batch.Columns {
		r.Batch.Columns[i].Curve = i // its place, as parts leave columns out
		numbers += len(r.Batch.Columns[i].Values) + len(r.Batch.Columns[i].Rows)
	}
	if numbers <= onePiece {
		in.Body.Axis, in.Body.Curves = api.ToBatch(r.Names, r.Batch)
		return client.Call(ctx, c, api.AddHistory, in)
	}
	return bringInParts(ctx, c, r, in)
}

func bringInParts(ctx context.Context, c *client.Client, r history.Imported, in *api.NewHistory) (*api.Run, error) {
	begin := &api.NewRun{ProjectInput: in.ProjectInput, Key: in.Key}
	begin.Body.Title, begin.Body.Started, begin.Body.Hyper = in.Body.Title, in.Body.Started, in.Body.Hyper
	run, err := client.Call(ctx, c, api.BeginRun, begin)
	if err != nil {
		return nil, err
	}
	if run.State == "finished" {
		return run, nil
	}
	open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: in.ProjectInput, Number: run.Number},
		Key: named(in.Key, "leg")}
	open.Body.Recorder, open.Body.Started = named(in.Key, "recorder"), in.Body.Started
	counted, err := client.Call(ctx, c, api.OpenLeg, open)
	if err != nil {
		return nil, err
	}
	leg := api.LegInput{RunInput: open.RunInput, Leg: counted.Leg, Recorder: open.Body.Recorder}
	number := int64(0)
	for part := range r.Batch.Parts(importPoints) {
		if number++; number <= counted.Batch {
			continue // sent before
		}
		batch := &api.BatchInput{LegInput: leg, Body: api.Batch{Number: number, Upto: number}}
		names := make([]string, len(part.Columns))
		for i, column := range part.Columns {
			names[i] = r.Names[column.Curve]
		}
		if number == 1 {
			batch.Body.Notes = []api.NewNote{{At: time.Now(), Text: "Brought in from " + in.Body.Source}}
		}
		batch.Body.Axis, batch.Body.Curves = api.ToBatch(names, part)
		if _, err := client.Call(ctx, c, api.SendBatch, batch); err != nil {
			return nil, fmt.Errorf("%s, from step %d on (the same import again goes on there): %w", run.Address,
				part.Axis[0].Step, err)
		}
	}
	end := &api.EndInput{LegInput: leg}
	end.Body.State, end.Body.At = "finished", in.Body.Ended
	if _, err := client.Call(ctx, c, api.EndLeg, end); err != nil {
		return nil, err
	}
	shown, err := client.Call(ctx, c, api.GetRun, &leg.RunInput)
	if err != nil {
		return nil, err
	}
	return &shown.Run, nil
}

// named is a key of its own for something that belongs to another key.
func named(key, what string) string {
	return uuid.NewSHA1(uuid.NameSpaceURL, []byte(key+" "+what)).String()
}
