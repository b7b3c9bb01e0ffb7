package act

import (
	"context"
	"errors"
	"runtime/debug"

	"kembrel/api"
	"kembrel/store"
	"kembrel/store/blob"
	"kembrel/store/pg/db"
)

// ForRecorders makes what is asked under ctx work for recorders, which has connections of its own.
func ForRecorders(ctx context.Context) context.Context { return db.In(ctx, db.Recorders) }

// Problem makes of any error what the API answers; what is our own fault is logged and not shown.
func (s *Act) Problem(err error) *api.Problem {
	var p *api.Problem
	switch {
	case errors.As(err, &p):
		return p
	case db.Away(err):
		s.Log.Warn("storage does not answer", "err", err)
		return api.Fail(api.Unavailable, "the database does not answer just now; try again in a moment")
	case errors.Is(err, blob.ErrAway):
		s.Log.Warn("the blob store does not answer", "err", err)
		return api.Fail(api.Unavailable, "the blob store does not answer just now; try again in a moment")
	case errors.Is(err, store.ErrNone): // found a moment ago
		return api.Fail(api.NotFound, "what was asked for is not there any more: it was deleted at this moment")
	case db.BadText(err):
		return api.Fail(api.Invalid, "a text in the request has a NUL byte in it, or is not UTF-8")
	case db.TooCostly(err):
		s.Log.Warn("the database took too long", "err", err)
		return api.Fail(api.TooCostly,
			"the database took longer at this than is allowed; ask for less: a narrower filter, fewer columns, or fewer runs at once")
	case errors.Is(err, context.Canceled):
		return api.Fail(api.TooSlow, "the request was given up")
	}
	s.Log.Error("request failed", "err", err, "stack", string(debug.Stack()))
	return api.Fail(api.Internal, "the service failed at this; its log says how")
}
