package act

import (
	"sync"
)

// Remembered keeps what is asked for again and again and hardly ever changes. It holds a bounded number of entries;
// when it is full it begins anew, which costs a query each.
type Remembered[K comparable, V any] struct {
	mutex   sync.Mutex
	entries map[K]V
}

// MostRemembered is how many entries one holds.
const MostRemembered = 20_000

// Get is what is remembered; false: nothing is.
func (r *Remembered[K, V]) Get(k K) (V, bool) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	v, ok := r.entries[k]
	return v, ok
}

// Put remembers something.
func (r *Remembered[K, V]) Put(k K, v V) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.entries == nil || len(r.entries) >= MostRemembered {
		r.entries = map[K]V{}
	}
	r.entries[k] = v
}

// Forget drops everything.
func (r *Remembered[K, V]) Forget() {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.entries = nil
}
