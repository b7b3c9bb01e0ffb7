package sheet

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"

	"kembrel/core/plain"
	"kembrel/core/tensor"
)

// File is one of the files of a sheet.
type File interface {
	io.ReaderAt
	Size() int64
}

// Line is a line of examples.jsonl.
type Line struct {
	Key       string          `json:"key"`
	True      json.RawMessage `json:"true,omitempty"`
	Predicted json.RawMessage `json:"predicted,omitempty"`
	Group     string          `json:"group,omitempty"`
	Text      string          `json:"text,omitempty"`
	Media     map[string]Span `json:"media,omitempty"`
	Own       map[string]any  `json:"own,omitempty"`
}

// Read reads a sheet from its files, of which examples.jsonl must be there. What is wrong with them is a *Wrong; other
// errors are those of reading.
func Read(says Says, files map[string]File) (*Sheet, error) {
	if err := says.Check(); err != nil {
		return nil, &Wrong{File: "sheet", What: err.Error()}
	}
	for name := range files {
		if !slices.Contains(Names, name) {
			return nil, &Wrong{File: name, What: "a sheet has no such file"}
		}
	}
	examples := files[ExamplesFile]
	if examples == nil {
		return nil, &Wrong{File: ExamplesFile, What: "it is not there"}
	}
	if examples.Size() > MaxBytes {
		return nil, &Wrong{File: ExamplesFile, What: fmt.Sprintf("it has %d bytes; at most %d", examples.Size(),
			MaxBytes)}
	}
	r := &reading{sheet: &Sheet{Says: says}, places: map[string]int32{}, seen: map[string]bool{},
		named: len(says.Classes) > 0, columns: map[string]int{}}
	for i, c := range says.Classes {
		r.places[c] = int32(i)
	}
	if media := files[MediaFile]; media != nil {
		r.media = media.Size()
	}
	if err := r.examples(io.NewSectionReader(examples, 0, examples.Size())); err != nil {
		return nil, err
	}
	if r.sheet.Len() == 0 {
		return nil, &Wrong{File: ExamplesFile, What: "there is no example in it"}
	}
	if err := r.arrays(files); err != nil {
		return nil, err
	}
	if says.Task == Masks {
		if err := r.masks(files[MediaFile]); err != nil {
			return nil, err
		}
	}
	return r.sheet, r.finish()
}

// reading is a sheet being read.
type reading struct {
	sheet   *Sheet
	places  map[string]int32
	named   bool // the classes were given; otherwise they are found, and sorted at the end
	indexed bool // classes were told by their places
	seen    map[string]bool
	columns map[string]int // places in sheet.Own
	media   int64          // bytes of media
	line    int
}

func (r *reading) wrong(format string, args ...any) error {
	return &Wrong{ExamplesFile, r.line, fmt.Sprintf(format, args...)}
}

func (r *reading) examples(from io.Reader) error {
	scanner := bufio.NewScanner(from)
	scanner.Buffer(make([]byte, maxLine), maxLine)
	for scanner.Scan() {
		r.line++
		text := bytes.TrimSpace(scanner.Bytes())
		if len(text) == 0 {
			continue
		}
		if r.sheet.Len() == MaxExamples {
			return r.wrong("a sheet has at most %d examples", MaxExamples)
		}
		d := json.NewDecoder(bytes.NewReader(text))
		d.DisallowUnknownFields()
		var l Line
		if err := d.Decode(&l); err != nil {
			return r.wrong("%v", err)
		}
		if err := r.add(&l); err != nil {
			return err
		}
	}
	if err := scanner.Err(); errors.Is(err, bufio.ErrTooLong) {
		r.line++
		return r.wrong("it has more than %d bytes", maxLine)
	} else if err != nil {
		return err
	}
	return nil
}

