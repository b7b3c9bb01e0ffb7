package assess

import (
	"slices"

	"kembrel/core/sheet"
)

// Cutoff says what answering a class from a score on comes to, against the rest.
type Cutoff struct {
	At        float64  `json:"at" doc:"Answered where its score is at least this"`
	Answered  int64    `json:"answered"`
	Right     int64    `json:"right"`
	Recall    *float64 `json:"recall,omitempty"`
	Precision *float64 `json:"precision,omitempty"`
	False     *float64 `json:"false_rate,omitempty" doc:"Of the examples of other classes, the share that is answered so"`
	F1        *float64 `json:"f1,omitempty"`
}

// Sure says what answering only where the highest score is at least so much comes to, over all classes.
type Sure struct {
	At       float64   `json:"at"`
	Answered int64     `json:"answered" doc:"Examples that get an answer"`
	Labelled int64     `json:"labelled"`
	Right    int64     `json:"right"`
	Accuracy *Interval `json:"accuracy,omitempty" doc:"Of the labelled ones that get an answer"`
}

// mostCutoffs is how many cutoffs a table has.
const mostCutoffs = 101

// Cutoffs are what each cutoff of a class's score comes to, from high to low: at most 101 of the scores that there are,
// evenly among the examples.
func Cutoffs(s *sheet.Sheet, class int) []Cutoff {
	type scored struct {
		score float64
		is    bool
	}
	var list []scored
	all := int64(0)
	for i := range s.Len() {
		if row := s.Row(i); row != nil && s.Labelled(i) && row[class] == row[class] {
			is := s.Is(i, int32(class))
			list = append(list, scored{row[class], is})
			if is {
				all++
			}
		}
	}
	slices.SortFunc(list, func(x, y scored) int {
		switch {
		case x.score > y.score:
			return -1
		case x.score < y.score:
			return 1
		}
		return 0
	})
	out := []Cutoff{}
	c, step := Cutoff{}, 1+(len(list)-1)/(mostCutoffs-1)
	last := 0
	for i, x := range list {
		c.Answered++
		if x.is {
			c.Right++
		}
		if i+1 < len(list) && (list[i+1].score == x.score || i+1-last < step) {
			continue
		}
		last = i + 1
		c.At = float64(x.score)
		c.Recall, c.Precision = ratio(c.Right, all), ratio(c.Right, c.Answered)
		c.False, c.F1 = ratio(c.Answered-c.Right, int64(len(list))-all), ratio(2*c.Right, all+c.Answered)
		out = append(out, c)
	}
	return out
}

// Sures are what each cutoff of the answers' scores comes to, from 0 to 0.99 in hundredths: of probabilities.
func Sures(s *sheet.Sheet) []Sure {
	out := make([]Sure, 100)
	for i := range out {
		out[i].At = float64(i) / 100
	}
	for i := range s.Len() {
		score := s.Score(i)
		if !(score >= 0) {
			continue
		}
		c := &out[min(99, int(score*100+1e-5))]
		c.Answered++
		if s.Labelled(i) {
			c.Labelled++
		}
		if s.Right(i) {
			c.Right++
		}
	}
	for i := 98; i >= 0; i-- {
		out[i].Answered += out[i+1].Answered
		out[i].Labelled += out[i+1].Labelled
		out[i].Right += out[i+1].Right
	}
	for i := range out {
		out[i].Accuracy = Wilson(out[i].Right, out[i].Labelled)
	}
	return out
}

func ratio(a, b int64) *float64 {
	if b == 0 {
		return nil
	}
	v := float64(a) / float64(b)
	return &v
}
