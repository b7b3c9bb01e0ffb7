package history

import (
	"math"
	"regexp"
	"strconv"
	"strings"

	"kembrel/core/table"
)

// notation is how a column writes its numbers.
type notation int

const (
	points  notation = iota // 1234.5
	commas                  // 1234,5 or 1.234,5
	grouped                 // 1,234.5
)

// says is what a person is told of a notation that is not the usual one.
var says = map[notation]string{commas: "with decimal commas", grouped: "with commas between thousands"}

var (
	decimalComma = regexp.MustCompile(`^[+-]?(\d+|\d{1,3}(\.\d{3})+)(,\d+)?([eE][+-]?\d+)?$`)
	thousands    = regexp.MustCompile(`^[+-]?\d{1,3}(,\d{3})+(\.\d+)?([eE][+-]?\d+)?$`)
)

// absent are the texts that say that there is no value.
var absent = map[string]bool{"": true, "-": true, "–": true, "—": true, "n/a": true, "na": true, "#n/a": true,
	"null": true, "none": true, "nil": true, ".": true}

// isAbsent reports whether a cell holds no value.
func isAbsent(text string) bool { return absent[strings.ToLower(strings.TrimSpace(text))] }

// number reads a number; a percentage is a share: 12 % is 0.12.
func (n notation) number(text string) (float64, error) {
	text = strings.TrimSpace(text)
	share := strings.HasSuffix(text, "%")
	text = strings.TrimSpace(strings.TrimSuffix(text, "%"))
	switch strings.ToLower(text) {
	case "nan":
		return math.NaN(), nil
	case "inf", "infinity", "+inf", "+infinity":
		return math.Inf(1), nil
	case "-inf", "-infinity":
		return math.Inf(-1), nil
	}
	switch {
	case n == commas && decimalComma.MatchString(text):
		text = strings.Replace(strings.ReplaceAll(text, ".", ""), ",", ".", 1)
	case n == grouped && thousands.MatchString(text):
		text = strings.ReplaceAll(text, ",", "")
	}
	v, err := strconv.ParseFloat(text, 64)
	if share {
		v /= 100
	}
	return v, err
}

// numbers finds how a column writes numbers, by the rows looked at; false: it does not hold numbers, such as bad.
// 1,234 alone may be either: it is a thousand where cells are divided by commas, as whoever writes those writes no
// decimals so.
func numbers(rows []table.Row, column int, divider rune) (n notation, share bool, bad string, ok bool) {
	candidates := []notation{points, commas, grouped}
	if divider == ',' {
		candidates = []notation{points, grouped, commas}
	}
	for _, n := range candidates {
		ok, share = true, false
		for _, row := range rows {
			if column >= len(row.Cells) || isAbsent(row.Cells[column]) {
				continue
			}
			text := row.Cells[column]
			if _, err := n.number(text); err != nil {
				if ok = false; bad == "" {
					bad = text
				}
				break
			}
			share = share || strings.HasSuffix(strings.TrimSpace(text), "%")
		}
		if ok {
			return n, share, "", true
		}
	}
	return points, false, bad, false
}
