package kept

import (
	"cmp"
	"encoding/binary"
	"math"
	"slices"
	"strings"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
)

// Found is what is wrong with an item, as a set of marks.
type Found uint16

// The marks. Those of Leaks make a validation figure look better than it is.
const (
	SameBytes  Found = 1 << iota // the bytes of an item of another split
	SameGroup                    // the group of an item of another split
	NearlySame                   // a text or row that is nearly one of another split
	SameName                     // the key of one of another split, but for the split's name in it
	Empty                        // no bytes
	BlankBytes                   // bytes that are all the same
	NoLabel                      // no label, where others have one
	Double                       // the bytes of another item of its split
	TwoLabels                    // the bytes of an item with another label
	FarOff                       // a size far from what is usual here
	NoSplit                      // in no split, where others are in one
	SameItem                     // it was handed over for another split too, by its key
)

// Leaks are the marks of items that are in two splits, in one way or another.
const Leaks = SameBytes | SameGroup | NearlySame | SameItem

// foundNames are how marks are called in filters, in order of their bits.
var foundNames = []string{"same-bytes", "same-group", "nearly-same", "same-name", "empty", "blank",
	"no-label", "double",
	"two-labels", "far-off", "no-split", "same-item"}

// FoundNames are how all marks are called.
func FoundNames() []string { return slices.Clone(foundNames) }

// Names are those of the marks in a set.
func (f Found) Names() []string {
	out := []string{}
	for i, name := range foundNames {
		if f&(1<<i) != 0 {
			out = append(out, name)
		}
	}
	return out
}

// MostLabels is how many labels are told one by one.
const MostLabels = 200

// mostRowWork bounds how many hashes are held to find rows that are equal but for one column.
const mostRowWork = 24_000_000

type mark struct {
	hash uint64
	row  uint32
}

// checker holds what is known of all items while they are looked at: about 20 bytes an item.
type checker struct {
	f      *File
	splits []uint8 // of each item, its place in names
	names  []string
	found  []Found
	marks  []mark
	out    *dataset.Findings
}

// Check looks at all items of a snapshot: O(n log n), a few passes over its file, about 30 bytes of memory an item.
// rows says that items are rows of a table, without bytes. It returns what was found and the marks of each item.
func Check(f *File, rows bool) (*dataset.Findings, []Found, error) {
	n := f.Len()
	c := &checker{f: f, splits: make([]uint8, n), found: make([]Found, n), marks: make([]mark, 0, n),
		out: &dataset.Findings{Items: n, Crossings: []dataset.Crossing{}, Tallies: []dataset.Tally{},
			Labels: []dataset.LabelCount{}, Alike: []dataset.Alike{}}}
	for _, step := range []func() error{c.count, c.bytes, c.groups, c.texts, c.keys, c.sizes, c.labels} {
		if err := step(); err != nil {
			return nil, nil, err
		}
	}
	if rows {
		if err := c.rows(); err != nil {
			return nil, nil, err
		}
	}
	for i, f := range c.found {
		if f&Leaks != 0 {
			c.out.Splits[c.splits[i]].Leaking++
		}
	}
	for bit, name := range foundNames {
		items := int64(0)
		if Found(1<<bit)&(Leaks|SameName) != 0 {
			continue
		}
		for _, f := range c.found {
			if f&(1<<bit) != 0 {
				items++
			}
		}
		if items > 0 {
			c.out.Tallies = append(c.out.Tallies, dataset.Tally{Kind: name, Items: items})
		}
	}
	return c.out, c.found, nil
}

// each calls do for every item with the columns wanted.
func (c *checker) each(want Want, do func(i int, it *dataset.Item)) error {
	i := 0
	for it, err := range c.f.Items(0, want) {
		if err != nil {
			return err
		}
		do(i, it)
		i++
	}
	return nil
}

// count finds the splits, and counts what is in them.
func (c *checker) count() error {
	at := map[string]uint8{}
	for it, err := range c.f.Items(0, Want{Split: true}) {
		if err != nil {
			return err
		}
		at[it.Split] = 0
	}
	for name := range at {
		c.names = append(c.names, name)
	}
	slices.SortFunc(c.names, dataset.SplitOrder)
	for i, name := range c.names {
		at[name] = uint8(i)
		c.out.Splits = append(c.out.Splits, dataset.SplitCount{Name: name})
	}
	split := len(c.names) > 1
	return c.each(Want{Split: true, Size: true, Digest: true, Blank: true}, func(i int, it *dataset.Item) {
		s := at[it.Split]
		c.splits[i] = s
		c.out.Splits[s].Items++
		c.out.Splits[s].Bytes += it.Size
		if it.Digest == (chunk.Digest{}) {
			c.out.Unknown++
		}
		if it.Digest == nothing {
			c.found[i] |= Empty
		} else if it.Blank {
			c.found[i] |= BlankBytes
		}
		if it.Split == "" && split {
			c.found[i] |= NoSplit
		}
	})
}

