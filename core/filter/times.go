package filter

import (
	"fmt"
	"strconv"
	"time"
)

// moment reads a time.
func moment(text string) (time.Time, bool) {
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04", "2006-01-02"} {
		if at, err := time.Parse(layout, text); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}

// meant is a text beside a time or a number of seconds as what it means there: started > "2026-11-01", ended > "7d" (as
// ago), took > "1h".
func (r *reader) meant(n, beside *Node) *Node {
	text, ok := n.Lit.(string)
	if n.Op != Literal || !ok {
		return n
	}
	length, err := duration(text)
	switch {
	case beside.Kind == Time:
		if at, ok := moment(text); ok {
			return &Node{Op: Literal, Kind: Time, Lit: at}
		} else if err == nil {
			return &Node{Op: Literal, Kind: Time, Lit: r.now.Add(-length)}
		}
	case beside.Op == Field && (beside.Name == "took" || beside.Name == "pace") && r.language.Runs && err == nil:
		return &Node{Op: Literal, Kind: Number, Lit: length.Seconds()}
	}
	return n
}

// duration reads 90s, 30m, 12h, 7d or 2w.
func duration(text string) (time.Duration, error) {
	units := map[byte]time.Duration{'s': time.Second, 'm': time.Minute, 'h': time.Hour, 'd': 24 * time.Hour,
		'w': 7 * 24 * time.Hour}
	if len(text) > 1 {
		if n, err := strconv.ParseFloat(text[:len(text)-1], 64); err == nil && n >= 0 && n < 1e6 {
			if unit, ok := units[text[len(text)-1]]; ok {
				return time.Duration(n * float64(unit)), nil
			}
		}
	}
	return 0, fmt.Errorf("%q is no length of time; write 30m, 12h, 7d or 2w", text)
}
