package assess

import (
	"cmp"
	"slices"

	"kembrel/core/sheet"
)

// labels assesses answers of any of some classes. Exact match is the share of examples with all labels right and no
// other; Jaccard is the mean of the labels that are both true and answered over those that are either (Jaccard 1901;
// nothing true and nothing answered is 1); Hamming loss is the share of all decisions that is wrong (Tsoumakas and
// Katakis 2007). Means of classes leave out classes that are never true.
func (a *Assessment) labels(s *sheet.Sheet) {
	a.scores(s)
	k := len(s.Classes)
	a.Classes = make([]Class, k)
	answered := make([]int64, k) // of labelled examples
	cells := map[[2]int]int64{}
	found, right := make([][]int32, s.Len()), make([]bool, s.Len()) // what is both true and answered; all and no other
	for c, name := range s.Classes {
		a.Classes[c].Name = name
	}
	for i := range s.Len() {
		for _, c := range s.AnswerSets[i] {
			a.Classes[c].Predicted++
		}
		if !s.Labelled(i) {
			continue
		}
		a.Labelled++
		if right[i] = s.Right(i); right[i] {
			a.Right++
		}
		missed, added := s.Missed(i), s.Added(i)
		for _, c := range s.AnswerSets[i] {
			answered[c]++
		}
		for _, c := range s.TrueSets[i] {
			a.Classes[c].True++
			if _, is := slices.BinarySearch(missed, c); !is {
				found[i] = append(found[i], c)
				a.Classes[c].Right++
				cells[[2]int{int(c), int(c)}]++
			}
		}
		for _, t := range orNone(missed, len(added) > 0) {
			for _, p := range orNone(added, len(missed) > 0) {
				cells[[2]int{int(t), int(p)}]++
			}
		}
	}
	a.cells(cells)
	for c := range a.Classes {
		one := &a.Classes[c]
		one.Recall, one.Precision = Wilson(one.Right, one.True), Wilson(one.Right, answered[c])
		if one.True+answered[c] > 0 && a.Labelled > 0 {
			f1 := 2 * float64(one.Right) / float64(one.True+answered[c])
			one.F1 = &f1
		}
	}
	if a.Labelled == 0 {
		return
	}
	truth, answers, both := make([]float64, k), make([]float64, k), make([]float64, k)
	n, exact, alike := 0.0, 0.0, 0.0
	reset := func() {
		clear(truth)
		clear(answers)
		clear(both)
		n, exact, alike = 0, 0, 0
	}
	u := units(s)
	count := func(place int32) {
		i := u.order[place]
		n++
		if right[i] {
			exact++
		}
		for _, c := range s.TrueSets[i] {
			truth[c]++
		}
		for _, c := range s.AnswerSets[i] {
			answers[c]++
		}
		for _, c := range found[i] {
			both[c]++
		}
		if either := len(s.TrueSets[i]) + len(s.AnswerSets[i]) - len(found[i]); either > 0 {
			alike += float64(len(found[i])) / float64(either)
		} else if s.AnswerSets[i] != nil {
			alike++
		}
	}
	a.measure(u, count, reset, func() []named {
		var allTrue, allAnswers, allBoth, f1, classes float64
		for c := range k {
			allTrue += truth[c]
			allAnswers += answers[c]
			allBoth += both[c]
			if truth[c] > 0 {
				classes++
				f1 += 2 * both[c] / (truth[c] + answers[c])
			}
		}
		return []named{{"exact match", false, exact / n}, {"Jaccard, mean of examples", false, alike / n},
			{"F1, of all labels", false, 2 * allBoth / (allTrue + allAnswers)},
			{"F1, mean of classes", false, f1 / classes}, {"recall, of all labels", false, allBoth / allTrue},
			{"precision, of all labels", false, allBoth / allAnswers},
			{"Hamming loss", true, (allTrue + allAnswers - 2*allBoth) / (n * float64(k))}}
	})
	if s.Scores == nil {
		return
	}
	a.ranks(s)
	sum, classes := 0.0, 0.0
	for _, c := range a.Classes {
		if c.Average != nil {
			sum += *c.Average
			classes++
		}
	}
	if classes > 0 {
		a.Figures = append(a.Figures, Measured{Name: "average precision, mean of classes",
			Interval: Interval{Value: sum / classes}})
	}
}

// orNone is a list of classes, or none of them alone where something else was said in its place.
func orNone(list []int32, instead bool) []int32 {
	if len(list) == 0 && instead {
		return []int32{sheet.None}
	}
	return list
}

