package history

import (
	"fmt"
	"slices"
	"strings"

	"kembrel/core/curve"
	"kembrel/core/hyper"
)

// Role is what a column holds.
type Role string

// The roles. A column of role Values holds the readings of one curve; Curve and Value together make a long table.
const (
	Run    Role = "run"
	Curve  Role = "curve"
	Step   Role = "step"
	Epoch  Role = "epoch"
	Time   Role = "time"
	Value  Role = "value"
	Values Role = "values"
	Hyper  Role = "hyperparameter"
	Skip   Role = "left out"
)

// Column says what a column of a file is taken for.
type Column struct {
	Name string // as in the file; a second column of a name is "name (2)"
	Role Role
	As   string // the curve, for Values; the hyperparameter, for Hyper
	Why  string // for Skip; or what is remarkable about its numbers

	writes notation
	said   bool // by Set: it is not guessed
}

var roles = map[Role][]string{
	Run:   {"run", "run id", "run name", "experiment"},
	Curve: {"curve", "measure", "metric", "name"},
	Step:  {"step", "steps", "iteration", "iterations", "iter", "update"},
	Epoch: {"epoch", "epochs"},
	Time:  {"time", "timestamp", "date", "datetime", "at"},
	Value: {"value"},
}

func (f *File) guess() {
	taken := map[Role]bool{}
	plain := make([]string, len(f.table.Head))
	for i, h := range f.table.Head {
		plain[i] = strings.ToLower(strings.TrimSpace(strings.NewReplacer("_", " ", "-", " ").Replace(h)))
	}
	role := func(name string) Role {
		for r, names := range roles {
			if slices.Contains(names, name) {
				return r
			}
		}
		return Values
	}
	// A file that names splits as Kembrel does is taken at its word.
	own := slices.ContainsFunc(f.table.Head, func(h string) bool { _, split := curve.SplitName(h); return split != "" })
	validated := slices.ContainsFunc(f.table.Head,
		func(h string) bool { _, split := curve.SplitName(CurveName(h, false)); return split == "val" })
	f.own = own
	isLong := slices.ContainsFunc(plain, func(n string) bool { return role(n) == Curve }) &&
		slices.ContainsFunc(plain, func(n string) bool { return role(n) == Value })
	seen := map[string]int{}
	for i, h := range f.table.Head {
		h = strings.TrimSpace(h)
		c := Column{Name: h, Role: role(plain[i])}
		if seen[h]++; seen[h] > 1 {
			c.Name = fmt.Sprintf("%s (%d)", h, seen[h])
		}
		if (c.Role == Curve || c.Role == Value) && !isLong || taken[c.Role] && c.Role != Values {
			c.Role = Values
		}
		if c.Role == Values && isLong {
			c.Role, c.Why = Skip, "a long table has its readings in one column"
		}
		if c.Role == Values {
			if c.As = h; !own {
				c.As = CurveName(h, validated)
			}
			if curve.CheckName(c.As) != nil {
				c.Role, c.As, c.Why = Skip, "", "no curve can have this name"
			}
		}
		if writes, share, bad, ok := numbers(f.table.Look, i, f.table.Divider); ok {
			c.writes = writes
			if c.Role == Values || c.Role == Value {
				c.Why = says[writes]
				if share {
					c.Why = strings.TrimPrefix(c.Why+", percentages taken as shares", ", ")
				}
			}
		} else if c.Role == Values {
			c.Role, c.As, c.Why = Skip, "", fmt.Sprintf("it holds text, such as %.30q", bad)
		}
		taken[c.Role] = true
		f.Columns = append(f.Columns, c)
	}
}

// CurveName is the curve that a column's name most likely means: measure first, then the split. Where a file also has
// validation curves, a name without a split means training.
//
//	CurveName("val_loss", true)   // "loss.val"
//	CurveName("loss", true)       // "loss.train"
//	CurveName("train/acc", false) // "acc.train"
func CurveName(column string, validated bool) string {
	words := strings.FieldsFunc(column, func(r rune) bool { return strings.ContainsRune("/_ .-:|\\", r) })
	splits := map[string]string{"train": "train", "training": "train", "val": "val", "valid": "val",
		"validation": "val", "test": "test", "testing": "test"}
	split, rest := "", words[:0:0]
	for i, w := range words {
		if s, ok := splits[strings.ToLower(w)]; ok && split == "" && (i == 0 || i == len(words)-1) {
			split = s
		} else {
			rest = append(rest, w)
		}
	}
	if len(rest) == 0 || split == "" && !validated {
		return strings.Trim(strings.ReplaceAll(column, "/", "."), ". ")
	}
	measure := strings.Join(rest, "_")
	if split == "" {
		if !slices.Contains([]string{"loss", "accuracy", "acc", "error"}, strings.ToLower(measure)) {
			return strings.Trim(strings.ReplaceAll(column, "/", "."), ". ")
		}
		split = "train"
	}
	return measure + "." + split
}

// Set overrules the guess for a column: as is a curve's name, a role, hyper.NAME, or "" to leave it out.
func (f *File) Set(column, as string) error {
	i := slices.IndexFunc(f.Columns, func(c Column) bool { return c.Name == column })
	if i < 0 {
		return fmt.Errorf("the file has no column %q; it has: %s", column, strings.Join(f.names(), ", "))
	}
	c := &f.Columns[i]
	writes := c.writes
	defer func() { c.writes, c.said = writes, true }()
	switch r := Role(as); {
	case as == "":
		*c = Column{Name: column, Role: Skip, Why: "as you said"}
	case roles[r] != nil:
		*c = Column{Name: column, Role: r}
	case strings.HasPrefix(as, "hyper."):
		name := strings.TrimPrefix(as, "hyper.")
		if err := hyper.CheckName(name); err != nil {
			return err
		}
		*c = Column{Name: column, Role: Hyper, As: name}
	default:
		if err := curve.CheckName(as); err != nil {
			return err
		}
		*c = Column{Name: column, Role: Values, As: as}
	}
	return nil
}

func (f *File) names() []string {
	out := make([]string, len(f.Columns))
	for i, c := range f.Columns {
		out[i] = c.Name
	}
	return out
}

// one returns the column of a role, or -1.
func (f *File) one(r Role) (int, error) {
	at := -1
	for i, c := range f.Columns {
		if c.Role != r {
			continue
		}
		if at >= 0 {
			return 0, fmt.Errorf("columns %q and %q are both taken for the %s; say which with --map",
				f.Columns[at].Name, c.Name, r)
		}
		at = i
	}
	return at, nil
}
