package pg

import (
	"context"
	"sync"

	"kembrel/core/curve"
)

type curveName struct {
	ID   int
	Name string
}

// CurveIDs returns the numbers of a run's curves by name, giving numbers to names that are new. In a transaction it holds the
// run while it does.
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
		if _, err := q.exec(ctx, "curve_add", A{"run": run, "names": missing}); err != nil {
			return nil, err
		}
	}
	ids, _, err = q.knownCurves(ctx, run, names)
	return ids, err
}

func (q Queries) knownCurves(ctx context.Context, run int64, names []string) (ids map[string]int, missing []string, err error) {
	known, err := list[curveName](ctx, q, "curve_list", A{"run": run})
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
	runs  map[int64]*RunCurves
	size  int // names held
}

// RunCurves are the curves that a run has. They must not be changed.
type RunCurves struct {
	Numbers map[string]int // from 1 up, without gaps
	machine []bool         // at a number less one: one of the machine's own
}

func newRunCurves(numbers map[string]int) *RunCurves {
	c := &RunCurves{Numbers: numbers, machine: make([]bool, len(numbers))}
	for name, number := range numbers {
		if number <= len(c.machine) {
			c.machine[number-1] = curve.OfMachine(name)
		}
	}
	return c
}

// Has reports whether there is a curve of this number.
func (c *RunCurves) Has(number int) bool { return 1 <= number && number <= len(c.machine) }

// OfMachine reports whether a number is that of a curve of the machine's own.
func (c *RunCurves) OfMachine(number int) bool { return c.machine[number-1] }

// maxCachedNames bounds the cache to some 20 MB.
const maxCachedNames = 200_000

// CachedCurves is CurveIDs for reading, from memory where every name and number asked for is known there.
func (s *Store) CachedCurves(ctx context.Context, run int64, names []string, highest int) (*RunCurves, error) {
	s.names.mutex.Lock()
	known := s.names.runs[run]
	s.names.mutex.Unlock()
	complete := known != nil && highest <= len(known.machine)
	for i := 0; complete && i < len(names); i++ {
		_, complete = known.Numbers[names[i]]
	}
	if complete {
		return known, nil
	}
	numbers, _, err := s.knownCurves(ctx, run, nil)
	if err != nil {
		return nil, err
	}
	known = newRunCurves(numbers)
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
