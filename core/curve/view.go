package curve

import (
	"fmt"
	"math"
)

// By is the axis on which a curve is looked at.
type By string

// The axes.
const (
	ByStep  By = "step"
	ByEpoch By = "epoch"
	ByTime  By = "time" // milliseconds since 1970 UTC
)

// At is where a point stands on an axis; NaN where its epoch is unknown and wanted.
func (b By) At(p Point) float64 {
	switch b {
	case ByEpoch:
		return p.Epoch
	case ByTime:
		return float64(p.Time)
	}
	return float64(p.Step)
}

// Window is a stretch of an axis, both ends included, cut into pixels of one width. Pixel i covers [i Width, (i+1)
// Width), so the same width gives the same pixels in every window, and what comes in later alters none but the last.
type Window struct {
	By       By
	From, To float64
	Width    float64 // 0: every reading by itself
}

// PixelWidth is the least width of the form (4, 5, 6 or 7) 2^k that needs at most so many pixels for the stretch; of
// steps and times a whole number. 0 for an empty stretch.
func PixelWidth(by By, from, to float64, pixels int) float64 {
	want := (to - from) / float64(max(1, pixels-1))
	if !(want > 0) || math.IsInf(want, 0) {
		return 0
	}
	_, e := math.Frexp(want)
	for m := 4.0; ; m++ {
		w := math.Ldexp(m, e-3)
		if m == 8 {
			w = math.Ldexp(1, e)
		}
		if w >= want {
			if by != ByEpoch {
				return max(1, math.Ceil(w))
			}
			return w
		}
	}
}

// Check says what is wrong with a window, or nil.
func (w Window) Check() error {
	switch {
	case w.By != ByStep && w.By != ByEpoch && w.By != ByTime:
		return fmt.Errorf("the axis is step, epoch or time, not %q", string(w.By))
	case math.IsNaN(w.From) || math.IsNaN(w.To) || w.To < w.From:
		return fmt.Errorf("the window from %v to %v is empty", w.From, w.To)
	case w.Width < 0 || math.IsNaN(w.Width) || math.IsInf(w.Width, 0):
		return fmt.Errorf("a pixel cannot be %v wide", w.Width)
	}
	return nil
}

// Fits reports whether a fold whose readings stand after first and up to last may be taken as one: all of it lies in
// the window and it spans at most a quarter of a pixel, or has at most a share of a pixel's readings, as small is set
// by the caller, where epochs are whole numbers and it spans a step between two. What does not fit is read at a finer
// level. What smoothing needs before the window fits if it spans at most the smoothing's grain.
func (w Window) Fits(first, last Point, small bool, smoothing Smoothing) bool {
	a, b := w.By.At(first), w.By.At(last)
	span := math.Abs(b - a)
	if b < w.From {
		return small || span <= max(w.Width/4, smoothing.Grain())
	}
	return (small || span <= w.Width/4) && a >= w.From && b <= w.To
}

// Before is the window with so much more before it as smoothing needs.
func (w Window) Before(smoothing Smoothing) Window {
	w.From -= smoothing.Memory()
	return w
}

// Misses reports whether such a fold lies outside the window altogether.
func (w Window) Misses(first, last Point) bool {
	return w.By.At(last) < w.From || w.By.At(first) > w.To
}

// Reducer folds what lies in one pixel together, and smooths. Add readings and folds in the order of the curve, with
// those that smoothing needs before the window.
type Reducer struct {
	Window   Window
	Smoother Smoother  // nil: none
	Folds    []Fold    // one per pixel that has readings
	Smooth   []float64 // of each pixel, smoothed up to its last reading
	pixel    float64
}

// Continue makes a reducer without a smoother that goes on behind what was reduced in the same pixels before. It takes
// the folds over.
func Continue(w Window, folds []Fold) Reducer {
	r := Reducer{Window: w, Folds: folds}
	if n := len(folds); n > 0 {
		if r.pixel = w.By.At(folds[n-1].Last.Point); w.Width > 0 {
			r.pixel = math.Floor(r.pixel / w.Width)
		}
	}
	return r
}

// Reading adds one reading, if it lies in the window. O(1).
func (r *Reducer) Reading(v Reading) {
	x := r.Window.By.At(v.Point)
	smooth := 0.0
	if r.Smoother != nil {
		smooth = r.Smoother.Next(x, v.Value)
	}
	if x >= r.Window.From && x <= r.Window.To {
		r.add(x, One(v), smooth)
	}
}

// Readings adds the readings at points, as Reading does for each. len(points) must equal len(values). O(n).
func (r *Reducer) Readings(points []Point, values []float64) {
	w := r.Window
	if w.Width == 0 || r.Smoother != nil {
		for i, v := range values {
			r.Reading(Reading{points[i], v})
		}
		return
	}
	for from := 0; from < len(values); {
		x := w.By.At(points[from])
		if !(x >= w.From && x <= w.To) {
			from++
			continue
		}
		// All that follow and stand in the same pixel are folded at once.
		pixel := math.Floor(x / w.Width)
		low, high := math.Max(pixel*w.Width, w.From), math.Min((pixel+1)*w.Width, math.Nextafter(w.To, math.Inf(1)))
		to := from + 1
		for to < len(values) {
			if at := w.By.At(points[to]); !(at >= low && at < high) {
				break
			}
			to++
		}
		r.add(x, foldOf(points[to-1], values[from:to]), 0)
		from = to
	}
}

// Fold adds a fold that fits, whose readings stand after first. O(1), with a median O(log n).
func (r *Reducer) Fold(first Point, f Fold) {
	x := r.Window.By.At(f.Last.Point)
	smooth := 0.0
	if r.Smoother != nil {
		smooth = r.Smoother.Folded(r.Window.By.At(first), x, f)
		if math.IsNaN(f.Last.Value) || math.IsInf(f.Last.Value, 0) {
			smooth = f.Last.Value // as with single readings
		}
	}
	if x >= r.Window.From && x <= r.Window.To {
		r.add(x, f, smooth)
	}
}

func (r *Reducer) add(x float64, f Fold, smooth float64) {
	pixel := x
	if r.Window.Width > 0 {
		pixel = math.Floor(x / r.Window.Width)
	}
	if n := len(r.Folds); n > 0 && pixel == r.pixel && r.Window.Width > 0 {
		r.Folds[n-1].Add(f)
	} else {
		r.Folds, r.pixel = append(r.Folds, f), pixel
	}
	if r.Smoother != nil {
		r.Smooth = append(r.Smooth[:min(len(r.Smooth), len(r.Folds)-1)], smooth)
	}
}
