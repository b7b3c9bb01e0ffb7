package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/png"
	"io"
	"slices"
)

// The media that are masks: pictures of one size, whose pixels are the places of classes. Both are PNG, with a palette
// or in grey of 8 bits.
const (
	TrueMask   = "true"
	AnswerMask = "predicted"
)

// Void is the index of pixels that are of no class and are left out.
const Void = 255

// Limits of masks.
const (
	maxMaskBytes = 16 << 20
	MaxMaskSide  = 8192
	MaxPixels    = 1_000_000_000 // of all masks of a sheet
)

// masks counts the pixels of each pair of masks.
func (r *reading) masks(media File) error {
	s := r.sheet
	if media == nil {
		return &Wrong{File: MediaFile, What: "it is not there; masks lie in it"}
	}
	if len(s.Classes) > Void {
		return &Wrong{File: "sheet", What: fmt.Sprintf("masks have at most %d classes", Void)}
	}
	n := s.Len()
	s.Pixels, s.TrueSets, s.AnswerSets = make([][]PixelCount, n), make([][]int32, n), make([][]int32, n)
	total := 0
	seen := false
	for i, all := range s.Media {
		at, ok := all[AnswerMask]
		if !ok {
			continue
		}
		seen = true
		answer, err := mask(media, at, AnswerMask)
		if err != nil {
			return maskWrong(s.Keys[i], err)
		}
		if total += len(answer.Pix); total > MaxPixels {
			return &Wrong{File: MediaFile, What: fmt.Sprintf("its masks have more than %d pixels", MaxPixels)}
		}
		if s.AnswerSets[i], err = classesIn(answer, len(s.Classes)); err != nil {
			return maskWrong(s.Keys[i], err)
		}
		if at, ok = all[TrueMask]; !ok {
			continue
		}
		truth, err := mask(media, at, TrueMask)
		if err == nil && truth.Rect != answer.Rect {
			err = fmt.Errorf("its masks are %d x %d and %d x %d pixels", truth.Rect.Dx(), truth.Rect.Dy(),
				answer.Rect.Dx(), answer.Rect.Dy())
		}
		if err != nil {
			return maskWrong(s.Keys[i], err)
		}
		if s.TrueSets[i], err = classesIn(truth, len(s.Classes)); err != nil {
			return maskWrong(s.Keys[i], err)
		}
		s.Pixels[i] = countPixels(truth, answer)
	}
	if !seen {
		return &Wrong{File: MediaFile, What: fmt.Sprintf("no example has a mask %s", AnswerMask)}
	}
	return nil
}

// maskWrong says which example has a mask that is wrong; other errors are those of reading.
func maskWrong(key string, err error) error {
	var reading *readError
	if errors.As(err, &reading) {
		return reading.error
	}
	return &Wrong{File: MediaFile, What: fmt.Sprintf("example %.100q: %v", key, err)}
}

// readError is an error of reading, not of what was read.
type readError struct{ error }

// mask reads a mask. Its size is looked at before memory is taken for it.
func mask(media File, at Span, name string) (*image.Gray, error) {
	if at.Size > maxMaskBytes {
		return nil, fmt.Errorf("its mask %s has %d bytes; at most %d", name, at.Size, maxMaskBytes)
	}
	content := make([]byte, at.Size)
	if _, err := media.ReadAt(content, at.At); err != nil && !errors.Is(err, io.EOF) {
		return nil, &readError{err}
	}
	config, err := png.DecodeConfig(bytes.NewReader(content))
	if err != nil {
		return nil, fmt.Errorf("its mask %s is no PNG: %v", name, err)
	}
	if config.Width > MaxMaskSide || config.Height > MaxMaskSide {
		return nil, fmt.Errorf("its mask %s has %d x %d pixels; at most %d to a side", name, config.Width, config.Height,
			MaxMaskSide)
	}
	picture, err := png.Decode(bytes.NewReader(content))
	if err != nil {
		return nil, fmt.Errorf("its mask %s is no PNG: %v", name, err)
	}
	switch p := picture.(type) {
	case *image.Paletted:
		return &image.Gray{Pix: p.Pix, Stride: p.Stride, Rect: p.Rect}, nil
	case *image.Gray:
		return p, nil
	}
	return nil, fmt.Errorf("its mask %s has colours; one with a palette is wanted, or grey of 8 bits", name)
}

// classesIn are the classes in a mask, rising.
func classesIn(m *image.Gray, classes int) ([]int32, error) {
	var seen [256]bool
	for _, v := range m.Pix {
		seen[v] = true
	}
	out := []int32{}
	for v, is := range seen[:Void] {
		if is && v >= classes {
			return nil, fmt.Errorf("a pixel is %d, which is none of the %d classes, which are counted from 0; %d is left out",
				v, classes, Void)
		}
		if is {
			out = append(out, int32(v))
		}
	}
	return out, nil
}

// countPixels counts what is answered for what.
func countPixels(truth, answer *image.Gray) []PixelCount {
	var counts [256][256]int32
	for i, t := range truth.Pix {
		counts[t][answer.Pix[i]]++
	}
	out := []PixelCount{}
	for t := range Void {
		for a, n := range counts[t] {
			if n == 0 {
				continue
			}
			if a == Void { // no answer is wrong, whatever is true
				a = None
			}
			out = append(out, PixelCount{int32(t), int32(a), int64(n)})
		}
	}
	return slices.Clip(out)
}
