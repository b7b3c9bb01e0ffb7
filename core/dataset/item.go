package dataset

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"kembrel/core/chunk"
	"kembrel/core/plain"
)

// Limits of a snapshot and of an item.
const (
	MaxItems   = 20_000_000
	MaxColumns = 200
	MaxLabels  = 100
	MaxSplits  = 64
	maxKey     = 1000 // bytes
	maxText    = 4000 // bytes of a value in a column of one's own
	maxName    = 200  // bytes of a group, a label, a column's name
)

// Kind is what a column of one's own holds.
type Kind string

// The kinds.
const (
	Text    Kind = "text"
	Number  Kind = "number"
	Boolean Kind = "boolean"
)

// OwnColumn is a column of one's own.
type OwnColumn struct {
	Name string `json:"name"`
	Kind Kind   `json:"kind"`
}

// Reserved are the names that no column of one's own may have.
var Reserved = []string{"key", "digest", "size", "split", "group", "label", "labels", "target", "blank", "near", "kept",
	"pieces", "found", "number", "text"}

// CheckColumns says what is wrong with the columns of one's own, or nil.
func CheckColumns(columns []OwnColumn) error {
	if len(columns) > MaxColumns {
		return fmt.Errorf("%d columns are too many; at most %d", len(columns), MaxColumns)
	}
	seen := map[string]bool{}
	for _, c := range columns {
		switch {
		case c.Name == "" || len(c.Name) > maxName || plain.Line(c.Name) != c.Name:
			return fmt.Errorf("a column cannot be called %.60q", c.Name)
		case slices.Contains(Reserved, c.Name):
			return fmt.Errorf("%q is no name for a column of your own: it means something here", c.Name)
		case seen[c.Name]:
			return fmt.Errorf("two columns are called %q", c.Name)
		case c.Kind != Text && c.Kind != Number && c.Kind != Boolean:
			return fmt.Errorf("column %q is %q, and may be text, number or boolean", c.Name, c.Kind)
		}
		seen[c.Name] = true
	}
	return nil
}

// Item is one example of a dataset.
type Item struct {
	Key    string       // path or id, unique in the snapshot
	Digest chunk.Digest // of its bytes, or of its row as RowDigest makes it; zero: not known
	Size   int64        // bytes
	Split  string       // train, val, test or the team's own; "": none
	Group  string       // what must not straddle splits: a voyage; "": none
	Labels []string     // one or several; nil: none
	Target float64      // a label that is a number; NaN: none
	Blank  bool         // its bytes are all the same
	Near   uint64       // equal for texts that are equal but for case, space and punctuation; 0: no text
	Kept   bool         // its bytes are in the store
	Pieces []byte       // where they are kept and more than one chunk: as chunk.Pack makes them
	Own    []any        // by the snapshot's columns: string, float64, bool; nil: absent
	Gone   bool         // of a change: it is to be left out
	Row    int64        // its place in the snapshot, from 0, where it was read from one
}

var splitName = regexp.MustCompile(`^[a-z0-9][a-z0-9_.-]{0,49}$`)

// ErrItem is what is wrong with one item.
type ErrItem struct {
	Key  string
	What string
}

func (e *ErrItem) Error() string { return fmt.Sprintf("item %.200q: %s", e.Key, e.What) }

