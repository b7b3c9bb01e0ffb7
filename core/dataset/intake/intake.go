// Package intake makes items of what teams have: paths that a pattern takes apart, rows of tables whose columns are
// guessed, shown and set.
package intake

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"kembrel/core/chunk"
	"kembrel/core/dataset"
	"kembrel/core/table"
)

// Pattern takes a path apart: its named groups split, group and label become those of the item, all others columns of
// one's own, as texts. RE2: its time is linear in the path, whatever the pattern.
type Pattern struct {
	re      *regexp.Regexp
	names   []string
	Columns []dataset.OwnColumn
}

// ParsePattern reads a pattern, such as (?P<split>train|val)/(?P<group>voyage\d+)/(?P<label>\w+)-.*\.npy. It is matched
// anywhere in the path.
func ParsePattern(text string) (*Pattern, error) {
	re, err := regexp.Compile(text)
	if err != nil {
		return nil, fmt.Errorf("the pattern cannot be read: %w", err)
	}
	p := &Pattern{re: re, names: re.SubexpNames()}
	for _, name := range p.names {
		if name != "" && !slices.Contains([]string{"split", "group", "label"}, name) {
			p.Columns = append(p.Columns, dataset.OwnColumn{Name: name, Kind: dataset.Text})
		}
	}
	if len(slices.DeleteFunc(slices.Clone(p.names), func(n string) bool { return n == "" })) == 0 {
		return nil, fmt.Errorf("the pattern has no named group, such as (?P<split>train|val|test)")
	}
	slices.SortFunc(p.Columns, func(a, b dataset.OwnColumn) int { return strings.Compare(a.Name, b.Name) })
	return p, dataset.CheckColumns(p.Columns)
}

// Apply sets in an item what the pattern finds in a path; false: it does not match. Own has the columns of the pattern.
func (p *Pattern) Apply(path string, it *dataset.Item) bool {
	found := p.re.FindStringSubmatch(path)
	if found == nil {
		return false
	}
	it.Own = make([]any, len(p.Columns))
	for i, name := range p.names {
		switch {
		case name == "" || found[i] == "":
		case name == "split":
			it.Split = strings.ToLower(found[i])
		case name == "group":
			it.Group = found[i]
		case name == "label":
			it.Labels = []string{found[i]}
		default:
			at := slices.IndexFunc(p.Columns, func(c dataset.OwnColumn) bool { return c.Name == name })
			it.Own[at] = found[i]
		}
	}
	return true
}

// Role is what a column of a table means.
type Role string

// The roles. A column of role Own is one of the team's own; Gone says that an item is left out of a changed snapshot.
const (
	Key    Role = "key"
	File   Role = "file" // a path from the table's folder, whose bytes are the item's
	Split  Role = "split"
	Group  Role = "group"
	Label  Role = "label"
	Size   Role = "size"
	Digest Role = "digest"
	Gone   Role = "gone"
	Own    Role = "own"
	Skip   Role = "left out"
)

var roleNames = map[Role][]string{
	Key: {"key", "id", "item", "item id", "example", "example id"}, File: {"file", "path", "filename", "file name"},
	Split: {"split", "subset", "partition"}, Group: {"group", "group id"},
	Label: {"label", "labels", "class", "category", "target"},
	Size:  {"size", "bytes"}, Digest: {"digest"}, Gone: {"gone"},
}

// Meaning says what a column of a table is taken for.
type Meaning struct {
	Name string // in the table
	Role Role
	Kind dataset.Kind // of an own column
	As   string       // its name
	Why  string       // why it is left out
}

// Reader makes items of the rows of a table.
type Reader struct {
	Meanings []Meaning
	Columns  []dataset.OwnColumn // of the items: by name
	table    *table.Table
	places   []int // of each column of the table in Columns; -1: none
	row      int64
}

// NewReader guesses what the columns of a table mean: by their names, and of one's own by what the first rows hold.
func NewReader(t *table.Table) *Reader {
	r := &Reader{table: t}
	taken := map[Role]bool{}
	for i, name := range t.Head {
		m := Meaning{Name: name, Role: Own, As: strings.TrimSpace(name)}
		plain := strings.ToLower(strings.NewReplacer("_", " ", "-", " ").Replace(m.As))
		for role, names := range roleNames {
			if slices.Contains(names, plain) && !taken[role] {
				m.Role, taken[role] = role, true
			}
		}
		if m.Role == Own {
			m.Kind = kindOf(t.Look, i)
		}
		r.Meanings = append(r.Meanings, m)
	}
	return r
}

