package sheet

import "strings"

// CharactersOff is how many characters (code points) must be put in, taken out or changed to make one text of another
// (Levenshtein 1966), and how many the first has.
func CharactersOff(truth, answer string) (off, of int) {
	a, b := []rune(truth), []rune(answer)
	return distance(a, b), len(a)
}

// WordsOff is the same for words, which stand between white space.
func WordsOff(truth, answer string) (off, of int) {
	a, b := strings.Fields(truth), strings.Fields(answer)
	return distance(a, b), len(a)
}

// distance is the edit distance of two lists, by columns of bits: 64 rows of the table of differences at once (Myers
// 1999; blocks after Hyyrö 2003). It takes time in proportion to len(a)/64 times len(b).
func distance[T comparable](a, b []T) int {
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	if len(a) == 0 || len(b) == 0 {
		return len(a) + len(b)
	}
	blocks := (len(a) + 63) / 64
	equal := map[T][]uint64{} // where in a something stands
	for i, x := range a {
		if equal[x] == nil {
			equal[x] = make([]uint64, blocks)
		}
		equal[x][i/64] |= 1 << (i % 64)
	}
	none := make([]uint64, blocks)
	up, down := make([]uint64, blocks), make([]uint64, blocks) // where a row is one more, one less than that above
	for k := range up {
		up[k] = ^uint64(0)
	}
	out := len(a)
	last := uint64(1) << ((len(a) - 1) % 64)
	for _, y := range b {
		here, ok := equal[y]
		if !ok {
			here = none
		}
		carry := 1 // by how much the row above a block differs from that of the column before
		for k := range blocks {
			eq, pv, mv := here[k], up[k], down[k]
			xv := eq | mv
			if carry < 0 {
				eq |= 1
			}
			xh := (((eq & pv) + pv) ^ pv) | eq
			ph, mh := mv|^(xh|pv), pv&xh
			top := uint64(1) << 63
			if k == blocks-1 {
				top = last
			}
			next := 0
			switch {
			case ph&top != 0:
				next = 1
			case mh&top != 0:
				next = -1
			}
			ph, mh = ph<<1, mh<<1
			switch {
			case carry < 0:
				mh |= 1
			case carry > 0:
				ph |= 1
			}
			up[k], down[k] = mh|^(xv|ph), ph&xv
			carry = next
		}
		out += carry
	}
	return out
}
