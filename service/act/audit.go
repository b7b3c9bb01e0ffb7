package act

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"time"

	"kembrel/api"
	"kembrel/store"
)

// GetAudit lists what was done, the latest first.
func (s *Act) GetAudit(ctx context.Context, _ Who, in *api.ServiceAuditInput) (*api.Page[api.Event], error) {
	return s.audit(ctx, in.Project, in.AuditInput)
}

// GetProjectAudit lists what was done in a project.
func (s *Act) GetProjectAudit(ctx context.Context, _ Who, in *api.ProjectAuditInput) (*api.Page[api.Event], error) {
	return s.audit(ctx, in.Project, in.AuditInput)
}

func (s *Act) audit(ctx context.Context, project string, in api.AuditInput) (*api.Page[api.Event], error) {
	before, err := CursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	q := store.AuditQuery{Project: project, Who: in.Who, Kind: in.Kind, Verb: in.Verb, Subject: in.Subject,
		Before: before, Limit: in.Limit + 1}
	if !in.Since.IsZero() {
		q.Since = &in.Since
	}
	if !in.Until.IsZero() {
		q.Until = &in.Until
	}
	rows, err := s.db.Audit(ctx, q)
	if err != nil {
		return nil, err
	}
	return Page(rows, in.Limit, func(e store.Told) api.Event {
		out := toEvent(e)
		out.From = e.Place
		return out
	}, func(e store.Told) string { return fmt.Sprint(e.ID) }), nil
}

// chainPace is how long an event waits for its digest, at most about.
const chainPace = time.Second

// KeepChain gives events their digests until ctx ends.
func (s *Act) KeepChain(ctx context.Context) {
	for pause := chainPace; ; {
		select {
		case <-ctx.Done():
			return
		case <-time.After(pause):
		}
		pause = chainPace
		n, err := s.db.Chain(ctx)
		switch {
		case err != nil && ctx.Err() == nil:
			s.Log.Warn("the digests of events wait", "err", err)
		case n > 1000: // there are more
			pause = 10 * time.Millisecond
		}
	}
}

// CheckAudit goes through the chain of events from its beginning, reading all: about a second for 100,000 events.
func (s *Act) CheckAudit(ctx context.Context, _ Who, _ *struct{}) (*api.AuditCheck, error) {
	out := &api.AuditCheck{Whole: true}
	var before []byte
	for out.Whole {
		links, err := s.db.ReadChain(ctx, out.Events)
		if err != nil {
			return nil, err
		}
		for _, l := range links {
			digest := s.db.Link(before, l.Text)
			switch {
			case l.Seq != out.Events+1 || l.Gone:
				out.Whole, out.At, out.Why = false, l.Event, "gone"
			case !bytes.Equal(digest, l.Digest):
				out.Whole, out.At, out.Why = false, l.Event, "changed"
			}
			if !out.Whole {
				break
			}
			out.Events, before = l.Seq, digest
		}
		if len(links) == 0 {
			break
		}
	}
	if out.Whole {
		beside, err := s.db.BesideChain(ctx)
		if err != nil {
			return nil, err
		}
		if beside != 0 {
			out.Whole, out.At, out.Why = false, beside, "beside"
		}
	}
	out.Digest = hex.EncodeToString(before)
	out.Says = fmt.Sprintf("All %s are as they were written.", Many(int(out.Events), "event", "events"))
	switch out.Why {
	case "changed":
		out.Says = fmt.Sprintf("Event %d is not what was written.", out.At)
	case "gone":
		out.Says = fmt.Sprintf("Event %d, or its place in the chain, is gone.", out.At)
	case "beside":
		out.Says = fmt.Sprintf("Event %d was put in beside the chain.", out.At)
	}
	return out, nil
}
