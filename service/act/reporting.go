package act

import (
	"context"

	"kembrel/api"
	"kembrel/store"
)

// Report is what a receiver of events may report back on: the token of an event lets it do just that.
type Report struct {
	Subscription, Event int64
	On                  string // address of an edition or a run
}

// Reports notes that something is reported back on an edition or a run for a purpose. Whoever has a token for that may
// do so on what the token is of, and once for each purpose; all others as they like.
func (s *Act) Reports(ctx context.Context, q interface {
	ReportOnce(ctx context.Context, subscription, event int64, purpose string) (bool, error)
}, who Who, on, purpose string) error {
	if who.Report == nil {
		return nil
	}
	if who.Report.On != on {
		return api.Fail(api.Denied, "this token is to report back on %s, not on %s", who.Report.On, on)
	}
	fresh, err := q.ReportOnce(ctx, who.Report.Subscription, who.Report.Event, purpose)
	if err == nil && !fresh {
		return api.Fail(api.Conflict,
			"this token has reported back already: %s; it may once for each purpose, and for %d in all", purpose,
			store.MostReports)
	}
	return err
}
