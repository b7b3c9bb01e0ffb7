// Package space reads a space of hyperparameter settings and picks settings from it: every one of a grid, or some at
// random. The same space, strategy and seed pick the same settings, trial by trial, so that an interrupted search goes
// on where it was. docs/search.md has the format.
//
//	space: 1
//	hyperparameters:
//	  optimiser: {choice: [adam, momentum]}
//	  lr:        {real: [0.0003, 0.03], log: true}
//	  depth:     {integer: [1, 4]}
//	  momentum:  {real: [0.8, 0.99], when: {optimiser: momentum}}
//	  epochs:    12
//
// It imports core/hyper only.
package space
