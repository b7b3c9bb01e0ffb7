package curve

import (
	"container/heap"
	"fmt"
	"math"
)

// Smoothing of a curve along an axis. Half-lives and windows are in the axis's unit: steps, epochs, or for times milliseconds.
type Smoothing struct {
	HalfLife float64 // > 0: exponential moving mean
	Median   float64 // > 0: moving median over this stretch, up to and with the reading
}

// None reports whether nothing is to be smoothed.
func (s Smoothing) None() bool { return s.HalfLife == 0 && s.Median == 0 }

// Check says what is wrong with a smoothing, or nil.
func (s Smoothing) Check() error {
	for _, v := range []float64{s.HalfLife, s.Median} {
		if v < 0 || math.IsNaN(v) || math.IsInf(v, 0) {
			return fmt.Errorf("smoothing over %v makes no sense; give a length of the axis from 0 up", v)
		}
	}
	if s.HalfLife > 0 && s.Median > 0 {
		return fmt.Errorf("smooth by half-life or by median, not both")
	}
	return nil
}

// Memory is how much of the axis before a reading its smoothed value may depend on: the stretch of the median, or so many half-lives
// that what lies before weighs less than 2^-30.
func (s Smoothing) Memory() float64 { return max(s.Median, 30*s.HalfLife) }

// Smoother smooths readings one after another.
type Smoother interface {
	// Next takes the value at x (rising) and returns the smoothed one. A value that is not finite comes back as it is and
	// does not disturb those after it.
	Next(x, value float64) float64
}

// Smoother makes a fresh one.
func (s Smoothing) Smoother() Smoother {
	if s.Median > 0 {
		return &median{window: s.Median}
	}
	return &exponential{halfLife: s.HalfLife}
}

// exponential is the moving mean in which a reading's weight halves for every halfLife of x that passes. The start is corrected
// for bias, as in Kingma and Ba, "Adam", 2015, section 3, so the first result equals the first value. O(1) per reading.
type exponential struct{ halfLife, mean, weight, at float64 }

func (e *exponential) Next(x, v float64) float64 {
	if math.IsNaN(v) || math.IsInf(v, 0) || e.halfLife <= 0 {
		return v
	}
	if e.weight > 0 {
		if d := x - e.at; d > 0 {
			e.weight *= math.Exp2(-d / e.halfLife)
		}
	}
	// With no distance between readings this is the plain mean.
	e.weight++
	e.mean += (v - e.mean) / e.weight
	e.at = x
	return e.mean
}

// median is the median of the finite readings in (x - window, x]: the lower half in a heap with the greatest on top, the upper
// half in one with the least on top. O(log n) per reading for n readings in the window.
type median struct {
	window       float64
	lower, upper half
	queue        []*item // the readings in the window, in order
}

type item struct {
	x, value float64
	at       int
	low      bool
}

type half struct {
	items []*item
	low   bool
}

func (h half) Len() int { return len(h.items) }
func (h half) Less(i, k int) bool {
	if h.low {
		return h.items[i].value > h.items[k].value
	}
	return h.items[i].value < h.items[k].value
}
func (h half) Swap(i, k int) {
	h.items[i], h.items[k] = h.items[k], h.items[i]
	h.items[i].at, h.items[k].at = i, k
}
func (h *half) Push(v any) {
	i := v.(*item)
	i.at, i.low = len(h.items), h.low
	h.items = append(h.items, i)
}
func (h *half) Pop() any {
	last := h.items[len(h.items)-1]
	h.items = h.items[:len(h.items)-1]
	return last
}

func (m *median) Next(x, v float64) float64 {
	if math.IsNaN(v) || math.IsInf(v, 0) {
		return v
	}
	m.lower.low = true
	for len(m.queue) > 0 && m.queue[0].x <= x-m.window {
		old := m.queue[0]
		if old.low {
			heap.Remove(&m.lower, old.at)
		} else {
			heap.Remove(&m.upper, old.at)
		}
		m.queue = m.queue[1:]
	}
	i := &item{x: x, value: v}
	m.queue = append(m.queue, i)
	if m.lower.Len() > 0 && v <= m.lower.items[0].value {
		heap.Push(&m.lower, i)
	} else {
		heap.Push(&m.upper, i)
	}
	for m.upper.Len() > m.lower.Len() {
		heap.Push(&m.lower, heap.Pop(&m.upper))
	}
	for m.lower.Len() > m.upper.Len()+1 {
		heap.Push(&m.upper, heap.Pop(&m.lower))
	}
	low := m.lower.items[0].value
	if m.lower.Len() > m.upper.Len() {
		return low
	}
	return low + (m.upper.items[0].value-low)/2
}