// absent are the ways in which tables say that there is nothing.
var absent = []string{"", "-", "na", "n/a", "nan", "null", "none"}

func isAbsent(text string) bool {
	return slices.Contains(absent, strings.ToLower(strings.TrimSpace(text)))
}

func kindOf(rows []table.Row, column int) dataset.Kind {
	kind, seen := dataset.Number, false
	boolean := true
	for _, r := range rows {
		if column >= len(r.Cells) || isAbsent(r.Cells[column]) {
			continue
		}
		text := strings.TrimSpace(r.Cells[column])
		seen = true
		if text != "true" && text != "false" {
			boolean = false
		}
		if _, err := strconv.ParseFloat(text, 64); err != nil {
			kind = dataset.Text
		}
	}
	switch {
	case !seen:
		return dataset.Text
	case boolean:
		return dataset.Boolean
	}
	return kind
}

// Set says what a column means: a role, or number, text, boolean for one of one's own; "" leaves it out.
func (r *Reader) Set(column, as string) error {
	i := slices.IndexFunc(r.Meanings, func(m Meaning) bool { return m.Name == column })
	if i < 0 {
		return fmt.Errorf("the table has no column %q; it has: %s", column, strings.Join(r.table.Head, ", "))
	}
	m := &r.Meanings[i]
	switch role := Role(as); role {
	case "":
		m.Role = Skip
	case Key, File, Split, Group, Label, Size, Digest, Gone:
		for k := range r.Meanings {
			if k != i && r.Meanings[k].Role == role {
				r.Meanings[k].Role, r.Meanings[k].Kind = Own, kindOf(r.table.Look, k)
			}
		}
		m.Role = role
	case Role(dataset.Text), Role(dataset.Number), Role(dataset.Boolean):
		m.Role, m.Kind = Own, dataset.Kind(as)
	default:
		return fmt.Errorf("%q means nothing for a column; there are key, file, split, group, label, size, digest, gone, text, number, boolean, and nothing to leave it out", as)
	}
	return nil
}

// FirstFile is the column that was taken for paths of files, and the first path in it; "" where there is none.
func (r *Reader) FirstFile() (column, path string) {
	for i, m := range r.Meanings {
		if m.Role != File {
			continue
		}
		for _, row := range r.table.Look {
			if i < len(row.Cells) && row.Cells[i] != "" {
				return m.Name, strings.TrimSpace(row.Cells[i])
			}
		}
	}
	return "", ""
}

// Has reports whether a column of the table has a role.
func (r *Reader) Has(role Role) bool {
	return slices.ContainsFunc(r.Meanings, func(m Meaning) bool { return m.Role == role })
}

// Begin ends guessing and setting: it says what cannot be, and where columns are.
func (r *Reader) Begin() error {
	r.Columns = nil
	for i, m := range r.Meanings {
		if m.Role != Own {
			continue
		}
		if slices.Contains(dataset.Reserved, m.As) {
			m.As = "own " + m.As
			r.Meanings[i].As = m.As
		}
		r.Columns = append(r.Columns, dataset.OwnColumn{Name: m.As, Kind: m.Kind})
	}
	slices.SortFunc(r.Columns, func(a, b dataset.OwnColumn) int { return strings.Compare(a.Name, b.Name) })
	r.places = make([]int, len(r.Meanings))
	for i, m := range r.Meanings {
		r.places[i] = slices.IndexFunc(r.Columns,
			func(c dataset.OwnColumn) bool { return m.Role == Own && c.Name == m.As })
	}
	return dataset.CheckColumns(r.Columns)
}