func (r *reading) add(l *Line) error {
	s := r.sheet
	switch {
	case l.Key == "" || len(l.Key) > maxKey || plain.Line(l.Key) != l.Key:
		return r.wrong("its key %.60q is empty, too long or cannot be shown", l.Key)
	case r.seen[l.Key]:
		return r.wrong("example %.100q is there twice", l.Key)
	case len(l.Group) > maxName || plain.Line(l.Group) != l.Group:
		return r.wrong("its group %.60q is too long or cannot be shown", l.Group)
	case len(l.Media) > MaxMedia:
		return r.wrong("it has %d media; at most %d", len(l.Media), MaxMedia)
	}
	r.seen[l.Key] = true
	i := s.Len()
	s.Keys = append(s.Keys, l.Key)
	if err := r.answers(l); err != nil {
		return r.wrong("%v", err)
	}
	if l.Group != "" || s.Groups != nil {
		s.Groups = append(grown(s.Groups, i), l.Group)
	}
	if l.Text != "" || s.Texts != nil {
		s.Texts = append(grown(s.Texts, i), plain.Text(l.Text))
	}
	if len(l.Media) > 0 || s.Media != nil {
		for name, at := range l.Media {
			if !mediaName.MatchString(name) {
				return r.wrong("media cannot be called %.60q", name)
			}
			if at.At < 0 || at.Size <= 0 || at.Size > r.media || at.At > r.media-at.Size {
				return r.wrong("its %s lies at %d and has %d bytes; the file media has %d", name, at.At, at.Size,
					r.media)
			}
		}
		s.Media = append(grown(s.Media, i), l.Media)
	}
	return r.own(i, l.Own)
}

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

// grown is a column with so many values, of which those that are missing are zero.
func grown[T any](column []T, n int) []T {
	if column == nil {
		return make([]T, n, n+1)
	}
	return column
}

