package sheet

import (
	"math"
	"slices"
)

// Group is the group of an example; "": none.
func (s *Sheet) Group(i int) string {
	if s.Groups == nil {
		return ""
	}
	return s.Groups[i]
}

// Text is the text of an example; "": none.
func (s *Sheet) Text(i int) string {
	if s.Texts == nil {
		return ""
	}
	return s.Texts[i]
}

// Deref is a text that there may not be.
func Deref(text *string) string {
	if text == nil {
		return ""
	}
	return *text
}

// Score is the score of the answer; NaN: there is none.
func (s *Sheet) Score(i int) float64 {
	if s.Scores == nil || s.Task != Classes || s.Predicted[i] == None {
		return math.NaN()
	}
	return s.Row(i)[s.Predicted[i]]
}

// Margin is how far the highest score is above the next; NaN: there are no two.
func (s *Sheet) Margin(i int) float64 {
	first, second := math.NaN(), math.NaN()
	if s.Task != Classes {
		return first
	}
	for _, v := range s.Row(i) {
		switch {
		case math.IsNaN(v):
		case math.IsNaN(first) || v > first:
			first, second = v, first
		case math.IsNaN(second) || v > second:
			second = v
		}
	}
	return first - second
}

// Error is how far an answer is off; NaN: not known. Of numbers the answer less what is true; of labels the share of
// those true or answered that are not both (Jaccard 1901); of texts the character error rate; of masks one less the
// mean of the intersection over union of the classes that are true or answered in the picture.
func (s *Sheet) Error(i int) float64 {
	switch {
	case !s.Labelled(i):
	case s.Task == Number:
		return s.Value[i] - s.Target[i]
	case s.Task == Labels && s.AnswerSets[i] != nil:
		missed, added := s.Missed(i), s.Added(i)
		if all := len(s.TrueSets[i]) + len(added); all > 0 {
			return float64(len(missed)+len(added)) / float64(all)
		}
		return 0
	case s.Task == Text && s.AnswerTexts[i] != nil:
		off, of := CharactersOff(*s.TrueTexts[i], *s.AnswerTexts[i])
		return float64(off) / float64(max(1, of))
	case s.Task == Masks:
		return s.overlapError(i)
	}
	return math.NaN()
}

// overlapError is the error of a mask.
func (s *Sheet) overlapError(i int) float64 {
	inside, union := map[int32]int64{}, map[int32]int64{}
	for _, p := range s.Pixels[i] {
		union[p.True] += p.Count
		switch p.Answer {
		case p.True:
			inside[p.True] += p.Count
		case None:
		default:
			union[p.Answer] += p.Count
		}
	}
	sum := 0.0
	for c, n := range union {
		sum += float64(inside[c]) / float64(n)
	}
	if len(union) == 0 {
		return 0
	}
	return 1 - sum/float64(len(union))
}

// Is reports whether a class is true of an example.
func (s *Sheet) Is(i int, class int32) bool {
	if s.Task == Classes {
		return s.True[i] == class
	}
	_, is := slices.BinarySearch(s.TrueSets[i], class)
	return is
}

// Missed are the classes that are true and not answered, Added those that are answered and not true.
func (s *Sheet) Missed(i int) []int32 { return without(s.TrueSets[i], s.AnswerSets[i]) }

// Added are the classes that are answered and not true.
func (s *Sheet) Added(i int) []int32 { return without(s.AnswerSets[i], s.TrueSets[i]) }

// without are the values of a rising list that another has not.
func without(list, others []int32) (out []int32) {
	for _, v := range list {
		if _, both := slices.BinarySearch(others, v); !both {
			out = append(out, v)
		}
	}
	return out
}

// Names are the names of classes; nil of nil.
func (s *Sheet) Names(set []int32) []string {
	if set == nil {
		return nil
	}
	out := make([]string, len(set))
	for i, c := range set {
		out[i] = s.Classes[c]
	}
	return out
}

// floor is the least probability that a logarithm is taken of.
const floor = 1e-15

// Loss is the negative natural logarithm of the score of the true class, the score at least 1e-15; NaN: there is none.
func (s *Sheet) Loss(i int) float64 {
	if s.Scores == nil || s.Task != Classes || s.True[i] == None {
		return math.NaN()
	}
	return -math.Log(max(floor, s.Row(i)[s.True[i]]))
}
