// Package sheet knows prediction sheets: a model's answers on a set of examples, of one split, at one step of a run.
// A sheet is handed over, and kept, as a few files of open formats (docs/predictions.md):
//
//	examples.jsonl   {"key": "val/v31/tug-2.npy", "true": "tug", "group": "v31"}    a line an example
//	scores.npy       a row an example, a column a class: shape (examples, classes)
//	predicted.npy    places of classes, or numbers: shape (examples)
//	media            bytes of pictures and sounds, one behind the other, where the lines say
//
// Only the first must be there. It stays the same from epoch to epoch, so it is stored once. Read holds a sheet whole
// in memory, in columns; what it takes is bounded by the limits below. Figures of a sheet are in core/assess.
package sheet
