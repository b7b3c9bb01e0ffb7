package curves

import (
	"context"
	"sync"

	"kembrel/store"
	"kembrel/store/pg/db"
)

type curveName struct {
	ID   int
	Name string
}

// CurveIDs returns the numbers of a run's curves by name, giving numbers to names that are new. In a transaction it
// holds the run while it does.
func (q Queries) CurveIDs(ctx context.Context, run int64, names []string) (map[string]int, error) {
	ids, missing, err := q.knownCurves(ctx, run, names)
	if err != nil || len(missing) == 0 {
		return ids, err
	}
	if err := q.LockRun(ctx, run); err != nil {
		return nil, err
	}
	if _, missing, err = q.knownCurves(ctx, run, names); err != nil {
		return nil, err
	}
	if len(missing) > 0 {
		if _, err := q.Exec(ctx, "curve_add", db.A{"run": run, "names": missing}); err != nil {
			return nil, err
		}
	}
	ids, _, err = q.knownCurves(ctx, run, names)
	return ids, err
}

func (q Queries) knownCurves(ctx context.Context, run int64,
	names []string) (ids map[string]int, missing []string, err error) {
	known, err := db.List[curveName](ctx, q, "curve_list", db.A{"run": run})
	if err != nil {
		return nil, nil, err
	}
	ids = make(map[string]int, len(known))
	for _, c := range known {
		ids[c.Name] = c.ID
	}
	for _, n := range names {
		if _, ok := ids[n]; !ok {
			missing = append(missing, n)
		}
	}
	return ids, missing, nil
}

// nameCache remembers the curves of the runs that are being written: a name once numbered keeps its number.
type nameCache struct {
	mutex sync.Mutex
	runs  map[int64]*store.RunCurves
	size  int // names held
}

// maxCachedNames bounds the cache to some 20 MB.
const maxCachedNames = 200_000

// CachedCurves is CurveIDs for reading, from memory where every name and number asked for is known there.
func (s *Store) CachedCurves(ctx context.Context, run int64, names []string, highest int) (*store.RunCurves, error) {
	s.names.mutex.Lock()
	known := s.names.runs[run]
	s.names.mutex.Unlock()
	complete := known != nil && highest <= len(known.Machine)
	for i := 0; complete && i < len(names); i++ {
		_, complete = known.Numbers[names[i]]
	}
	if complete {
		return known, nil
	}
	numbers, _, err := s.q.knownCurves(ctx, run, nil)
	if err != nil {
		return nil, err
	}
	known = store.NewRunCurves(numbers)
	c := &s.names
	c.mutex.Lock()
	defer c.mutex.Unlock()
	c.size += len(numbers)
	if before := c.runs[run]; before != nil {
		c.size -= len(before.Numbers)
	}
	c.runs[run] = known
	for other, held := range c.runs { // any will do: it is read again when needed
		if c.size <= maxCachedNames {
			break
		}
		if other != run {
			c.size -= len(held.Numbers)
			delete(c.runs, other)
		}
	}
	return known, nil
}
