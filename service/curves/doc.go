// Package curves answers for curves: windows folded to pixels, smoothed, aligned, or whole.
package curves
