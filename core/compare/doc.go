// Package compare says how runs differ: here, whether one repeats another. It takes readings and returns figures, and imports core/curve only.
package compare
