// Package blob keeps immutable bytes under names, on local disk or in a bucket of an S3 server. It imports nothing of
// ours.
package blob

import (
	"context"
	"errors"
	"fmt"
	"io"
)

// ErrNone says that there is no blob of that name, ErrAway that the place where blobs are kept does not answer now.
var (
	ErrNone = errors.New("no such blob")
	ErrAway = errors.New("the blob store does not answer")
)

// Store keeps blobs. A name is one or more segments of [a-z0-9-] joined by "/"; a blob never changes once it is there.
// All methods may be called from many goroutines, also for the same name.
type Store interface {
	// Put keeps what data yields under name and returns when it is safe on disk; the name then shows the whole or, if
	// an error comes back, what it showed before. Putting a name again replaces the bytes with (for the caller) equal
	// ones.
	Put(ctx context.Context, name string, data io.Reader) error
	// Get opens size bytes of a blob from offset on, fewer where it ends before; size 0: to its end. The error wraps
	// ErrNone where there is none.
	Get(ctx context.Context, name string, offset, size int64) (io.ReadCloser, error)
	// Size is the length in bytes. The error wraps ErrNone where there is none.
	Size(ctx context.Context, name string) (int64, error)
	// Append begins a new blob that is written piece by piece. What has been written can be read once Sync has
	// returned, and then survives a power cut; what has not may be lost.
	Append(name string) (Appending, error)
	// Grows reports whether a Sync of a blob being written costs only what was written since the one before, not the
	// whole.
	Grows() bool
	// List calls each with the name and size of every blob whose name begins with prefix, in no order.
	List(ctx context.Context, prefix string, each func(name string, size int64) error) error
	// Ready says whether the place where blobs are kept is there. The error wraps ErrAway where it does not answer.
	Ready(ctx context.Context) error
	// Tidy takes away what writing that was cut off has left behind, as far as it is old.
	Tidy(ctx context.Context) error
	// Room says whether so many bytes more may be kept. The error wraps a *Full where the disk keeps the rest for
	// others.
	Room(size int64) error
	// Delete removes a blob; one that is not there is no error.
	Delete(ctx context.Context, name string) error
}

// Full says that a disk has no room for more blobs: what is free is kept for others who need it, as the database.
type Full struct {
	Folder                 string
	Free, Reserve, Missing int64 // bytes; Missing is how much must become free before blobs are kept again
}

func (f *Full) Error() string {
	return fmt.Sprintf("the disk of %s is full: %d bytes are free, %d are kept for the database, %d are missing",
		f.Folder, f.Free, f.Reserve, f.Missing)
}

// Appending is a blob being written. WriteAt may be called from many goroutines, for places that do not overlap; Sync
// and Close may not run beside it or each other.
type Appending interface {
	io.WriterAt
	Sync(ctx context.Context) error
	Close() error
}
