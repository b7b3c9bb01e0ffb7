package act

import (
	"errors"
	"fmt"

	"kembrel/api"
	"kembrel/core/checkpoint"
	"kembrel/store"
)

// LegClaimed says that another recorder writes a leg.
func LegClaimed(address string, leg int) error {
	return api.Fail(api.LegClaimed, "leg %d of %s is written by another recorder now; this one must stop", leg, address)
}

// CheckpointAddress is the address of a checkpoint of some run.
func CheckpointAddress(project string, number int, p store.Standing) string {
	stand := checkpoint.Stand{Leg: p.Leg, Step: p.Step, Epoch: p.Epoch, Replaced: p.Replaced}
	return api.Address{Project: project, Run: number, At: stand.Own(p.Shared)}.String()
}

// OrNotFound turns a missing row into a problem that names what was asked for.
func OrNotFound(err error, format string, args ...any) error {
	if errors.Is(err, store.ErrNone) {
		return api.Fail(api.NotFound, format, args...)
	}
	return err
}

// RunAddress is the address of a run.
func RunAddress(project string, number int) string { return fmt.Sprintf("%s/%d", project, number) }

// Deref is what p points to, and the zero value where it is nil.
func Deref[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return v
}