func (r *reading) own(i int, own map[string]any) error {
	s := r.sheet
	for name, v := range own {
		at, known := r.columns[name]
		if !known {
			if err := CheckColumn(name); err != nil {
				return r.wrong("%v", err)
			}
			if len(s.Own) == MaxColumns {
				return r.wrong("column %q is one more than %d", name, MaxColumns)
			}
			at = len(s.Own)
			r.columns[name] = at
			s.Own = append(s.Own, Column{Name: name})
		}
		switch v.(type) {
		case nil, string, float64, bool:
		default:
			return r.wrong("column %s holds texts, numbers and booleans", name)
		}
		c := &s.Own[at]
		for len(c.Values) < i {
			c.Values = append(c.Values, nil)
		}
		c.Values = append(c.Values, v)
	}
	return nil
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

// arrays reads scores and answers.
func (r *reading) arrays(files map[string]File) error {
	s := r.sheet
	n := int64(s.Len())
	if f := files[ScoresFile]; f != nil {
		if s.Task != Classes && s.Task != Labels {
			return &Wrong{File: ScoresFile, What: "scores belong to classes"}
		}
		t, shape, err := openArray(ScoresFile, f, 2)
		if err != nil {
			return err
		}
		if shape[0] != n || shape[1] < 1 || shape[1] > MaxClasses || n*shape[1] > MaxScores {
			return &Wrong{File: ScoresFile,
				What: fmt.Sprintf("its shape is %v; a row for each of the %d examples and a column for each class are wanted, at most %d classes and %d scores",
					shape, n, MaxClasses, MaxScores)}
		}
		switch {
		case r.named && shape[1] != int64(len(s.Classes)):
			return &Wrong{File: ScoresFile, What: fmt.Sprintf("it has %d columns for %d classes", shape[1],
				len(s.Classes))}
		case !r.named && len(r.places) > 0:
			return &Wrong{File: ScoresFile, What: "name the classes, in the order of its columns"}
		case !r.named:
			r.number(int(shape[1]))
		}
		s.Scores = make([]float32, 0, n*shape[1])
		if err := t.Floats(0, func(part []float64) error {
			for _, v := range part {
				s.Scores = append(s.Scores, float32(v))
			}
			return nil
		}); err != nil {
			return orWrong(ScoresFile, err)
		}
	}
	if f := files[PredictedFile]; f != nil && s.Task == Labels {
		if err := r.answerSets(f); err != nil {
			return err
		}
	} else if f != nil {
		if s.Task != Classes && s.Task != Number {
			return &Wrong{File: PredictedFile, What: fmt.Sprintf("there is no such file of %s", s.Task)}
		}
		t, shape, err := openArray(PredictedFile, f, 1)
		if err != nil {
			return err
		}
		if shape[0] != n {
			return &Wrong{File: PredictedFile, What: fmt.Sprintf("it has %d answers for %d examples", shape[0], n)}
		}
		at := 0
		err = t.Floats(0, func(part []float64) error {
			for _, v := range part {
				if err := r.predicted(at, v); err != nil {
					return &Wrong{File: PredictedFile, What: err.Error()}
				}
				at++
			}
			return nil
		})
		if err != nil {
			return orWrong(PredictedFile, err)
		}
	}
	return nil
}

// answerSets reads an array with a row an example and a column a class: what is not 0 is answered.
func (r *reading) answerSets(f File) error {
	s := r.sheet
	t, shape, err := openArray(PredictedFile, f, 2)
	if err != nil {
		return err
	}
	n := int64(s.Len())
	if !r.named && len(r.places) == 0 && shape[1] > 0 && shape[1] <= MaxClasses {
		r.number(int(shape[1]))
	}
	if shape[0] != n || !r.named || shape[1] != int64(len(s.Classes)) || n*shape[1] > MaxScores {
		return &Wrong{File: PredictedFile,
			What: fmt.Sprintf("its shape is %v; a row for each of the %d examples and a column for each class that is named are wanted",
				shape, n)}
	}
	at := int64(0)
	for i := range s.AnswerSets {
		s.AnswerSets[i] = []int32{}
	}
	return orWrong(PredictedFile, t.Floats(0, func(part []float64) error {
		for _, v := range part {
			if v != 0 && v == v {
				i := at / shape[1]
				s.AnswerSets[i] = append(s.AnswerSets[i], int32(at%shape[1]))
			}
			at++
		}
		return nil
	}))
}

// orWrong is what is wrong with a file where its format is; other errors are those of reading.
func orWrong(file string, err error) error {
	if err != nil && errors.Is(err, tensor.ErrFormat) {
		return &Wrong{File: file, What: err.Error()}
	}
	return err
}

// predicted sets an answer of the array.
func (r *reading) predicted(i int, v float64) error {
	s := r.sheet
	if s.Task == Number {
		s.Value[i] = v
		return nil
	}
	switch {
	case v == None:
		s.Predicted[i] = None
	case v != math.Trunc(v) || v < 0 || v >= MaxClasses || r.named && v >= float64(len(s.Classes)):
		return fmt.Errorf("answer %d is %v, which is the place of no class; -1 is none", i+1, v)
	default:
		s.Predicted[i] = int32(v)
		r.indexed = r.indexed || !r.named
	}
	return nil
}

func openArray(name string, f File, dimensions int) (*tensor.File, []int64, error) {
	t, err := tensor.Open(f, f.Size())
	if err != nil {
		return nil, nil, orWrong(name, err)
	}
	if t.Format != "npy" || len(t.Tensors[0].Shape) != dimensions || t.Tensors[0].Dtype[0] == 'C' {
		return nil, nil, &Wrong{File: name, What: fmt.Sprintf("an NPY array of numbers with %d dimensions is wanted",
			dimensions)}
	}
	return t, t.Tensors[0].Shape, nil
}

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
func largest(row []float32) int32 {
	at := int32(None)
	for i, v := range row {
		if v == v && (at == None || v > row[at]) {
			at = int32(i)
		}
	}
	return at
}
