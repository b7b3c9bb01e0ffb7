package sheet

import (
	"bytes"
	"errors"
	"image"
	_ "image/jpeg" // pictures that are looked at
	"io"
	"slices"
	"strings"

	"kembrel/core/chunk"
)

// Limits of what is looked at of inputs: bytes of media that are compared with each other, and pixels that are looked
// at.
const (
	mostHeld   = 256 << 20
	mostLooked = 200_000_000
)

// Inputs counts the examples that show what another shows too (the same text, or the same bytes under the same name of
// media), and those that show nothing: a text of white space alone among others that are not, a picture of one colour,
// a sound that never changes. Media beyond 256 MB are not looked at, nor pictures beyond 200 million pixels in all.
// Masks are no inputs.
func (s *Sheet) Inputs(media File) (doubled, blank int64, err error) {
	type shown struct {
		name  string
		bytes chunk.Digest
	}
	first := map[shown]int{}
	twice, empty := map[int]bool{}, map[int]bool{}
	note := func(i int, name string, content []byte) {
		at := shown{name, chunk.Sum(content)}
		if other, ok := first[at]; ok {
			twice[i], twice[other] = true, true
		} else {
			first[at] = i
		}
	}
	for i, text := range s.Texts {
		if strings.TrimSpace(text) == "" && (s.Media == nil || len(s.Media[i]) == 0) {
			empty[i] = true
		} else if text != "" {
			note(i, "", []byte(text))
		}
	}
	if media == nil || media.Size() > mostHeld {
		return int64(len(twice)), int64(len(empty)), nil
	}
	var buffer []byte
	pixels := 0
	seen := map[Span]bool{}
	for i, all := range s.Media {
		for name, at := range all {
			if s.Task == Masks && (name == TrueMask || name == AnswerMask) {
				continue
			}
			if seen[at] { // one picture for several examples is told apart by nobody
				twice[i] = true
				continue
			}
			seen[at] = true
			buffer = slices.Grow(buffer[:0], int(at.Size))[:at.Size]
			if _, err := media.ReadAt(buffer, at.At); err != nil && !errors.Is(err, io.EOF) {
				return 0, 0, err
			}
			note(i, name, buffer)
			if one(buffer, &pixels) {
				empty[i] = true
			}
		}
	}
	return int64(len(twice)), int64(len(empty)), nil
}

// one reports whether a picture is of one colour, or the samples of a WAV file are all the same. Other content is not
// looked at. pixels counts what was.
func one(content []byte, pixels *int) bool {
	if bytes.HasPrefix(content, []byte("RIFF")) {
		_, samples, ok := bytes.Cut(content, []byte("data"))
		return ok && len(samples) > 8 && bytes.Equal(samples[4:len(samples)-2], samples[6:])
	}
	config, _, err := image.DecodeConfig(bytes.NewReader(content))
	if err != nil || config.Width > MaxMaskSide || config.Height > MaxMaskSide ||
		*pixels+config.Width*config.Height > mostLooked || config.Width*config.Height < 2 {
		return false
	}
	*pixels += config.Width * config.Height
	picture, _, err := image.Decode(bytes.NewReader(content))
	if err != nil {
		return false
	}
	switch p := picture.(type) {
	case *image.Gray:
		return same(p.Pix, 1)
	case *image.Paletted:
		return same(p.Pix, 1)
	case *image.RGBA:
		return same(p.Pix, 4)
	case *image.NRGBA:
		return same(p.Pix, 4)
	}
	bounds := picture.Bounds()
	first := picture.At(bounds.Min.X, bounds.Min.Y)
	for y := bounds.Min.Y; y < bounds.Max.Y; y++ {
		for x := bounds.Min.X; x < bounds.Max.X; x++ {
			if picture.At(x, y) != first {
				return false
			}
		}
	}
	return true
}

// same reports whether pixels of so many bytes are all the same.
func same(pix []byte, size int) bool {
	return len(pix) > size && bytes.Equal(pix[size:], pix[:len(pix)-size])
}
