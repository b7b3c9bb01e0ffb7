package api

import (
	"bytes"
	"fmt"
	"math"
	"strconv"

	"github.com/danielgtaylor/huma/v2"
)

// Float is a number that may be NaN or infinite: in JSON a number, or one of "NaN", "Infinity", "-Infinity".
type Float float64

// Floats is a list of such numbers; null stands for NaN only where a field says so.
type Floats []float64

// AppendFloat appends the JSON form of v.
func AppendFloat(dst []byte, v float64) []byte {
	switch {
	case math.IsNaN(v):
		return append(dst, `"NaN"`...)
	case math.IsInf(v, 1):
		return append(dst, `"Infinity"`...)
	case math.IsInf(v, -1):
		return append(dst, `"-Infinity"`...)
	}
	return strconv.AppendFloat(dst, v, 'g', -1, 64)
}

// ParseFloat reads the JSON form. Text other than the three names is an error that says so.
func ParseFloat(text []byte) (float64, error) {
	switch string(text) {
	case `"NaN"`:
		return math.NaN(), nil
	case `"Infinity"`:
		return math.Inf(1), nil
	case `"-Infinity"`:
		return math.Inf(-1), nil
	}
	if len(text) > 0 && (text[0] == '-' || text[0] >= '0' && text[0] <= '9') {
		v, err := strconv.ParseFloat(string(text), 64)
		if err == nil {
			return v, nil
		}
		return 0, fmt.Errorf("number %.40s is outside what a 64-bit float holds; write \"Infinity\" if it is meant",
			text)
	}
	return 0, fmt.Errorf(`%.60s is not a number; write a number, "NaN", "Infinity" or "-Infinity"`, text)
}

// MarshalJSON implements json.Marshaler.
func (f Float) MarshalJSON() ([]byte, error) { return AppendFloat(nil, float64(f)), nil }

// UnmarshalJSON implements json.Unmarshaler.
func (f *Float) UnmarshalJSON(text []byte) error {
	v, err := ParseFloat(text)
	*f = Float(v)
	return err
}

// MarshalJSON implements json.Marshaler.
func (f Floats) MarshalJSON() ([]byte, error) {
	out := append(make([]byte, 0, 2+12*len(f)), '[')
	for i, v := range f {
		if i > 0 {
			out = append(out, ',')
		}
		out = AppendFloat(out, v)
	}
	return append(out, ']'), nil
}

// UnmarshalJSON implements json.Unmarshaler. It walks the list itself, as batches of readings are most of what the
// service reads; encoding/json has checked that it is valid JSON.
func (f *Floats) UnmarshalJSON(text []byte) error {
	rest := bytes.TrimSpace(text)
	if bytes.Equal(rest, []byte("null")) {
		*f = nil
		return nil
	}
	if len(rest) < 2 || rest[0] != '[' || rest[len(rest)-1] != ']' {
		return fmt.Errorf("%.40s is not a list of numbers", text)
	}
	rest = bytes.TrimSpace(rest[1 : len(rest)-1])
	out := make(Floats, 0, len(rest)/8)
	for len(rest) > 0 {
		item, after, more := bytes.Cut(rest, []byte{','})
		v, err := ParseFloat(bytes.TrimSpace(item))
		if err != nil {
			return fmt.Errorf("value %d: %w", len(out), err)
		}
		out = append(out, v)
		if rest = after; more && len(rest) == 0 {
			return fmt.Errorf("the list ends with a comma")
		}
	}
	*f = out
	return nil
}

func floatSchema() *huma.Schema {
	return &huma.Schema{OneOf: []*huma.Schema{
		{Type: huma.TypeNumber},
		{Type: huma.TypeString, Enum: []any{"NaN", "Infinity", "-Infinity"}},
	}}
}

// Schema tells OpenAPI how the number is written.
func (Float) Schema(huma.Registry) *huma.Schema { return floatSchema() }

// Schema tells OpenAPI how the list is written.
func (Floats) Schema(huma.Registry) *huma.Schema {
	return &huma.Schema{Type: huma.TypeArray, Items: floatSchema()}
}
