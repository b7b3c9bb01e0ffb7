package dataset

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"slices"

	"kembrel/core/chunk"
)

// line is an item as JSON Lines have it.
type line struct {
	Key    string                     `json:"key"`
	Digest string                     `json:"digest"`
	Size   int64                      `json:"size"`
	Split  string                     `json:"split"`
	Group  string                     `json:"group"`
	Label  any                        `json:"label"` // text, number, or a list of texts
	Blank  bool                       `json:"blank"`
	Own    map[string]json.RawMessage `json:"own"`
}

// maxLine is how long a line may be: an item has at most so many texts of so many bytes.
const maxLine = 4 << 20

// ReadLines reads items as JSON Lines (docs/data.md) and calls take for each. rows says that they are rows of a table,
// whose digests follow from their values. Errors name the line.
func ReadLines(from io.Reader, columns []OwnColumn, rows bool, take func(*Item) error) error {
	scanner := bufio.NewScanner(from)
	scanner.Buffer(make([]byte, 1<<16), maxLine)
	for n := 1; scanner.Scan(); n++ {
		if len(bytes.TrimSpace(scanner.Bytes())) == 0 {
			continue
		}
		d := json.NewDecoder(bytes.NewReader(scanner.Bytes()))
		d.DisallowUnknownFields()
		var l line
		if err := d.Decode(&l); err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		it, err := l.item(columns, rows)
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		if err := take(it); err != nil {
			return err
		}
	}
	return scanner.Err()
}

func (l *line) item(columns []OwnColumn, rows bool) (*Item, error) {
	it := &Item{Key: l.Key, Size: l.Size, Split: l.Split, Group: l.Group, Blank: l.Blank, Target: math.NaN(),
		Own: make([]any, len(columns))}
	var err error
	if l.Digest != "" {
		if it.Digest, err = chunk.ParseDigest(l.Digest); err != nil {
			return nil, err
		}
	}
	switch v := l.Label.(type) {
	case nil:
	case string:
		if v != "" {
			it.Labels = []string{v}
		}
	case float64:
		it.Target = v
	case []any:
		for _, x := range v {
			text, ok := x.(string)
			if !ok {
				return nil, fmt.Errorf("item %.100q: labels are texts, not %v", l.Key, x)
			}
			it.Labels = append(it.Labels, text)
		}
	default:
		return nil, fmt.Errorf("item %.100q: a label is a text, a number or a list of texts", l.Key)
	}
	for name, raw := range l.Own {
		i := slices.IndexFunc(columns, func(c OwnColumn) bool { return c.Name == name })
		if i < 0 {
			return nil, fmt.Errorf("item %.100q: the draft has no column %q", l.Key, name)
		}
		if err := json.Unmarshal(raw, &it.Own[i]); err != nil {
			return nil, err
		}
		switch it.Own[i].(type) {
		case nil, string, float64, bool:
		default:
			return nil, fmt.Errorf("item %.100q: column %s is a %s, and %.60s is none", l.Key, name,
				columns[i].Kind, raw)
		}
	}
	if rows && l.Digest == "" && l.Size == 0 {
		it.Digest = RowDigest(it.Labels, it.Target, columns, it.Own)
		it.Size = int64(len(EncodeBlock([]Item{*it})))
	}
	return it, nil
}
