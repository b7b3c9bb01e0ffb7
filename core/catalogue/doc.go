// Package catalogue says how editions of a model are named, and what an edition still lacks for a standing:
//
//	vessel-classifier           a model
//	vessel-classifier#3         its edition 3
//	vessel-classifier/in-use    the edition that is in use at the moment
//
// A standing is guarded where it needs sign-offs. What counts is decided here; who may do what, and what is kept, is
// not.
package catalogue
