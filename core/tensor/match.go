package tensor

import (
	"fmt"
	"slices"
	"sort"
	"strings"
)

// Mismatch is a tensor that both sets have, in another shape or dtype.
type Mismatch struct {
	Name  string `json:"name"`
	Given Info   `json:"given"`
	Want  Info   `json:"want"`
}

// Rename is a likely new name: what is given under one name is wanted under another.
type Rename struct {
	Given string `json:"given"`
	Want  string `json:"want"`
}

// Match says how a set of tensors that is given fits a set that is wanted, before anything is loaded.
type Match struct {
	Same       int        `json:"same"`       // tensors that fit
	Missing    []Info     `json:"missing"`    // wanted, not given
	Unexpected []Info     `json:"unexpected"` // given, not wanted
	Shapes     []Mismatch `json:"shapes"`     // of another shape
	Dtypes     []Mismatch `json:"dtypes"`     // of the same shape and another dtype
	Renames    []Rename   `json:"renames"`    // likely, among those missing and unexpected
}

// Fits reports whether the given set can be loaded as it is.
func (m Match) Fits() bool { return len(m.Missing)+len(m.Unexpected)+len(m.Shapes)+len(m.Dtypes) == 0 }

// Compare matches tensors by name. Renames are looked for among what is left: the pair of prefixes that explains most
// tensors of equal shape and dtype first, then tensors whose shape only one on each side has. O(n d log n) for n names
// of d parts.
//
// Weights that several layers share (Info.Also) count under each of their names: given once they fit what wants all of
// them, and given under all they fit what wants them once.
func Compare(given, want []Info) Match {
	m := Match{Missing: []Info{}, Unexpected: []Info{}, Shapes: []Mismatch{}, Dtypes: []Mismatch{}, Renames: []Rename{}}
	have := make(map[string]Info, len(given))
	for _, t := range given {
		for _, name := range t.names() {
			have[name] = t
		}
	}
	taken := make(map[string]bool, len(want)) // by the names that are wanted
	for _, w := range want {
		var g Info
		ok := false
		for _, name := range w.names() {
			found, there := have[name]
			taken[name] = true
			if there && (!ok || !slices.Equal(found.Shape, w.Shape)) { // each that is there has to fit
				g, ok = found, true
			}
		}
		switch {
		case !ok:
			m.Missing = append(m.Missing, w)
		case !slices.Equal(g.Shape, w.Shape):
			m.Shapes = append(m.Shapes, Mismatch{w.Name, g, w})
		case g.Dtype != w.Dtype && w.Dtype != "":
			m.Dtypes = append(m.Dtypes, Mismatch{w.Name, g, w})
		default:
			m.Same++
		}
	}
	for _, t := range given {
		if !slices.ContainsFunc(t.names(), func(name string) bool { return taken[name] }) {
			m.Unexpected = append(m.Unexpected, t)
		}
	}
	byName := func(list []Info) { sort.Slice(list, func(i, j int) bool { return list[i].Name < list[j].Name }) }
	byName(m.Missing)
	byName(m.Unexpected)
	m.Renames = renames(m.Unexpected, m.Missing)
	return m
}

// names are all names of a tensor.
func (i Info) names() []string { return append([]string{i.Name}, i.Also...) }

func kind(t Info) string { return fmt.Sprint(t.Shape) }

// renames guesses which of the unexpected tensors are the missing ones under other names.
func renames(unexpected, missing []Info) []Rename {
	out, usedGiven, usedWant := []Rename{}, map[string]bool{}, map[string]bool{}
	wanted := map[string][]Info{} // by the end of the name and the shape
	for _, w := range missing {
		for _, end := range ends(w.Name) {
			wanted[end+"\x00"+kind(w)] = append(wanted[end+"\x00"+kind(w)], w)
		}
	}
	type prefixes struct{ given, want string }
	pairs := map[prefixes][]Rename{}
	for _, g := range unexpected {
		for _, end := range ends(g.Name) { // the longest common end first
			found := wanted[end+"\x00"+kind(g)]
			if len(found) > 100 {
				continue
			}
			for _, w := range found {
				p := prefixes{strings.TrimSuffix(g.Name, end), strings.TrimSuffix(w.Name, end)}
				pairs[p] = append(pairs[p], Rename{g.Name, w.Name})
			}
			if len(found) > 0 {
				break
			}
		}
	}
	keys := make([]prefixes, 0, len(pairs))
	for p := range pairs {
		keys = append(keys, p)
	}
	sort.Slice(keys, func(i, j int) bool {
		a, b := keys[i], keys[j]
		if len(pairs[a]) != len(pairs[b]) {
			return len(pairs[a]) > len(pairs[b])
		}
		return a.given+"\x00"+a.want < b.given+"\x00"+b.want
	})
	take := func(r Rename) {
		if !usedGiven[r.Given] && !usedWant[r.Want] {
			usedGiven[r.Given], usedWant[r.Want] = true, true
			out = append(out, r)
		}
	}
	for _, p := range keys {
		for _, r := range pairs[p] {
			take(r)
		}
	}
	single := func(list []Info, used map[string]bool) map[string]string {
		names := map[string]string{}
		for _, t := range list {
			if used[t.Name] {
				continue
			}
			if _, twice := names[kind(t)]; twice {
				names[kind(t)] = ""
			} else {
				names[kind(t)] = t.Name
			}
		}
		return names
	}
	wants := single(missing, usedWant)
	for shape, g := range single(unexpected, usedGiven) {
		if w := wants[shape]; g != "" && w != "" {
			take(Rename{g, w})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Want < out[j].Want })
	return out
}

// ends are the ends of a dotted or slashed name, the longest first: a.b.c, b.c, c.
func ends(name string) []string {
	out := []string{name}
	for i, r := range name {
		if (r == '.' || r == '/') && i+1 < len(name) {
			out = append(out, name[i+1:])
		}
	}
	return out
}

// Sentence says the outcome in one sentence.
func (m Match) Sentence() string {
	if m.Fits() {
		return fmt.Sprintf("It fits: all %d tensors have the names, shapes and dtypes wanted.", m.Same)
	}
	var parts []string
	count := func(n int, what string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, what))
		}
	}
	count(len(m.Missing), "missing")
	count(len(m.Unexpected), "unexpected")
	count(len(m.Shapes), "of another shape")
	count(len(m.Dtypes), "of another dtype")
	text := fmt.Sprintf("It does not fit: %s; %d fit.", strings.Join(parts, ", "), m.Same)
	if from, to, ok := m.onePrefix(); ok {
		text += fmt.Sprintf(" %d would fit with %q in place of %q at the start of their names.",
			len(m.Renames), to, from)
	} else if len(m.Renames) > 0 {
		text += fmt.Sprintf(" %d are likely there under other names.", len(m.Renames))
	}
	return text
}

// onePrefix is the pair of prefixes that all renames share, if they do.
func (m Match) onePrefix() (from, to string, ok bool) {
	for i, r := range m.Renames {
		f, t := r.Given, r.Want
		for _, end := range ends(f) {
			if strings.HasSuffix(t, end) {
				f, t = strings.TrimSuffix(f, end), strings.TrimSuffix(t, end)
				break
			}
		}
		if i > 0 && (f != from || t != to) || f == r.Given {
			return "", "", false
		}
		from, to = f, t
	}
	return from, to, len(m.Renames) > 0
}
