package act

import (
	"context"
	"fmt"
	"time"
)

// A training machine's clock may be wrong. Every request says what its sender's clock shows; what it says of times is
// corrected by the difference to this service's, which alone decides what is sorted and how long it took.

// wrongClock is a difference that is more than a slow network.
const wrongClock = 10 * time.Second

type skewKey struct{}

// WithClock notes what the sender's clock showed when a request was received.
func WithClock(ctx context.Context, sender, received time.Time) context.Context {
	if ahead := sender.Sub(received); ahead.Abs() >= wrongClock {
		return context.WithValue(ctx, skewKey{}, ahead.Round(time.Second))
	}
	return ctx
}

// Ahead is how far the sender's clock is ahead of this one; 0: it is right, or not known.
func Ahead(ctx context.Context) time.Duration {
	d, _ := ctx.Value(skewKey{}).(time.Duration)
	return d
}

// ByOurClock is a time that a sender told, by this service's clock. None is now, and none lies in the future.
func ByOurClock(ctx context.Context, t time.Time) time.Time {
	now := time.Now()
	if t.IsZero() {
		return now
	}
	if t = t.Add(-Ahead(ctx)); t.After(now) {
		return now
	}
	return t
}

// SayClock says how a clock is wrong, or "".
func SayClock(ctx context.Context, host string) string {
	d := Ahead(ctx)
	if d == 0 {
		return ""
	}
	if host == "" {
		host = "the machine that recorded it"
	}
	word := "ahead of"
	if d < 0 {
		word = "behind"
	}
	return fmt.Sprintf("The clock of %s is %s %s the service's. Times are corrected by that; its own logs differ from them.", host, d.Abs(), word)
}
