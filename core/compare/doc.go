// Package compare says how runs differ: which is best and whether that is more than the noise between seeds (Groups,
// Rank, Between), what differed in what went in (Differences), how their curves lie to each other (Less, Band), which
// hyperparameter mattered (Influences), which runs no other beats in every figure (Undominated), and whether one
// repeats another (Repeats). It takes plain values and returns figures, and imports core/curve and core/hyper only.
// Chance is seeded: the same runs give the same figures. docs/comparing.md states the methods.
//
//	groups := compare.Groups(runs)          // runs that differ only in the seed stand together
//	compare.Rank(groups, lower)             // the best first
//	compare.Between(a.Best, b.Best)         // difference of two means with a 95 % interval
package compare