// nothing is the digest of an item without bytes. One whose size is 0 may be one of which it was not told.
var nothing = chunk.Sum(nil)

// runs calls each for the marks that have one hash, where there are several. The marks are in order then.
func (c *checker) runs(each func(same []mark)) {
	slices.SortFunc(c.marks, func(a, b mark) int {
		return cmp.Or(cmp.Compare(a.hash, b.hash), cmp.Compare(a.row, b.row))
	})
	for from := 0; from < len(c.marks); {
		to := from + 1
		for to < len(c.marks) && c.marks[to].hash == c.marks[from].hash {
			to++
		}
		if to > from+1 {
			each(c.marks[from:to])
		}
		from = to
	}
}

// crossings marks items whose hash is in two splits, and counts them by pair. What has no split is in none.
func (c *checker) crossings(kind Found) {
	pairs := map[[2]uint8]*dataset.Crossing{}
	c.runs(func(same []mark) {
		var per [dataset.MaxSplits]int64
		var in []uint8
		for _, m := range same {
			s := c.splits[m.row]
			if c.names[s] == "" {
				continue
			}
			if per[s]++; per[s] == 1 {
				in = append(in, s)
			}
		}
		if len(in) < 2 {
			return
		}
		for _, m := range same {
			if c.names[c.splits[m.row]] != "" {
				c.found[m.row] |= kind
			}
		}
		slices.Sort(in)
		for i, a := range in {
			for _, b := range in[i+1:] {
				p := pairs[[2]uint8{a, b}]
				if p == nil {
					p = &dataset.Crossing{Kind: kind.Names()[0], Splits: [2]string{c.names[a], c.names[b]}}
					pairs[[2]uint8{a, b}] = p
				}
				p.Shared++
				p.Items[0] += per[a]
				p.Items[1] += per[b]
			}
		}
	})
	at := len(c.out.Crossings)
	for _, p := range pairs {
		c.out.Crossings = append(c.out.Crossings, *p)
	}
	slices.SortFunc(c.out.Crossings[at:], func(a, b dataset.Crossing) int {
		return cmp.Or(dataset.SplitOrder(a.Splits[0], b.Splits[0]), dataset.SplitOrder(a.Splits[1], b.Splits[1]))
	})
}

// bytes finds the same bytes in two splits, twice in one, and under two labels.
func (c *checker) bytes() error {
	c.marks = c.marks[:0]
	labels := make([]uint32, len(c.found)) // enough to tell two apart
	err := c.each(Want{Digest: true, Labels: true, Target: true}, func(i int, it *dataset.Item) {
		if it.Digest == (chunk.Digest{}) || it.Digest == nothing {
			return
		}
		c.marks = append(c.marks, mark{binary.LittleEndian.Uint64(it.Digest[:]), uint32(i)})
		if label := it.Label(); label != "" {
			labels[i] = uint32(dataset.Hash64([]byte(label))) | 1
		}
	})
	if err != nil {
		return err
	}
	c.crossings(SameBytes)
	c.runs(func(same []mark) {
		var per [dataset.MaxSplits]bool
		first, two := uint32(0), false
		for _, m := range same {
			if s := c.splits[m.row]; per[s] {
				c.found[m.row] |= Double
			} else {
				per[s] = true
			}
			if l := labels[m.row]; l != 0 {
				two = two || first != 0 && l != first
				first = l
			}
		}
		for _, m := range same {
			if two {
				c.found[m.row] |= TwoLabels
			}
		}
	})
	return nil
}

// groups counts groups and finds those in two splits.
func (c *checker) groups() error {
	c.marks = c.marks[:0]
	known := map[string]uint64{}
	err := c.each(Want{Group: true}, func(i int, it *dataset.Item) {
		if it.Group == "" {
			return
		}
		c.out.Grouped = true
		h, ok := known[it.Group]
		if !ok {
			h = dataset.Hash64([]byte(it.Group))
			if len(known) < 1<<16 {
				known[it.Group] = h
			}
		}
		c.marks = append(c.marks, mark{h, uint32(i)})
	})
	if err != nil {
		return err
	}
	c.crossings(SameGroup)
	for from := 0; from < len(c.marks); { // in order since
		to := from
		var per [dataset.MaxSplits]bool
		for ; to < len(c.marks) && c.marks[to].hash == c.marks[from].hash; to++ {
			if s := c.splits[c.marks[to].row]; !per[s] {
				per[s] = true
				c.out.Splits[s].Groups++
			}
		}
		from = to
	}
	return nil
}

