package sheet

import "math"

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

// Score is the score of the answer; NaN: there is none.
func (s *Sheet) Score(i int) float64 {
	if s.Scores == nil || s.Predicted[i] == None {
		return math.NaN()
	}
	return float64(s.Row(i)[s.Predicted[i]])
}

// Margin is how far the highest score is above the next; NaN: there are no two.
func (s *Sheet) Margin(i int) float64 {
	first, second := math.NaN(), math.NaN()
	for _, x := range s.Row(i) {
		switch v := float64(x); {
		case math.IsNaN(v):
		case math.IsNaN(first) || v > first:
			first, second = v, first
		case math.IsNaN(second) || v > second:
			second = v
		}
	}
	return first - second
}

// floor is the least probability that a logarithm is taken of.
const floor = 1e-15

// Loss is the negative natural logarithm of the score of the true class, the score at least 1e-15; NaN: there is none.
func (s *Sheet) Loss(i int) float64 {
	if s.Scores == nil || s.True[i] == None {
		return math.NaN()
	}
	return -math.Log(max(floor, float64(s.Row(i)[s.True[i]])))
}