// cells keeps counts in order.
func (a *Assessment) cells(counts map[[2]int]int64) {
	for at, n := range counts {
		a.Cells = append(a.Cells, Cell{at[0], at[1], n})
	}
	slices.SortFunc(a.Cells, func(x, y Cell) int { return cmp.Or(x.True-y.True, x.Predicted-y.Predicted) })
}

// texts assesses answers that are texts: the share that is right to the letter, and the character and word error rates,
// which are the edits (Levenshtein 1966) over the characters or words of what is true, over all texts. No answer is an
// empty one.
func (a *Assessment) texts(s *sheet.Sheet) {
	type off struct{ characters, of, words, ofWords float64 }
	each := make([]off, s.Len())
	for i := range s.Len() {
		if !s.Labelled(i) {
			continue
		}
		a.Labelled++
		if s.Right(i) {
			a.Right++
		}
		truth, answer := *s.TrueTexts[i], sheet.Deref(s.AnswerTexts[i])
		n, of := sheet.CharactersOff(truth, answer)
		m, ofWords := sheet.WordsOff(truth, answer)
		each[i] = off{float64(n), float64(of), float64(m), float64(ofWords)}
	}
	if a.Labelled == 0 {
		return
	}
	var n, exact float64
	var sum off
	reset := func() { n, exact, sum = 0, 0, off{} }
	u := units(s)
	count := func(place int32) {
		i := u.order[place]
		n++
		if s.Right(int(i)) {
			exact++
		}
		o := each[i]
		sum = off{sum.characters + o.characters, sum.of + o.of, sum.words + o.words, sum.ofWords + o.ofWords}
	}
	a.measure(u, count, reset, func() []named {
		return []named{{"exact match", false, exact / n}, {"character error rate", true, sum.characters / sum.of},
			{"word error rate", true, sum.words / sum.ofWords}}
	})
}

// masks assesses classes of pixels: intersection over union (Jaccard 1901) and Dice (1945, which is F1) of each class
// over all pictures, their means over the classes that are true or answered anywhere, and the share of pixels that is
// right. Classes and cells count pixels, which are not independent, so that they have no intervals; the figures have
// those of drawing pictures.
func (a *Assessment) masks(s *sheet.Sheet) {
	k := len(s.Classes)
	counts := map[[2]int]int64{}
	a.Classes = make([]Class, k)
	for c, name := range s.Classes {
		a.Classes[c].Name = name
	}
	for i := range s.Len() {
		if !s.Labelled(i) {
			continue
		}
		a.Labelled++
		if s.Right(i) {
			a.Right++
		}
		for _, p := range s.Pixels[i] {
			counts[[2]int{int(p.True), int(p.Answer)}] += p.Count
			a.Pixels += p.Count
			a.Classes[p.True].True += p.Count
			if p.Answer != sheet.None {
				a.Classes[p.Answer].Predicted += p.Count
			}
			if p.True == p.Answer {
				a.Classes[p.True].Right += p.Count
			}
		}
	}
	a.cells(counts)
	for c := range a.Classes {
		one := &a.Classes[c]
		right, truth, answers := float64(one.Right), float64(one.True), float64(one.Predicted)
		if truth > 0 {
			one.Recall = &Interval{Value: right / truth}
		}
		if answers > 0 {
			one.Precision = &Interval{Value: right / answers}
		}
		if truth+answers > 0 {
			iou, dice := right/(truth+answers-right), 2*right/(truth+answers)
			one.IoU, one.F1 = &iou, &dice
		}
	}
	if a.Labelled == 0 {
		return
	}
	truth, answers, both := make([]float64, k), make([]float64, k), make([]float64, k)
	reset := func() {
		clear(truth)
		clear(answers)
		clear(both)
	}
	u := units(s)
	count := func(place int32) {
		i := u.order[place]
		for _, p := range s.Pixels[i] {
			truth[p.True] += float64(p.Count)
			if p.Answer != sheet.None {
				answers[p.Answer] += float64(p.Count)
			}
			if p.True == p.Answer {
				both[p.True] += float64(p.Count)
			}
		}
	}
	a.measure(u, count, reset, func() []named {
		var iou, dice, classes, right, all float64
		for c := range k {
			right += both[c]
			all += truth[c]
			if truth[c]+answers[c] == 0 {
				continue
			}
			classes++
			iou += both[c] / (truth[c] + answers[c] - both[c])
			dice += 2 * both[c] / (truth[c] + answers[c])
		}
		return []named{{"IoU, mean of classes", false, iou / classes}, {"Dice, mean of classes", false, dice / classes},
			{"pixel accuracy", false, right / all}}
	})
}
