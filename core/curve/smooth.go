package curve

import (
	"container/heap"
	"fmt"
	"math"
)

// Smoothing of a curve along an axis. Half-lives and windows are in the axis's unit: steps, epochs, or for times
// milliseconds.
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

// Memory is how much of the axis before a reading its smoothed value may depend on: the stretch of the median, or so
// many half-lives that what lies before weighs less than 2^-30.
func (s Smoothing) Memory() float64 { return max(s.Median, 30*s.HalfLife) }

// Smoother smooths readings one after another.
type Smoother interface {
	// Next takes the value at x (rising) and returns the smoothed one. A value that is not finite comes back as it is
	// and does not disturb those after it.
	Next(x, value float64) float64

	// Folded takes the finite readings of a fold at once, as so many even readings of one value; they stand after
	// first, evenly up to x. The result is off by no more than the folds that it depends on are high. A fold without a
	// finite reading comes back as NaN.
	Folded(first, x float64, f Fold) float64
}

// Grain is how long a stretch of the axis may be taken as one fold where only what comes after it is looked at: an
// eighth of the half-life, or a 512th of the median's stretch, as a mean tells less of a median.
func (s Smoothing) Grain() float64 { return max(s.HalfLife/8, s.Median/512) }

// Smoother makes a fresh one.
func (s Smoothing) Smoother() Smoother {
	if s.Median > 0 {
		return &median{window: s.Median}
	}
	return &exponential{halfLife: s.HalfLife}
}

// exponential is the moving mean in which a reading's weight halves for every halfLife of x that passes. The start is
// corrected for bias, as in Kingma and Ba, "Adam", 2015, section 3, so the first result equals the first value. O(1)
// per reading.
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

// Folded implements Smoother: each reading is taken for the mean, and the sum of n weights is that of a geometric
// series. O(1).
func (e *exponential) Folded(first, x float64, f Fold) float64 {
	n, mean := f.Finite(), f.Mean
	if n == 0 || e.halfLife <= 0 {
		return mean
	}
	if e.weight > 0 {
		first = max(first, e.at) // what was missing between counts as distance
		e.weight *= math.Exp2(-max(0, x-e.at) / e.halfLife)
	}
	added := float64(n)
	if q := math.Exp2(-max(0, x-first) / float64(n) / e.halfLife); q < 1 {
		added = (1 - math.Pow(q, float64(n))) / (1 - q)
	}
	e.weight += added
	e.mean += (mean - e.mean) * (added / e.weight)
	e.at = x
	return e.mean
}

// median is the median of the finite readings in (x - window, x], those of a fold counted as so many readings of its
// mean: the lower half in a heap with the highest on top, the upper half in one with the lowest on top. O(log n) per
// reading or fold for n of them in the window.
type median struct {
	window       float64
	lower, upper half
	queue        []*item // what is in the window, in order
}

type item struct {
	x, value float64
	n        int64
	at       int
	low      bool
}

type half struct {
	items []*item
	low   bool
	n     int64 // readings
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
	h.items, h.n = append(h.items, i), h.n+i.n
}
func (h *half) Pop() any {
	last := h.items[len(h.items)-1]
	h.items, h.n = h.items[:len(h.items)-1], h.n-last.n
	return last
}

func (m *median) Next(x, v float64) float64 { return m.add(x, 1, v) }

// Folded implements Smoother: each reading is taken for the mean without the lowest and the highest one, so that single
// spikes do not move it.
func (m *median) Folded(_, x float64, f Fold) float64 {
	n, v := f.Finite(), f.Mean
	if n > 3 {
		if trimmed := v + (v-f.Min+(v-f.Max))/float64(n-2); trimmed >= f.Min && trimmed <= f.Max {
			v = trimmed
		}
	}
	return m.add(x, n, v)
}

func (m *median) add(x float64, n int64, v float64) float64 {
	if n == 0 || math.IsNaN(v) || math.IsInf(v, 0) {
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
	i := &item{x: x, value: v, n: n}
	m.queue = append(m.queue, i)
	if m.lower.Len() > 0 && v <= m.lower.items[0].value {
		heap.Push(&m.lower, i)
	} else {
		heap.Push(&m.upper, i)
	}
	// The lower half's highest is the median: at most half of the readings are above it, and fewer than half below.
	for m.upper.n > m.lower.n {
		heap.Push(&m.lower, heap.Pop(&m.upper))
	}
	for top := m.lower.items[0]; m.lower.n-top.n >= m.upper.n+top.n; top = m.lower.items[0] {
		heap.Push(&m.upper, heap.Pop(&m.lower))
	}
	low := m.lower.items[0].value
	if m.lower.n > m.upper.n || m.upper.Len() == 0 {
		return low
	}
	return low + (m.upper.items[0].value-low)/2
}
