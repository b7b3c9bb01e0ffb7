// Package hyper says what a hyperparameter may be: a typed value fixed before training. Dotted names nest.
//
//	{"lr": 0.03, "layers": [384, 128, 6], "augment.shift": true, "optimiser": "momentum"}
//
// Values are as encoding/json decodes them with UseNumber. It imports nothing of ours.
package hyper

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Limits of one run's hyperparameters.
const (
	MaxCount = 2000  // hyperparameters of a run
	MaxName  = 200   // bytes of a name
	MaxText  = 10000 // bytes of a text value, or of a list as JSON
)

// Decode reads one value from JSON and says what is wrong with it.
func Decode(text []byte) (any, error) {
	v, err := read(text)
	if err != nil {
		return nil, err
	}
	return v, check(v, true)
}

func read(text []byte) (any, error) {
	if len(text) > MaxText {
		return nil, fmt.Errorf("value of %d bytes is too long (at most %d)", len(text), MaxText)
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, fmt.Errorf("value %.60q is not JSON: %w", text, err)
	}
	return v, nil
}

// Check says what is wrong with a set of hyperparameters, or nil.
func Check(values map[string]json.RawMessage) error {
	if len(values) > MaxCount {
		return fmt.Errorf("%d hyperparameters are too many (at most %d)", len(values), MaxCount)
	}
	for name, text := range values {
		if err := CheckName(name); err != nil {
			return err
		}
		if _, err := Decode(text); err != nil {
			return fmt.Errorf("hyperparameter %q: %w", name, err)
		}
	}
	return nil
}

// Equal reports whether two values say the same, however they are written: 1, 1.0 and 1e0 are one number.
func Equal(a, b json.RawMessage) bool {
	if len(a) > 0 && len(b) > 0 && a[0] == '"' && b[0] == '"' && a[len(a)-1] == '"' && b[len(b)-1] == '"' &&
		bytes.IndexByte(a, '\\') < 0 && bytes.IndexByte(b, '\\') < 0 {
		return bytes.Equal(a, b) // two texts that are written as they are
	}
	x, err1 := Decode(a)
	y, err2 := Decode(b)
	return err1 == nil && err2 == nil && equal(x, y)
}

func equal(x, y any) bool {
	switch a := x.(type) {
	case json.Number:
		b, ok := y.(json.Number)
		if !ok || a == b {
			return ok
		}
		p, _, err1 := big.ParseFloat(a.String(), 10, 200, big.ToNearestEven)
		q, _, err2 := big.ParseFloat(b.String(), 10, 200, big.ToNearestEven)
		return err1 == nil && err2 == nil && p.Cmp(q) == 0
	case []any:
		b, ok := y.([]any)
		return ok && slices.EqualFunc(a, b, equal)
	}
	_, list := y.([]any)
	return !list && x == y
}

// CheckName says what is wrong with a name, or nil: segments of printable text joined by dots.
func CheckName(name string) error {
	if name == "" || len(name) > MaxName || !utf8.ValidString(name) {
		return fmt.Errorf("hyperparameter name %.60q must have 1 to %d bytes of UTF-8", name, MaxName)
	}
	for _, r := range name {
		if !unicode.IsPrint(r) || r == '=' {
			return fmt.Errorf("hyperparameter name %q contains %q", name, r)
		}
	}
	for _, segment := range strings.Split(name, ".") {
		if segment == "" || strings.TrimSpace(segment) != segment {
			return fmt.Errorf("hyperparameter name %q has an empty or padded segment", name)
		}
	}
	return nil
}

// maxDigits is how long a number may be written.
const maxDigits = 1000

func check(v any, lists bool) error {
	switch v := v.(type) {
	case bool:
		return nil
	case json.Number:
		f, err := v.Float64()
		digits, exponent, _ := strings.Cut(strings.ToLower(v.String()), "e")
		if err != nil || math.IsInf(f, 0) || f == 0 && strings.Trim(digits, "-0.") != "" || len(v) > maxDigits ||
			len(exponent) > 5 { // a database refuses 0e-999999
			return fmt.Errorf("number %.40s is outside what a 64-bit float holds", v)
		}
		return nil
	case string:
		if strings.ContainsRune(v, 0) {
			return fmt.Errorf("text contains a zero character")
		}
		return nil
	case []any:
		if !lists {
			return fmt.Errorf("a list within a list is not a hyperparameter; give the inner lists names of their own")
		}
		for i, e := range v {
			if err := check(e, false); err != nil {
				return fmt.Errorf("element %d: %w", i, err)
			}
		}
		return nil
	}
	return fmt.Errorf("a hyperparameter is a number, true or false, text, or a list of these; nest by dotted names")
}

// Parse reads "name=value" as people type it: JSON where it is JSON, text otherwise.
func Parse(assignment string) (name string, value json.RawMessage, err error) {
	name, text, ok := strings.Cut(assignment, "=")
	if !ok {
		return "", nil, fmt.Errorf("hyperparameter %q: write name=value, such as lr=0.01", assignment)
	}
	if err := CheckName(name); err != nil {
		return "", nil, err
	}
	if json.Valid([]byte(text)) && text != "null" && !strings.HasPrefix(strings.TrimSpace(text), "{") {
		value = json.RawMessage(strings.TrimSpace(text))
	} else if value, err = json.Marshal(text); err != nil {
		return "", nil, err
	}
	if _, err := Decode(value); err != nil {
		return "", nil, fmt.Errorf("hyperparameter %q: %w", name, err)
	}
	return name, value, nil
}
