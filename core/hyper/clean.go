package hyper

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
)

// Clean takes the values that can be kept and says of each other one what is wrong with it. Texts that are no UTF-8, as
// names of files may be, get U+FFFD where they are not, and so do characters that no database text holds (zero, halves
// of surrogate pairs); numbers keep all their digits.
func Clean(values map[string]json.RawMessage) (good map[string]json.RawMessage, bad map[string]error) {
	good, bad = map[string]json.RawMessage{}, map[string]error{}
	for name, text := range values {
		err := CheckName(name)
		var v json.RawMessage
		if err == nil {
			v, err = CleanValue(text)
		}
		switch {
		case err == nil && len(good) == MaxCount:
			err = fmt.Errorf("there are more than %d hyperparameters", MaxCount)
			fallthrough
		case err != nil:
			bad[name] = err
		default:
			good[name] = v
		}
	}
	return good, bad
}

// CleanValue is Clean for one value.
func CleanValue(text json.RawMessage) (json.RawMessage, error) {
	v, err := read(text)
	if err != nil {
		return nil, err
	}
	v = withoutZero(v)
	if err := check(v, true); err != nil {
		return nil, err
	}
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return nil, err
	}
	return bytes.TrimSpace(b.Bytes()), nil
}

func withoutZero(v any) any {
	switch v := v.(type) {
	case string:
		return strings.ReplaceAll(v, "\x00", "\uFFFD")
	case []any:
		for i := range v {
			v[i] = withoutZero(v[i])
		}
	}
	return v
}