// Next is the item of the next row; io.EOF behind the last. A row that is no item is a *table.ReadError, and the next
// may be one. Without a column of keys, keys are the numbers of the rows. file is the path that a column of role File
// names.
func (r *Reader) Next() (it *dataset.Item, file string, err error) {
	row, err := r.table.Next()
	if err != nil {
		return nil, "", err
	}
	r.row++
	it = &dataset.Item{Target: math.NaN(), Own: make([]any, len(r.Columns)), Size: -1}
	for i, m := range r.Meanings {
		if i >= len(row.Cells) {
			break
		}
		text := strings.TrimSpace(row.Cells[i])
		wrong := func(format string, args ...any) error {
			return &table.ReadError{Line: row.Line, Column: row.Where(i),
				What: m.Name + ": " + fmt.Sprintf(format, args...)}
		}
		switch m.Role {
		case Key:
			it.Key = text
		case File:
			if file = text; !r.Has(Key) { // a path is a key as well
				it.Key = text
			}
		case Split:
			it.Split = strings.ToLower(text)
		case Group:
			it.Group = text
		case Label:
			if err := setLabel(it, text); err != nil {
				return nil, "", wrong("%v", err)
			}
		case Size:
			if text == "" {
				break
			}
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil || n < 0 {
				return nil, "", wrong("%.40q is no number of bytes", text)
			}
			it.Size = n
		case Digest:
			if text == "" {
				break
			}
			if it.Digest, err = chunk.ParseDigest(text); err != nil {
				return nil, "", wrong("%v", err)
			}
		case Gone:
			switch strings.ToLower(text) {
			case "true", "yes", "1":
				it.Gone = true
			case "", "false", "no", "0":
			default:
				return nil, "", wrong("%.40q is neither yes nor no", text)
			}
		case Own:
			v, err := ownValue(m.Kind, text)
			if err != nil {
				return nil, "", wrong("%v; --map '%s=text' takes the column as text", err, m.Name)
			}
			it.Own[r.places[i]] = v
		}
	}
	if it.Key == "" {
		if r.Has(Key) || r.Has(File) {
			return nil, "", &table.ReadError{Line: row.Line, What: "the item has no key"}
		}
		it.Key = fmt.Sprintf("row-%08d", r.row)
	}
	if it.Size < 0 && file == "" { // the row itself is the item
		if it.Digest == (chunk.Digest{}) {
			it.Digest = dataset.RowDigest(it.Labels, it.Target, r.Columns, it.Own)
		}
		it.Size = 0
		for _, c := range row.Cells {
			it.Size += int64(len(c))
		}
		it.Near = r.near(it)
	}
	it.Size = max(it.Size, 0)
	if err := it.Check(r.Columns); err != nil {
		return nil, "", &table.ReadError{Line: row.Line, What: err.Error()}
	}
	return it, file, nil
}

// near is what texts of a row are compared by: where it is one long text, that.
func (r *Reader) near(it *dataset.Item) uint64 {
	texts := ""
	n := 0
	for _, v := range it.Own {
		if s, ok := v.(string); ok && utf8.RuneCountInString(s) >= 20 {
			texts += s
			n++
		}
	}
	if n != 1 {
		return 0
	}
	return dataset.FoldText([]byte(texts))
}

func setLabel(it *dataset.Item, text string) error {
	if text == "" { // "none" and "n/a" may be classes
		return nil
	}
	if strings.HasPrefix(text, "[") {
		var list []any
		if err := json.Unmarshal([]byte(text), &list); err != nil {
			return fmt.Errorf("%.40q is no list of labels", text)
		}
		for _, v := range list {
			it.Labels = append(it.Labels, fmt.Sprint(v))
		}
		slices.Sort(it.Labels)
		it.Labels = slices.Compact(it.Labels)
		return nil
	}
	it.Labels = []string{text}
	return nil
}

func ownValue(kind dataset.Kind, text string) (any, error) {
	if kind == dataset.Text {
		if text == "" {
			return nil, nil
		}
		return text, nil
	}
	if isAbsent(text) {
		return nil, nil
	}
	if kind == dataset.Boolean {
		switch strings.ToLower(text) {
		case "true", "yes", "1":
			return true, nil
		case "false", "no", "0":
			return false, nil
		}
		return nil, fmt.Errorf("%.40q is no boolean", text)
	}
	v, err := strconv.ParseFloat(text, 64)
	if err != nil || math.IsInf(v, 0) {
		return nil, fmt.Errorf("%.40q is no number", text)
	}
	return v, nil
}
