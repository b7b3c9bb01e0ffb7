package kept

import (
	"cmp"
	"iter"
	"math"
	"slices"

	"kembrel/core/dataset"
)

// Differing is an item that differs; Old or New is nil where it is not there.
type Differing struct {
	Key      string
	Old, New *dataset.Item
	Changes  []dataset.Change
}

type counts map[string]int64

// tally is a comparison under way.
type tally struct {
	*dataset.ItemChanges
	by map[dataset.Change][3]counts // label, group, split
}

const (
	mostNames    = 20
	mostCounted  = 10_000
	mostExamples = 20
)

// Differ compares two snapshots, each read once: O(n + m), bounded memory. each, where it is not nil, is called for
// every item that differs, in order of keys; false ends the comparison.
func Differ(old, new *File, each func(Differing) bool) (*dataset.ItemChanges, error) {
	d := tally{ItemChanges: &dataset.ItemChanges{Counts: map[dataset.Change]int64{},
		ByLabel: map[dataset.Change][]dataset.ByName{}, ByGroup: map[dataset.Change][]dataset.ByName{},
		BySplit: map[dataset.Change][]dataset.ByName{}, Columns: map[string]string{},
		Examples: map[dataset.Change][]string{}}, by: map[dataset.Change][3]counts{}}
	var pairs [][2]int // columns that both have
	for i, c := range old.Columns {
		if j := slices.IndexFunc(new.Columns, func(n dataset.OwnColumn) bool { return n.Name == c.Name }); j >= 0 {
			pairs = append(pairs, [2]int{i, j})
		} else {
			d.Columns[c.Name] = string(dataset.Gone)
		}
	}
	for _, c := range new.Columns {
		if !slices.ContainsFunc(old.Columns, func(o dataset.OwnColumn) bool { return o.Name == c.Name }) {
			d.Columns[c.Name] = string(dataset.Added)
		}
	}
	nextOld, stopOld := iter.Pull2(old.Items(0, old.All()))
	defer stopOld()
	nextNew, stopNew := iter.Pull2(new.Items(0, new.All()))
	defer stopNew()
	a, errA, okA := nextOld()
	b, errB, okB := nextNew()
	for okA || okB {
		if err := cmp.Or(errA, errB); err != nil {
			return nil, err
		}
		var got Differing
		switch {
		case !okB || okA && a.Key < b.Key:
			got = Differing{Key: a.Key, Old: a, Changes: []dataset.Change{dataset.Gone}}
		case !okA || b.Key < a.Key:
			got = Differing{Key: b.Key, New: b, Changes: []dataset.Change{dataset.Added}}
		default:
			got = Differing{Key: a.Key, Old: a, New: b, Changes: changes(a, b, pairs)}
		}
		if len(got.Changes) == 0 {
			d.Same++
		} else {
			d.count(got)
			if each != nil && !each(got) {
				break
			}
		}
		if got.Old != nil || len(got.Changes) == 0 {
			a, errA, okA = nextOld()
		}
		if got.New != nil || len(got.Changes) == 0 {
			b, errB, okB = nextNew()
		}
	}
	if err := cmp.Or(errA, errB); err != nil {
		return nil, err
	}
	for change, by := range d.by {
		d.ByLabel[change], d.ByGroup[change], d.BySplit[change] = by[0].first(), by[1].first(), by[2].first()
	}
	return d.ItemChanges, nil
}

func changes(a, b *dataset.Item, pairs [][2]int) (out []dataset.Change) {
	if a.Digest != b.Digest || a.Size != b.Size {
		out = append(out, dataset.Changed)
	}
	if !slices.Equal(a.Labels, b.Labels) || a.Target != b.Target && !(math.IsNaN(a.Target) && math.IsNaN(b.Target)) {
		out = append(out, dataset.Relabelled)
	}
	if a.Split != b.Split {
		out = append(out, dataset.Moved)
	}
	if a.Group != b.Group {
		out = append(out, dataset.Regrouped)
	}
	for _, p := range pairs {
		x, y := a.Own[p[0]], b.Own[p[1]]
		if fx, ok := x.(float64); ok && math.IsNaN(fx) {
			x = nil
		}
		if fy, ok := y.(float64); ok && math.IsNaN(fy) {
			y = nil
		}
		if x != y {
			return append(out, dataset.Edited)
		}
	}
	return out
}

func (d tally) count(x Differing) {
	it := x.New
	if it == nil {
		it = x.Old
	}
	for _, change := range x.Changes {
		d.Counts[change]++
		if len(d.Examples[change]) < mostExamples {
			d.Examples[change] = append(d.Examples[change], x.Key)
		}
		by, ok := d.by[change]
		if !ok {
			by = [3]counts{{}, {}, {}}
			d.by[change] = by
		}
		label, split := it.Label(), it.Split
		if change == dataset.Relabelled {
			label = orNone(x.Old.Label()) + " → " + orNone(x.New.Label())
		}
		if change == dataset.Moved {
			split = orNone(x.Old.Split) + " → " + orNone(x.New.Split)
		}
		for i, name := range []string{label, it.Group, split} {
			if _, known := by[i][name]; name != "" && (known || len(by[i]) < mostCounted) {
				by[i][name]++
			}
		}
	}
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

// first are the names with the most items.
func (c counts) first() []dataset.ByName {
	out := []dataset.ByName{}
	for name, n := range c {
		out = append(out, dataset.ByName{Name: name, Items: n})
	}
	slices.SortFunc(out, func(a, b dataset.ByName) int {
		return cmp.Or(cmp.Compare(b.Items, a.Items), cmp.Compare(a.Name, b.Name))
	})
	return out[:min(len(out), mostNames)]
}