// Check says what is wrong with an item in a snapshot of these columns, as an *ErrItem, or nil.
func (it *Item) Check(columns []OwnColumn) error {
	wrong := func(format string, args ...any) error { return &ErrItem{it.Key, fmt.Sprintf(format, args...)} }
	name := func(text string) bool {
		return len(text) <= maxName && utf8.ValidString(text) && plain.Line(text) == text
	}
	switch {
	case it.Key == "":
		return wrong("it has no key")
	case len(it.Key) > maxKey:
		return wrong("its key has %d bytes; at most %d", len(it.Key), maxKey)
	case !utf8.ValidString(it.Key) || plain.Line(it.Key) != it.Key:
		return wrong("its key has characters that cannot be shown")
	case it.Size < 0:
		return wrong("its size is %d", it.Size)
	case it.Split != "" && !splitName.MatchString(it.Split):
		return wrong("split %.60q; splits are lower-case letters, digits, - _ and ., such as train", it.Split)
	case !name(it.Group):
		return wrong("its group %.60q is too long or cannot be shown", it.Group)
	case len(it.Labels) > MaxLabels:
		return wrong("%d labels are too many; at most %d", len(it.Labels), MaxLabels)
	case math.IsInf(it.Target, 0):
		return wrong("its label is infinite")
	case len(it.Own) != len(columns):
		return wrong("%d values for %d columns", len(it.Own), len(columns))
	case len(it.Pieces)%36 != 0 || len(it.Pieces) > 36<<15:
		return wrong("its chunks cannot be read")
	}
	for _, l := range it.Labels {
		if l == "" || !name(l) {
			return wrong("label %.60q is empty, too long or cannot be shown", l)
		}
	}
	for i, v := range it.Own {
		ok := v == nil
		switch x := v.(type) {
		case string:
			ok = columns[i].Kind == Text && len(x) <= maxText && utf8.ValidString(x)
		case float64:
			ok = columns[i].Kind == Number && !math.IsInf(x, 0)
		case bool:
			ok = columns[i].Kind == Boolean
		}
		if !ok {
			return wrong("column %s is a %s, and %.60q is none", columns[i].Name, columns[i].Kind, fmt.Sprint(v))
		}
	}
	return nil
}

// Label is the label as one text: several are joined, a number is written shortest.
func (it *Item) Label() string {
	if len(it.Labels) > 0 {
		return strings.Join(it.Labels, " + ")
	}
	if !math.IsNaN(it.Target) {
		return fmt.Sprint(it.Target)
	}
	return ""
}

// KeyIn is the key of an item of a split where another split has an item of that key too.
func KeyIn(key, split string) string { return key + " (" + split + ")" }

// RowDigest is the digest of an item that is a row and has no bytes: of its label and its own columns.
func RowDigest(labels []string, target float64, columns []OwnColumn, own []any) chunk.Digest {
	it := Item{Labels: slices.Sorted(slices.Values(labels)), Target: target, Own: own}
	return chunk.Sum(appendValues(nil, &it, columns))
}

// appendValues encodes labels, target and own columns.
func appendValues(out []byte, it *Item, columns []OwnColumn) []byte {
	out = binary.AppendUvarint(out, uint64(len(it.Labels)))
	for _, l := range it.Labels {
		out = appendText(out, l)
	}
	out = binary.BigEndian.AppendUint64(out, floatBits(it.Target))
	for i, v := range it.Own {
		if v == nil {
			continue
		}
		out = appendText(out, columns[i].Name)
		out = AppendValue(out, v)
	}
	return out
}

// AppendValue encodes a value of a column of one's own.
func AppendValue(out []byte, v any) []byte {
	switch x := v.(type) {
	case nil:
		return append(out, 0)
	case string:
		return appendText(append(out, 1), x)
	case float64:
		return binary.BigEndian.AppendUint64(append(out, 2), floatBits(x))
	case bool:
		if x {
			return append(out, 4)
		}
		return append(out, 3)
	}
	panic(fmt.Sprintf("a value of the type %T", v))
}

// floatBits are those of a number; every NaN has the same.
func floatBits(v float64) uint64 {
	if math.IsNaN(v) {
		return 0x7FF8000000000001
	}
	return math.Float64bits(v)
}

func appendText(out []byte, text string) []byte {
	return append(binary.AppendUvarint(out, uint64(len(text))), text...)
}

// AppendItem encodes an item: the key first, so that encoded items are told apart by it.
func AppendItem(out []byte, it *Item) []byte {
	out = appendText(out, it.Key)
	out = append(out, it.Digest[:]...)
	out = binary.AppendUvarint(out, uint64(it.Size))
	out = appendText(out, it.Split)
	out = appendText(out, it.Group)
	out = binary.AppendUvarint(out, uint64(len(it.Labels)))
	for _, l := range it.Labels {
		out = appendText(out, l)
	}
	out = binary.BigEndian.AppendUint64(out, floatBits(it.Target))
	flags := byte(0)
	if it.Blank {
		flags |= 1
	}
	if it.Kept {
		flags |= 2
	}
	if it.Gone {
		flags |= 4
	}
	out = append(out, flags)
	out = binary.BigEndian.AppendUint64(out, it.Near)
	out = appendText(out, string(it.Pieces))
	for _, v := range it.Own {
		out = AppendValue(out, v)
	}
	return out
}

