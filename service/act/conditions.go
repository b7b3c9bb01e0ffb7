package act

import (
	"strconv"
	"strings"
)

// RangeStart is where the first range of a Range header begins (RFC 9110, section 14.1.2); 0 where it does not say.
func RangeStart(header string) int64 {
	first, _, _ := strings.Cut(strings.TrimPrefix(header, "bytes="), "-")
	at, err := strconv.ParseInt(strings.TrimSpace(first), 10, 64)
	if err != nil || at < 0 {
		return 0
	}
	return at
}

// Unchanged is the answer to who has what is asked for already: the tag that it has it under.
type Unchanged string

func (u Unchanged) Error() string { return "it has not changed since " + string(u) }

// Matches reports whether an If-None-Match header names a tag (RFC 9110, section 13.1.2).
func Matches(header, tag string) bool {
	for one := range strings.SplitSeq(header, ",") {
		if one = strings.TrimSpace(one); one == "*" || strings.TrimPrefix(one, "W/") == strings.TrimPrefix(tag, "W/") {
			return true
		}
	}
	return false
}
