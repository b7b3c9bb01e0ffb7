package act

import (
	"maps"
	"sync"
)

// Happened is a kind of event.
type Happened struct{ Kind, Verb string }

// counts are how many events of each kind this process has written, or tried to.
type counts struct {
	mutex sync.Mutex
	of    map[Happened]int64
}

func (c *counts) add(kind, verb string) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	if c.of == nil {
		c.of = map[Happened]int64{}
	}
	c.of[Happened{kind, verb}]++
}

// Counts are how many events of each kind this process has written.
func (s *Act) Counts() map[Happened]int64 {
	s.counts.mutex.Lock()
	defer s.counts.mutex.Unlock()
	return maps.Clone(s.counts.of)
}
