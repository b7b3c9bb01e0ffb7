package act

import (
	"context"

	"kembrel/store"
)

// RunEvent writes an event of a run, filling in the project.
func (s *Act) RunEvent(ctx context.Context, q Tx, e store.Event) (err error) {
	if e.Project, err = q.RunProject(ctx, e.Run); err != nil {
		return err
	}
	return q.AddEvent(ctx, e)
}
