package act

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"

	"kembrel/api"
	"kembrel/store"
	"kembrel/store/blob"
	"kembrel/store/pack"
	"kembrel/store/pg/db"
)

// ForRecorders makes what is asked under ctx work for recorders, which has connections of its own.
func ForRecorders(ctx context.Context) context.Context { return db.In(ctx, db.Recorders) }

// Problem makes of any error what the API answers; what is our own fault is logged and not shown.
func (s *Act) Problem(err error) *api.Problem {
	var p *api.Problem
	var unreadable *pack.Unreadable
	var full *blob.Full
	switch {
	case errors.As(err, &p):
		return p
	case db.Away(err):
		s.Log.Warn("storage does not answer", "err", err)
		return api.Fail(api.Unavailable, "the database does not answer just now; try again in a moment")
	case errors.Is(err, blob.ErrAway):
		s.Log.Warn("the blob store does not answer", "err", err)
		return api.Fail(api.Unavailable, "the blob store does not answer just now; try again in a moment")
	case errors.As(err, &unreadable):
		return sayUnreadable(unreadable)
	case errors.As(err, &full):
		return api.Fail(api.NoRoom, "%s", SayFull(*full))
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

// sayUnreadable says which chunk of a file cannot be read, why, and what to do.
func sayUnreadable(e *pack.Unreadable) *api.Problem {
	if errors.Is(e, pack.ErrMissing) {
		return api.Fail(api.ChunkGone,
			"chunk %s of %s is not where it was kept. The blob store may be away for a moment, or its folder moved: try again, it is looked for each time. Otherwise kembrel blobs check names what is missing; another checkpoint of the run may be whole, and sending the same content again brings it back", e.Digest, e.File)
	}
	return api.Fail(api.ChunkBad,
		"chunk %s of %s is damaged: its bytes are not those it is named by. Restore another checkpoint of the run (kembrel checkpoints lists them); sending the same content again, or a backup, brings it back; kembrel blobs check names what else it hurts", e.Digest, e.File)
}

// SayFull says that the disk of the blobs is full, and what to do.
func SayFull(f blob.Full) string {
	return fmt.Sprintf("The disk of %s has %s left, which are kept for the database (%s): %s more must become free before checkpoints are kept again. Until then they wait in the recorders' spools; readings, listings and deletions go on. Drop checkpoints or runs, then: kembrel storage free --now",
		f.Folder, api.Bytes(f.Free), api.Bytes(f.Reserve), api.Bytes(f.Missing))
}
