// Package curve is the arithmetic of curves: readings on a shared axis, their packed form in the journal, their
// summaries, smoothing, and the cut between the legs of a run.
//
// A curve is a series of readings of one measure on one split, named measure first: "loss.train", "loss.val",
// "host.cpu". A reading stands at a point (step, epoch, time) and has a value; NaN and the infinities are values.
//
//	batch := curve.Batch{
//		Axis:    []curve.Point{{Step: 40, Epoch: 1, Time: 1790000000000}},
//		Columns: []curve.Column{{Curve: 3, Values: []float64{0.71}}},
//	}
//	payload := curve.AppendJournal(nil, batch) // 20-odd bytes
//
// Nothing here knows a database, a file or a protocol; it imports nothing of ours.
package curve
