package client

import (
	"context"
	"time"

	"kembrel/api"
)

// AddSheet hands over a prediction sheet whose chunks are with the service, and waits until it is assessed, which a
// large one takes minutes for: it asks again at growing pauses, up to ten seconds, until ctx ends. waiting hears of
// each answer that it is not assessed yet. The sheet is assessed whether or not somebody waits.
func AddSheet(ctx context.Context, c *Client, in *api.NewSheet, waiting func(*api.Sheet)) (*api.Sheet, error) {
	for pause := time.Second; ; pause = min(2*pause, 10*time.Second) {
		s, err := Call(ctx, c, api.AddSheet, in)
		if err != nil || s.State != api.Assessing {
			return s, err
		}
		waiting(s)
		select {
		case <-ctx.Done():
			return nil, c.orLate(ctx, ctx.Err())
		case <-time.After(pause):
		}
	}
}
