package blob

import (
	"context"
	"errors"
	"io"
	"time"
)

// Watched is a store of which somebody hears what was asked of it, how long the answer took, and how it ended.
type Watched struct {
	Store
	Heard func(what string, took time.Duration, err error)
}

// Unwrap is the store that is watched.
func (w *Watched) Unwrap() Store { return w.Store }

// As finds what a store is, or can do beside what every store can, behind those that watch it.
func As[T any](s Store) (T, bool) {
	for {
		if found, is := s.(T); is {
			return found, true
		}
		inner, wraps := s.(interface{ Unwrap() Store })
		if !wraps {
			var none T
			return none, false
		}
		s = inner.Unwrap()
	}
}

func (w *Watched) heard(what string, began time.Time, err error) {
	if errors.Is(err, ErrNone) {
		err = nil // an answer like another
	}
	w.Heard(what, time.Since(began), err)
}

// Put implements Store.
func (w *Watched) Put(ctx context.Context, name string, data io.Reader) error {
	began := time.Now()
	err := w.Store.Put(ctx, name, data)
	w.heard("put", began, err)
	return err
}

// Get implements Store; what it took is until the first byte can be read.
func (w *Watched) Get(ctx context.Context, name string, offset, size int64) (io.ReadCloser, error) {
	began := time.Now()
	content, err := w.Store.Get(ctx, name, offset, size)
	w.heard("get", began, err)
	return content, err
}

// Delete implements Store.
func (w *Watched) Delete(ctx context.Context, name string) error {
	began := time.Now()
	err := w.Store.Delete(ctx, name)
	w.heard("delete", began, err)
	return err
}

// Append implements Store; what is heard of are the times that what was written is made safe.
func (w *Watched) Append(name string) (Appending, error) {
	inner, err := w.Store.Append(name)
	if err != nil {
		w.heard("append", time.Now(), err)
		return nil, err
	}
	return &watchedAppending{inner, w}, nil
}

type watchedAppending struct {
	Appending
	of *Watched
}

func (a *watchedAppending) Sync(ctx context.Context) error {
	began := time.Now()
	err := a.Appending.Sync(ctx)
	a.of.heard("sync", began, err)
	return err
}
