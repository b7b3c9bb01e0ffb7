package kept

import (
	"bufio"
	"bytes"
	"container/heap"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"kembrel/core/dataset"
)

// Scratch is a place on disk for what does not fit in memory while items are sorted.
type Scratch interface {
	io.ReadWriteSeeker
	io.Closer
}

// runBytes is how much is sorted in memory at a time.
const runBytes = 32 << 20

// Sorter puts items into the order of their keys, in bounded memory: O(n log n), about 64 MB.
type Sorter struct {
	columns int
	scratch func() (Scratch, error)
	buffer  []byte
	index   []span
	runs    []Scratch
	count   int64
}

type span struct{ from, to int }

// NewSorter makes one for items with so many own columns. scratch makes empty places on disk; it is asked for one every
// 32 MB.
func NewSorter(columns int, scratch func() (Scratch, error)) *Sorter {
	return &Sorter{columns: columns, scratch: scratch}
}

// Add takes an item, which was checked.
func (s *Sorter) Add(it *dataset.Item) error {
	if s.count++; s.count > dataset.MaxItems {
		return fmt.Errorf("more than %d items", dataset.MaxItems)
	}
	from := len(s.buffer)
	s.buffer = dataset.AppendItem(s.buffer, it)
	s.index = append(s.index, span{from, len(s.buffer)})
	if len(s.buffer) < runBytes {
		return nil
	}
	return s.spill()
}

// key is that of an encoded item.
func key(encoded []byte) []byte {
	n, at := binary.Uvarint(encoded)
	return encoded[at : uint64(at)+n]
}

// inOrder compares encoded items by key, then by all of them.
func inOrder(a, b []byte) int {
	if d := bytes.Compare(key(a), key(b)); d != 0 {
		return d
	}
	return bytes.Compare(a, b)
}

func (s *Sorter) sort() {
	slices.SortFunc(s.index, func(a, b span) int {
		return inOrder(s.buffer[a.from:a.to], s.buffer[b.from:b.to])
	})
}

// spill writes what is in memory, in order, to a scratch file: each item behind its length.
func (s *Sorter) spill() error {
	s.sort()
	to, err := s.scratch()
	if err != nil {
		return err
	}
	s.runs = append(s.runs, to)
	w := bufio.NewWriterSize(to, 1<<18)
	var length [binary.MaxVarintLen64]byte
	for _, p := range s.index {
		n := binary.PutUvarint(length[:], uint64(p.to-p.from))
		w.Write(length[:n])
		w.Write(s.buffer[p.from:p.to])
	}
	if err := w.Flush(); err != nil {
		return err
	}
	s.buffer, s.index = s.buffer[:0], s.index[:0]
	return nil
}

// Close gives the scratch places back; it may be called twice.
func (s *Sorter) Close() error {
	var err error
	for _, r := range s.runs {
		err = errors.Join(err, r.Close())
	}
	s.runs, s.buffer, s.index = nil, nil, nil
	return err
}

// source gives out encoded items in order: those in memory, or those of a scratch file.
type source struct {
	head []byte
	next func() ([]byte, error) // io.EOF at the end; what it gave is good until the next call
}

func (s *source) advance() (err error) {
	s.head, err = s.next()
	return err
}

type sources []*source

func (h sources) Len() int           { return len(h) }
func (h sources) Less(i, j int) bool { return inOrder(h[i].head, h[j].head) < 0 }
func (h sources) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *sources) Push(x any)        { *h = append(*h, x.(*source)) }
func (h *sources) Pop() any {
	last := (*h)[len(*h)-1]
	*h = (*h)[:len(*h)-1]
	return last
}

// ErrKeys says which keys come more than once.
type ErrKeys struct {
	Keys  []string // the first ones
	Count int64    // items too many
}

func (e *ErrKeys) Error() string {
	return fmt.Sprintf("%d items have the key of another; keys are unique: %s", e.Count, strings.Join(e.Keys, ", "))
}

const keysNamed = 20

// Each calls each for the items in order of their keys. At the end it fails with an *ErrKeys where keys came more than
// once; each has seen the first of them.
func (s *Sorter) Each(each func(*dataset.Item) error) error {
	double := &ErrKeys{}
	var last []byte
	first := true
	err := s.merge(func(encoded []byte) error {
		k := key(encoded)
		if !first && bytes.Equal(k, last) {
			if double.Count++; len(double.Keys) < keysNamed {
				double.Keys = append(double.Keys, string(k))
			}
			return nil
		}
		first, last = false, append(last[:0], k...)
		it, err := dataset.DecodeItem(encoded, s.columns)
		if err != nil {
			return err
		}
		return each(&it)
	})
	if err == nil && double.Count > 0 {
		return double
	}
	return err
}

// Apart adds the items to another sorter with keys of their own. What comes more than once in a split is one item, of
// which the first is taken, and again counts the others. What comes in several splits is an item of each: the first, as
// splits are ordered, keeps its key, and the others have their split behind it (dataset.KeyIn).
func (s *Sorter) Apart(to *Sorter) (again int64, err error) {
	same := map[string]dataset.Item{} // of one key, by split
	var last []byte
	settle := func() error {
		for i, split := range slices.SortedFunc(maps.Keys(same), dataset.SplitOrder) {
			it := same[split]
			if i > 0 {
				it.Key = dataset.KeyIn(it.Key, split)
			}
			if err := to.Add(&it); err != nil {
				return err
			}
		}
		clear(same)
		return nil
	}
	err = s.merge(func(encoded []byte) error {
		if k := key(encoded); !bytes.Equal(k, last) {
			if err := settle(); err != nil {
				return err
			}
			last = append(last[:0], k...)
		}
		it, err := dataset.DecodeItem(encoded, s.columns)
		if err != nil {
			return err
		}
		if _, there := same[it.Split]; there {
			again++
			return nil
		}
		if len(same) == dataset.MaxSplits {
			return &dataset.ErrItem{Key: it.Key, What: fmt.Sprintf("it is in more than %d splits", dataset.MaxSplits)}
		}
		same[it.Split] = it
		return nil
	})
	if err == nil {
		err = settle()
	}
	return again, err
}

// merge calls each for the encoded items in order of their keys, then of their bytes. What it gives is good until it
// returns.
func (s *Sorter) merge(each func(encoded []byte) error) error {
	s.sort()
	var all sources
	at := 0
	all = append(all, &source{next: func() ([]byte, error) {
		if at == len(s.index) {
			return nil, io.EOF
		}
		at++
		return s.buffer[s.index[at-1].from:s.index[at-1].to], nil
	}})
	for _, run := range s.runs {
		if _, err := run.Seek(0, io.SeekStart); err != nil {
			return err
		}
		r := bufio.NewReaderSize(run, 1<<18)
		var buffer []byte
		all = append(all, &source{next: func() ([]byte, error) {
			n, err := binary.ReadUvarint(r)
			if err != nil {
				return nil, err
			}
			buffer = slices.Grow(buffer[:0], int(n))[:n]
			_, err = io.ReadFull(r, buffer)
			return buffer, err
		}})
	}
	live := all[:0]
	for _, src := range all {
		if err := src.advance(); err == nil {
			live = append(live, src)
		} else if !errors.Is(err, io.EOF) {
			return err
		}
	}
	heap.Init(&live)
	for len(live) > 0 {
		if err := each(live[0].head); err != nil {
			return err
		}
		switch err := live[0].advance(); {
		case errors.Is(err, io.EOF):
			heap.Pop(&live)
		case err != nil:
			return err
		default:
			heap.Fix(&live, 0)
		}
	}
	return nil
}