var errShort = errors.New("an item is cut off")

// decoder reads what AppendItem wrote; it is used on untrusted bytes as well.
type decoder struct {
	in  []byte
	bad bool
}

func (d *decoder) take(n uint64) []byte {
	if n > uint64(len(d.in)) {
		d.bad = true
		return nil
	}
	out := d.in[:n]
	d.in = d.in[n:]
	return out
}

func (d *decoder) number() uint64 {
	v, n := binary.Uvarint(d.in)
	if n <= 0 {
		d.bad = true
		return 0
	}
	d.in = d.in[n:]
	return v
}

func (d *decoder) text() string { return string(d.take(d.number())) }

func (d *decoder) bits() uint64 {
	if b := d.take(8); len(b) == 8 {
		return binary.BigEndian.Uint64(b)
	}
	return 0
}

// item reads one item with so many own columns.
func (d *decoder) item(columns int) (it Item, err error) {
	it.Key = d.text()
	copy(it.Digest[:], d.take(32))
	it.Size = int64(d.number())
	it.Split, it.Group = d.text(), d.text()
	if n := d.number(); n > MaxLabels {
		d.bad = true
	} else if n > 0 {
		it.Labels = make([]string, n)
		for i := range it.Labels {
			it.Labels[i] = d.text()
		}
	}
	it.Target = math.Float64frombits(d.bits())
	if flags := d.take(1); len(flags) == 1 {
		it.Blank, it.Kept, it.Gone = flags[0]&1 != 0, flags[0]&2 != 0, flags[0]&4 != 0
	}
	it.Near = d.bits()
	if pieces := d.take(d.number()); len(pieces) > 0 {
		it.Pieces = slices.Clone(pieces)
	}
	it.Own = make([]any, columns)
	for i := range it.Own {
		switch kind := d.take(1); {
		case len(kind) == 0:
		case kind[0] == 1:
			it.Own[i] = d.text()
		case kind[0] == 2:
			it.Own[i] = math.Float64frombits(d.bits())
		case kind[0] == 3 || kind[0] == 4:
			it.Own[i] = kind[0] == 4
		case kind[0] != 0:
			d.bad = true
		}
	}
	if d.bad {
		return it, errShort
	}
	return it, nil
}

// DecodeItem reads one item that AppendItem wrote.
func DecodeItem(in []byte, columns int) (Item, error) {
	d := decoder{in: in}
	return d.item(columns)
}

// EncodeBlock packs items that were checked, for keeping them until their snapshot is made.
func EncodeBlock(items []Item) []byte {
	var out []byte
	for i := range items {
		out = AppendItem(out, &items[i])
	}
	return out
}

// DecodeBlock calls each for the items of a block.
func DecodeBlock(block []byte, columns int, each func(*Item) error) error {
	d := decoder{in: block}
	for len(d.in) > 0 {
		it, err := d.item(columns)
		if err != nil {
			return err
		}
		if err := each(&it); err != nil {
			return err
		}
	}
	return nil
}

// AppendIdentity encodes what makes an item what it is; where its bytes are kept is not of that.
func AppendIdentity(out []byte, it *Item, columns []OwnColumn) []byte {
	out = appendText(out, it.Key)
	out = append(out, it.Digest[:]...)
	out = binary.AppendUvarint(out, uint64(it.Size))
	out = appendText(out, it.Split)
	out = appendText(out, it.Group)
	return appendText(out, string(appendValues(nil, it, columns)))
}

// SplitOrder puts train first, then val, test, the others by name, and what has no split last.
func SplitOrder(a, b string) int {
	rank := func(s string) int {
		if i := slices.Index([]string{"train", "val", "test"}, s); i >= 0 {
			return i
		}
		if s == "" {
			return 9
		}
		return 5
	}
	if d := rank(a) - rank(b); d != 0 {
		return d
	}
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}
