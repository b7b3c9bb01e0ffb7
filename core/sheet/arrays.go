package sheet

import (
	"errors"
	"fmt"
	"math"

	"kembrel/core/tensor"
)

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
		s.Scores = make([]float64, 0, n*shape[1])
		if err := t.Floats(0, func(part []float64) error {
			s.Scores = append(s.Scores, part...)
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
