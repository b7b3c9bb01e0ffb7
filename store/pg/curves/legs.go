package curves

import (
	"context"
	"math"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ListLegs lists a run's legs in order.
func (q Queries) ListLegs(ctx context.Context, run int64) ([]store.Leg, error) {
	return db.List[store.Leg](ctx, q, "leg_list", db.A{"run": run})
}

// everyStep is the upper end of a range of steps that has none.
const everyStep = math.MaxInt64

// Leg finds one leg, for saying why it refused something.
func (q Queries) Leg(ctx context.Context, run int64, leg int) (store.LegState, error) {
	return db.One[store.LegState](ctx, q, "leg_state", db.A{"run": run, "leg": leg})
}
