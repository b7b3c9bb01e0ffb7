package service

import "sync"

// remembered keeps what is asked for again and again and hardly ever changes. It holds a bounded number of entries; when it is full it
// begins anew, which costs a query each.
type remembered[K comparable, V any] struct {
	mutex   sync.Mutex
	entries map[K]V
}

const mostRemembered = 20_000

func (r *remembered[K, V]) get(k K) (V, bool) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	v, ok := r.entries[k]
	return v, ok
}

func (r *remembered[K, V]) put(k K, v V) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	if r.entries == nil || len(r.entries) >= mostRemembered {
		r.entries = map[K]V{}
	}
	r.entries[k] = v
}

// forget drops everything.
func (r *remembered[K, V]) forget() {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.entries = nil
}
