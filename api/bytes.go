package api

import (
	"fmt"
	"strconv"
)

// Bytes writes a size for people: decimal units, three significant digits.
func Bytes(n int64) string {
	if n < 1000 {
		return strconv.FormatInt(n, 10) + " B"
	}
	value, unit := float64(n), 0
	for value >= 999.5 && unit < 5 {
		value, unit = value/1000, unit+1
	}
	digits := 2
	if value >= 99.95 {
		digits = 0
	} else if value >= 9.995 {
		digits = 1
	}
	return strconv.FormatFloat(value, 'f', digits, 64) + " " + []string{"B", "kB", "MB", "GB", "TB", "PB"}[unit]
}

// Thousands writes a whole number with commas.
func Thousands(n int64) string {
	text := fmt.Sprint(n)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}
