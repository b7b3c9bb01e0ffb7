package checkpoints

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

// verifications reads those of a run's checkpoints, by checkpoint.
func (s *Checkpoints) verifications(ctx context.Context, run int64) (map[int64][]api.Verification, error) {
	rows, err := s.db.ListVerifications(ctx, run)
	out := map[int64][]api.Verification{}
	for _, r := range rows {
		v := api.Verification{At: r.At, Who: r.Who, Host: r.Host}
		if err := json.Unmarshal(r.Result, &v); err != nil {
			return nil, err
		}
		v.At, v.Who, v.Host = r.At, r.Who, r.Host
		v.Says = sayVerified(v)
		out[r.Checkpoint] = append(out[r.Checkpoint], v)
	}
	return out, err
}

func sayVerified(v api.Verification) string {
	head := "verified"
	if !v.Same {
		head = "not the same"
	}
	var parts []string
	for _, f := range v.Figures {
		if f.Recorded == nil {
			continue
		}
		sign := "="
		if !f.Same {
			sign = "≠"
		} else if float64(f.Found) != float64(*f.Recorded) {
			sign = "≈"
		}
		parts = append(parts, fmt.Sprintf("%s %.6g %s %.6g", f.Curve, float64(f.Found), sign, float64(*f.Recorded)))
	}
	return fmt.Sprintf("%s on %s at %s: %s", head, v.Host, v.At.UTC().Format("2006-01-02 15:04 UTC"), act.Few(parts, 6))
}

// AddVerification compares what an evaluation found with what was recorded, and keeps the outcome.
func (s *Checkpoints) AddVerification(ctx context.Context, who act.Who,
	in *api.NewVerification) (*api.Verification, error) {
	c, _, err := s.Find(ctx, in.CheckpointInput)
	if err != nil {
		return nil, err
	}
	tolerance := float64(in.Body.Tolerance)
	if !(tolerance >= 0) || math.IsInf(tolerance, 0) {
		return nil, api.Fail(api.Invalid, "a tolerance is a number from 0 up")
	}
	v := api.Verification{Same: true, At: time.Now(), Host: act.Clean(in.Body.Host), Command: in.Body.Command}
	compared := 0
	for _, name := range act.SortedKeys(in.Body.Figures) {
		f := api.VerifiedFigure{Curve: act.Clean(name), Found: in.Body.Figures[name], Tolerance: in.Body.Tolerance}
		if recorded, ok := c.Figures[name]; ok {
			compared++
			f.Recorded = &recorded
			a, b := float64(recorded), float64(f.Found)
			f.Same = a == b || a != a && b != b || math.Abs(a-b) <= tolerance
			v.Same = v.Same && f.Same
		}
		v.Figures = append(v.Figures, f)
	}
	if compared == 0 {
		return nil, api.Fail(api.Invalid, "none of the figures reported (%s) was recorded with %s, which has %s",
			act.Few(act.SortedKeys(in.Body.Figures), 10), c.Address, act.Few(act.SortedKeys(c.Figures), 20))
	}
	run, err := s.RunID(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	items, ids, err := s.Checkpoints(ctx, in.RunInput)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(items, func(x api.Checkpoint) bool { return x.Leg == c.Leg && x.Step == c.Step })
	err = s.db.InTx(ctx, func(q Tx) error {
		if err := q.AddVerification(ctx, run, ids[i], who.ID, v.Host, v); err != nil {
			return err
		}
		return s.RunEvent(ctx, q, store.Event{Kind: "checkpoint", Run: run, Subject: c.Address, Person: who.ID,
			Verb: "verified"})
	})
	s.Live.News()
	v.Says = sayVerified(v)
	return &v, err
}
