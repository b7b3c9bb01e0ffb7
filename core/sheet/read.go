package sheet

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"

	"kembrel/core/plain"
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
