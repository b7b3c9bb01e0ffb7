package client

import (
	"context"
	"time"

	"kembrel/api"
)

// AddSheet sends a prediction sheet whose chunks are with the service and waits until it is assessed, which takes
// minutes for a large one. waiting, unless it is nil, is called with each answer before
// that. The service goes on if ctx ends.
func AddSheet(ctx context.Context, c *Client, in *api.NewSheet, waiting func(*api.Sheet)) (*api.Sheet, error) {
	return untilDone(ctx, c, api.AddSheet, in, func(s *api.Sheet) bool { return s.State == api.Assessing }, waiting)
}

// untilDone sends a request that the service may accept before it is done, and sends it again, at growing pauses of up
// to ten seconds, as long as the answer is under way. waiting, unless it is nil, is called with each such answer.
func untilDone[I, O any](ctx context.Context, c *Client, op api.Operation[I, O], in *I,
	underWay func(*O) bool, waiting func(*O)) (*O, error) {
	for pause := time.Second; ; pause = min(2*pause, 10*time.Second) {
		out, err := Call(ctx, c, op, in)
		if err != nil || !underWay(out) {
			return out, err
		}
		if waiting != nil {
			waiting(out)
		}
		select {
		case <-ctx.Done():
			return nil, c.orLate(ctx, ctx.Err())
		case <-time.After(pause):
		}
	}
}
