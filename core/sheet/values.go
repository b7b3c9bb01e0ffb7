package sheet

import (
	"cmp"
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"

	"kembrel/core/plain"
)

// answers takes what is true of an example and what was answered.
func (r *reading) answers(l *Line) error {
	s := r.sheet
	var err1, err2 error
	switch s.Task {
	case Number:
		s.Target, err1 = with(s.Target, number, l.True)
		s.Value, err2 = with(s.Value, number, l.Predicted)
	case Labels:
		s.TrueSets, err1 = with(s.TrueSets, r.set, l.True)
		s.AnswerSets, err2 = with(s.AnswerSets, r.set, l.Predicted)
	case Text:
		s.TrueTexts, err1 = with(s.TrueTexts, text, l.True)
		s.AnswerTexts, err2 = with(s.AnswerTexts, text, l.Predicted)
	case Masks:
		if len(l.True)+len(l.Predicted) > 0 {
			return fmt.Errorf("masks are among its media, as %s and %s", TrueMask, AnswerMask)
		}
	default:
		s.True, err1 = with(s.True, r.class, l.True)
		s.Predicted, err2 = with(s.Predicted, r.class, l.Predicted)
	}
	return cmp.Or(err1, err2)
}

// with is a column with one more value.
func with[T any](column []T, read func(json.RawMessage) (T, error), from json.RawMessage) ([]T, error) {
	v, err := read(from)
	return append(column, v), err
}

// text reads a text; nil: there is none.
func text(from json.RawMessage) (*string, error) {
	if len(from) == 0 || string(from) == "null" {
		return nil, nil
	}
	var out string
	if err := json.Unmarshal(from, &out); err != nil {
		return nil, fmt.Errorf("%.60s is no text", from)
	}
	out = plain.Text(out)
	return &out, nil
}

// set reads classes, a list of names or places; nil: there is none.
func (r *reading) set(from json.RawMessage) ([]int32, error) {
	if len(from) == 0 || string(from) == "null" {
		return nil, nil
	}
	var list []json.RawMessage
	if err := json.Unmarshal(from, &list); err != nil {
		return nil, fmt.Errorf("%.60s is no list of classes", from)
	}
	if len(list) > MaxClasses {
		return nil, fmt.Errorf("it has %d labels; there are at most %d classes", len(list), MaxClasses)
	}
	out := make([]int32, 0, len(list))
	for _, one := range list {
		place, err := r.class(one)
		if err != nil {
			return nil, err
		}
		if place != None {
			out = append(out, place)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// number reads a number; NaN: there is none.
func number(text json.RawMessage) (float64, error) {
	if len(text) == 0 || string(text) == "null" {
		return math.NaN(), nil
	}
	v, err := strconv.ParseFloat(string(text), 64)
	if err != nil || math.IsInf(v, 0) {
		return 0, fmt.Errorf("%.60s is no number", text)
	}
	return v, nil
}

// class reads the name of a class, or its place.
func (r *reading) class(text json.RawMessage) (int32, error) {
	if len(text) == 0 || string(text) == "null" {
		return None, nil
	}
	if text[0] != '"' {
		place, err := strconv.Atoi(string(text))
		switch {
		case err != nil || place < 0 || place >= MaxClasses:
			return 0, fmt.Errorf("%.60s is no class: a class is told by its name, or by its place from 0", text)
		case r.named && place >= len(r.sheet.Classes):
			return 0, fmt.Errorf("class %d is none of the %d classes, which are counted from 0", place,
				len(r.sheet.Classes))
		}
		r.indexed = r.indexed || !r.named
		return int32(place), nil
	}
	var name string
	if err := json.Unmarshal(text, &name); err != nil {
		return 0, err
	}
	if name == "" {
		return None, nil
	}
	if place, ok := r.places[name]; ok {
		return place, nil
	}
	if r.named {
		return 0, fmt.Errorf("%.60q is none of the classes", name)
	}
	if err := checkName("class", name); err != nil {
		return 0, err
	}
	if len(r.places) == MaxClasses {
		return 0, fmt.Errorf("there are more than %d classes", MaxClasses)
	}
	place := int32(len(r.places))
	r.places[name] = place
	return place, nil
}
