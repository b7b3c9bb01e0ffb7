package sheet

import (
	"bytes"
	"fmt"
	"slices"
	"strconv"
)

// number names k classes by their places.
func (r *reading) number(k int) {
	r.sheet.Numbered = true
	for i := range k {
		r.sheet.Classes = append(r.sheet.Classes, strconv.Itoa(i))
	}
	r.named = true
}

// finish names the classes that were found and finds answers from scores.
func (r *reading) finish() error {
	s := r.sheet
	for i := range s.Own {
		for c := &s.Own[i]; len(c.Values) < s.Len(); {
			c.Values = append(c.Values, nil)
		}
	}
	slices.SortFunc(s.Own, func(a, b Column) int { return bytes.Compare([]byte(a.Name), []byte(b.Name)) })
	if !s.Task.Classed() || s.Task == Masks {
		return nil
	}
	most := int32(None)
	r.each(func(place int32) int32 { most = max(most, place); return place })
	switch {
	case len(s.Classes) > 0:
		if int(most) >= len(s.Classes) {
			return &Wrong{File: ExamplesFile,
				What: fmt.Sprintf("class %d is none of the %d classes, which are counted from 0",
					most, len(s.Classes))}
		}
	case r.indexed && len(r.places) > 0:
		return &Wrong{File: ExamplesFile, What: "some classes are told by name and some by place; name all classes"}
	case r.indexed:
		r.number(int(most) + 1)
	case len(r.places) == 0:
		return &Wrong{File: ExamplesFile, What: "no example says what is true or what was answered"}
	default:
		names := make([]string, len(r.places))
		for name, place := range r.places {
			names[place] = name
		}
		s.Classes = slices.Sorted(slices.Values(names))
		to := make([]int32, len(names))
		for i, name := range names {
			at, _ := slices.BinarySearch(s.Classes, name)
			to[i] = int32(at)
		}
		r.each(func(place int32) int32 { return to[place] })
		for _, sets := range [][][]int32{s.TrueSets, s.AnswerSets} {
			for _, set := range sets {
				slices.Sort(set)
			}
		}
	}
	if s.Scores == nil {
		return nil
	}
	for i := range s.Predicted {
		if s.Predicted[i] == None {
			s.Predicted[i] = largest(s.Row(i))
		}
	}
	for i := range s.AnswerSets {
		if s.AnswerSets[i] != nil {
			continue
		}
		s.AnswerSets[i] = []int32{}
		for c, v := range s.Row(i) {
			if v >= LabelFrom {
				s.AnswerSets[i] = append(s.AnswerSets[i], int32(c))
			}
		}
	}
	return nil
}

// LabelFrom is the score from which on a label is answered, where only scores are told.
const LabelFrom = 0.5

// each sets every place of a class that is true or answered to what to makes of it.
func (r *reading) each(to func(int32) int32) {
	s := r.sheet
	for _, column := range [][]int32{s.True, s.Predicted} {
		for i, place := range column {
			if place != None {
				column[i] = to(place)
			}
		}
	}
	for _, sets := range [][][]int32{s.TrueSets, s.AnswerSets} {
		for _, set := range sets {
			for i, place := range set {
				set[i] = to(place)
			}
		}
	}
}

// largest is the place of the largest score, the first of several; None where all are NaN.
func largest(row []float64) int32 {
	at := int32(None)
	for i, v := range row {
		if v == v && (at == None || v > row[at]) {
			at = int32(i)
		}
	}
	return at
}
