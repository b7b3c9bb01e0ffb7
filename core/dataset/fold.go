package dataset

import (
	"encoding/binary"
	"strings"
	"unicode"

	"github.com/zeebo/blake3"
)

// Hash64 is a hash that is held instead of what it is of: two of n that differ have the same once in 2^64/n^2
// snapshots.
func Hash64(text []byte) uint64 {
	d := blake3.Sum256(text)
	return binary.LittleEndian.Uint64(d[:])
}

// FoldText is what texts are compared by that may differ in case, space and punctuation: a hash of their letters and
// digits, folded; 0 where there are too few to say anything.
func FoldText(text []byte) uint64 {
	folded := make([]byte, 0, len(text))
	letters := 0
	for _, r := range strings.ToLower(string(text)) {
		if isWord(r) {
			folded = append(folded, string(r)...)
			letters++
		}
	}
	if letters < 12 {
		return 0
	}
	return max(1, Hash64(folded))
}

func isWord(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
