package web_test

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/client"
)

// Runs end, go on and have notes while their summaries are brought up to date: nobody waits for each other in a circle.
func TestEndsBesideSummaries(t *testing.T) {
	s := serve(t)
	s.project(t)
	var group errgroup.Group
	group.SetLimit(8)
	for i := range 160 {
		leg := s.leg(t)
		group.Go(func() error {
			for n := range int64(4) {
				in := batch(leg, n+1, n+1, "loss.val", 1/float64(n+1))
				if n == 2 {
					in.Body.Notes = []api.NewNote{{At: time.Now(), Text: "half way"}}
				}
				if _, err := client.Call(ctx, s.Client, api.SendBatch, in); err != nil {
					return fmt.Errorf("run %d, batch %d: %w", i, n+1, err)
				}
			}
			end := &api.EndInput{LegInput: leg}
			end.Body.State = "finished"
			if _, err := client.Call(ctx, s.Client, api.EndLeg, end); err != nil {
				return fmt.Errorf("run %d ends: %w", i, err)
			}
			return nil
		})
	}
	require.NoError(t, group.Wait())
}