// texts finds texts that are equal but for case, space and punctuation.
func (c *checker) texts() error {
	c.marks = c.marks[:0]
	err := c.each(Want{Near: true}, func(i int, it *dataset.Item) {
		if it.Near != 0 {
			c.marks = append(c.marks, mark{it.Near, uint32(i)})
		}
	})
	if err == nil && len(c.marks) > 0 {
		c.out.Nearly = "text"
		c.crossings(NearlySame)
	}
	return err
}

// keys finds keys that differ only in the split's name: in their path, or behind them where an item was handed over for
// several splits (dataset.KeyIn).
func (c *checker) keys() error {
	c.marks = c.marks[:0]
	plain := func(i int, key string) (string, bool) {
		return strings.CutSuffix(key, dataset.KeyIn("", c.names[c.splits[i]]))
	}
	handed := false
	err := c.each(Want{Key: true}, func(i int, it *dataset.Item) {
		_, twice := plain(i, it.Key)
		handed = handed || twice
		split := c.names[c.splits[i]]
		parts := strings.Split(it.Key, "/")
		if at := slices.Index(parts, split); split != "" && at >= 0 {
			parts[at] = ""
			c.marks = append(c.marks, mark{dataset.Hash64([]byte(strings.Join(parts, "/"))), uint32(i)})
		}
	})
	if err != nil {
		return err
	}
	c.crossings(SameName)
	if !handed {
		return nil
	}
	c.marks = c.marks[:0]
	err = c.each(Want{Key: true}, func(i int, it *dataset.Item) {
		key, _ := plain(i, it.Key)
		c.marks = append(c.marks, mark{dataset.Hash64([]byte(key)), uint32(i)})
	})
	if err == nil {
		c.crossings(SameItem)
	}
	return err
}

// sizes finds sizes that are far from the median: beyond ten times the median deviation of their logarithms, and at
// least by a factor of four.
func (c *checker) sizes() error {
	logs := make([]float64, 0, len(c.found))
	if err := c.each(Want{Size: true}, func(_ int, it *dataset.Item) {
		if it.Size > 0 {
			logs = append(logs, math.Log(float64(it.Size)))
		}
	}); err != nil || len(logs) < 20 {
		return err
	}
	slices.Sort(logs)
	middle := logs[len(logs)/2]
	for i := range logs {
		logs[i] = math.Abs(logs[i] - middle)
	}
	slices.Sort(logs)
	far := max(10*logs[len(logs)/2], math.Log(4))
	return c.each(Want{Size: true}, func(i int, it *dataset.Item) {
		if it.Size > 0 && math.Abs(math.Log(float64(it.Size))-middle) > far {
			c.found[i] |= FarOff
		}
	})
}

// rows finds rows that are equal but for one column. Labels count as columns. Where there are fewer than three columns
// with values, or too many for the memory that is allowed, it does not look.
func (c *checker) rows() error {
	columns := len(c.f.Columns)
	if columns < 3 || (columns+1)*len(c.found) > mostRowWork {
		return nil
	}
	c.out.Nearly = "rows"
	want := Want{}
	for i := range columns {
		want.Own = append(want.Own, i)
	}
	whole := make([]uint64, len(c.found))
	parts := make([][]uint64, columns)
	for k := range parts {
		parts[k] = make([]uint64, len(c.found))
	}
	var buffer []byte
	if err := c.each(want, func(i int, it *dataset.Item) {
		for k, v := range it.Own {
			buffer = dataset.AppendValue(append(buffer[:0], byte(k)), v)
			parts[k][i] = dataset.Hash64(buffer)
			whole[i] += parts[k][i]
		}
	}); err != nil {
		return err
	}
	before := len(c.out.Crossings)
	total := map[[2]string]*dataset.Crossing{}
	for k := range parts {
		c.marks = c.marks[:0]
		for i := range whole {
			c.marks = append(c.marks, mark{whole[i] - parts[k][i], uint32(i)})
		}
		c.crossings(NearlySame)
		for _, x := range c.out.Crossings[before:] { // the most that one column left out gives, as they overlap
			if t := total[x.Splits]; t == nil || x.Items[1] > t.Items[1] {
				total[x.Splits] = &x
			}
		}
		c.out.Crossings = c.out.Crossings[:before]
	}
	for _, x := range total {
		c.out.Crossings = append(c.out.Crossings, *x)
	}
	slices.SortFunc(c.out.Crossings[before:], func(a, b dataset.Crossing) int {
		return cmp.Or(dataset.SplitOrder(a.Splits[0], b.Splits[0]), dataset.SplitOrder(a.Splits[1], b.Splits[1]))
	})
	return nil
}
