package act

import (
	"fmt"
	"sort"
	"strings"
)

// Many is a count with the words for one or for several.
func Many(n int, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, several)
}

// Few writes a list, and of a long one how many more there are.
func Few(list []string, most int) string {
	if len(list) > most {
		return strings.Join(list[:most], ", ") + fmt.Sprintf(" and %d more", len(list)-most)
	}
	return strings.Join(list, ", ")
}

// CleanMap is Clean for names and values.
func CleanMap(in map[string]string) map[string]string {
	out := make(map[string]string, len(in))
	for k, v := range in {
		out[Clean(k)] = Clean(v)
	}
	return out
}

// Clean drops what PostgreSQL's text cannot hold.
func Clean(text string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "\uFFFD")
}

// SortedKeys are the keys of a map in their order.
func SortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

func Cut(text string, most int) string {
	if len(text) <= most {
		return text
	}
	return strings.ToValidUTF8(text[:most], "")
}
