// Package filter is the line by which runs are filtered and sorted: the Common Expression Language (CEL) over a run,
// with a small vocabulary.
//
//	f, err := filter.Parse(`best("loss.val") < 0.3 && hyper.lr <= 0.01 && started > ago("7d")`, now)
//	f.Matches(run)         slowly, on a run in memory; store turns the same into SQL
//
// Vocabulary: state, verdict, title, note, who, host, commit (text); number, step, epoch, took (seconds; numbers);
// started, ended (times); tags (a list of texts); hyper.NAME or hyper["NAME"] (number, text, boolean or list);
// best(CURVE), last(CURVE), lowest(CURVE), highest(CURVE) (numbers); ago("7d"), timestamp("2026-11-01T00:00:00Z")
// (times); text("words") (whether title, note, tags, host or command contain them); has(hyper.NAME). Operators: && || !
// == != < <= > >= in + - * /; on texts contains, startsWith, endsWith.
//
// Absent values (a hyperparameter that the run has not, a figure of a curve without a number, the end of a running run)
// and values of another kind are equal to nothing and neither less nor greater: such a comparison is false, its
// negation by ! is true, and so is !=. Arithmetic with an absent value is absent.
//
// It imports nothing of ours.
package filter
