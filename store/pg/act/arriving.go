package act

import (
	"context"
	"fmt"

	"kembrel/store/pg/db"
)

// Arrive makes the order of events one of this cluster. Events are ordered by the transactions that wrote them, which
// every cluster numbers for itself: in a database that was restored into another they would seem to be of the future,
// and what comes after them of the past. Digests do not depend on it. Nobody else may use the database meanwhile.
func (s *Store) Arrive(ctx context.Context) error {
	err := s.InTx(ctx, func(q db.Q) error {
		foreign, err := db.Value[bool](ctx, q, "event_future", nil)
		if err != nil || !foreign {
			return err
		}
		for _, step := range []string{"arrive_begin", "arrive_lock", "arrive_open_events", "arrive_open_chain",
			"arrive_subscriptions", "arrive_events", "arrive_chain", "arrive_close_events", "arrive_close_chain"} {
			if _, err := q.Exec(ctx, step, nil); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return fmt.Errorf("order the events of a restored database: %w", err)
	}
	return nil
}
