// Package printed finds readings in what a program prints, so that a program that knows nothing of a recorder is
// recorded too:
//
//	f, err := printed.New(printed.Auto)
//	r, ok := f.Line("Epoch 3/40  loss.train=0.31  loss.val: 0.412")
//	// r.Epoch is 3, r.Values are loss.train 0.31 and loss.val 0.412
//
// By itself (Auto) it reads pairs, name=0.31 or name: 0.31, and lines that are a JSON object, whose objects within
// become dotted names. A pattern of the program's own is a regular expression (RE2) whose named groups are the curves,
// or one with the groups name and value, which may match many times in a line. Where a line does not say its step or
// epoch, the latest that was printed holds.
//
// It imports nothing of ours.
package printed

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Auto finds pairs and JSON lines.
const Auto = "auto"

// MaxLine is how much of a line is looked at, in bytes, and maxValues how many readings of one are taken.
const (
	MaxLine   = 64 << 10
	maxValues = 2000
)

// Reading is what a line says. Values are by the name that the program printed.
type Reading struct {
	Step   *int64
	Epoch  *float64
	Values map[string]float64
}

// Place is where the latest reading stood. It is kept where reading is to go on later.
type Place struct {
	Step   *int64   `json:"step,omitempty"`
	Epoch  *float64 `json:"epoch,omitempty"`
	Before int64    `json:"before,omitempty"` // steps of the epochs before, where a program counts them anew in each
	Lines  int64    `json:"lines,omitempty"`  // with readings, so far
}

// Finder finds readings in one stream of lines.
type Finder struct {
	Place
	pattern *regexp.Regexp // nil: Auto
	paired  bool           // it has the groups name and value
}

// New makes a finder: Auto, or a pattern with named groups.
func New(pattern string) (*Finder, error) {
	if pattern == Auto {
		return &Finder{}, nil
	}
	re, err := regexp.Compile(pattern)
	if err != nil {
		return nil, fmt.Errorf("the pattern is no regular expression (RE2): %w", err)
	}
	groups := slices.DeleteFunc(slices.Clone(re.SubexpNames()), func(s string) bool { return s == "" })
	f := &Finder{pattern: re, paired: slices.Contains(groups, "name") && slices.Contains(groups, "value")}
	curves := slices.DeleteFunc(groups, func(s string) bool { return place(s) != "" })
	if len(curves) == 0 {
		return nil, fmt.Errorf("the pattern names no curve: write its values as named groups, such as (?P<loss_val>[0-9.]+), or as (?P<name>...) and (?P<value>...)")
	}
	return f, nil
}

const number = `[-+]?(?:\d+\.?\d*(?:[eE][-+]?\d+)?|\.\d+(?:[eE][-+]?\d+)?|[nN]a[nN]|[iI]nf(?:inity)?)`

var (
	colours = regexp.MustCompile(`\x1b\[[0-9;?]*[ -/]*[@-~]`) // ECMA-48 control sequences
	pairs   = regexp.MustCompile(`([\pL_][\pL\pN_./-]*)["']?[ \t]*[=:][ \t]*(` + number +
		`)(%?)(?:/\d+)?(?:[\s,;|)\]}]|$)`)
	places = regexp.MustCompile(`(?i)(?:^|[^\pL\pN_.])(epoch|step|iteration|iter)\b[ \t#=:\[("']*(\d+(?:\.\d+)?)(?:[ \t]*(?:/|of)[ \t]*\d+)?`)
	bare   = regexp.MustCompile(`([:,\[]\s*)(-?(?:NaN|Infinity))(\s*[,\]}])`)
)

// place tells the names of places: step, epoch or "".
func place(name string) string {
	switch strings.ToLower(name) {
	case "step", "iteration", "iter":
		return "step"
	case "epoch":
		return "epoch"
	}
	return ""
}

// Line reads a line; false where it has no readings. What a terminal would have overwritten (behind a carriage return)
// is not read. O(length).
func (f *Finder) Line(line string) (Reading, bool) {
	if len(line) > MaxLine {
		return Reading{}, false
	}
	line = strings.TrimRight(line, "\r\n")
	line = line[strings.LastIndexByte(line, '\r')+1:]
	line = colours.ReplaceAllString(line, "")
	found := &found{values: map[string]float64{}}
	switch {
	case f.pattern != nil:
		f.match(line, found)
	case strings.HasPrefix(strings.TrimSpace(line), "{"):
		if !found.object(line) {
			found.pairs(line)
		}
	default:
		found.pairs(line)
	}
	f.move(found)
	// settings printed before training are none
	if len(found.values) == 0 || f.pattern == nil && f.Step == nil && f.Epoch == nil {
		return Reading{}, false
	}
	f.Lines++
	r := Reading{Values: found.values, Epoch: f.Epoch}
	if f.Step != nil {
		step := f.Before + *f.Step
		r.Step = &step
	} else if f.Epoch == nil || *f.Epoch != math.Trunc(*f.Epoch) { // a whole epoch may stand for the step
		lines := f.Lines
		r.Step = &lines
	}
	return r, true
}

// move takes over where a line says that it stands.
func (f *Finder) move(found *found) {
	if found.epoch != nil {
		f.Epoch = found.epoch
	}
	if found.step != nil {
		if f.Step != nil && *found.step < *f.Step { // counted anew
			f.Before += *f.Step
		}
		f.Step = found.step
	}
}

// found is what one line holds.
type found struct {
	step   *int64
	epoch  *float64
	values map[string]float64
}

// take takes a named number.
func (o *found) take(name string, v float64) {
	switch kind := place(name); {
	case kind == "step":
		if v == math.Trunc(v) && math.Abs(v) < 1<<53 {
			step := int64(v)
			o.step = &step
		}
	case kind == "epoch":
		if !math.IsNaN(v) && !math.IsInf(v, 0) && v >= 0 {
			o.epoch = &v
		}
	case len(o.values) < maxValues:
		o.values[name] = v
	}
}

// text takes a named number as it was printed; a percentage is a share.
func (o *found) text(name, text string) {
	share := strings.HasSuffix(text, "%")
	v, err := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
	if err != nil && !math.IsInf(v, 0) {
		return
	}
	if share {
		v /= 100
	}
	o.take(name, v)
}

func (o *found) pairs(line string) {
	for _, m := range places.FindAllStringSubmatch(line, -1) {
		o.text(m[1], m[2])
	}
	for from := 0; from < len(line); { // one pair ends where the next may begin
		m := pairs.FindStringSubmatchIndex(line[from:])
		if m == nil {
			return
		}
		name, value := line[from+m[2]:from+m[3]], line[from+m[4]:from+m[7]]
		if place(name) == "" {
			o.text(name, value)
		}
		from += max(m[7], 1)
	}
}

// object reads a JSON object; false where it is none.
func (o *found) object(line string) bool {
	var v map[string]any
	d := json.NewDecoder(bytes.NewReader([]byte(line)))
	if d.Decode(&v) != nil {
		quoted := bare.ReplaceAllString(bare.ReplaceAllString(line, `$1"$2"$3`), `$1"$2"$3`) // neighbours share a comma
		if json.Unmarshal([]byte(quoted), &v) != nil {
			return false
		}
	}
	o.members("", v)
	return true
}

func (o *found) members(prefix string, v map[string]any) {
	for name, member := range v {
		switch x := member.(type) {
		case float64:
			o.take(prefix+name, x)
		case string:
			switch strings.ToLower(strings.TrimLeft(x, "+-")) {
			case "nan", "inf", "infinity":
				o.text(prefix+name, x)
			}
		case map[string]any:
			o.members(prefix+name+".", x)
		}
	}
}

// match reads a line by the pattern.
func (f *Finder) match(line string, o *found) {
	names := f.pattern.SubexpNames()
	for _, m := range f.pattern.FindAllStringSubmatch(line, -1) {
		var name, value string
		for i, group := range names {
			switch {
			case group == "" || m[i] == "":
			case f.paired && group == "name":
				name = m[i]
			case f.paired && group == "value":
				value = m[i]
			default:
				o.text(curveOf(group), strings.TrimSpace(m[i]))
			}
		}
		if name != "" {
			o.text(name, strings.TrimSpace(value))
		}
	}
}

// curveOf is the curve that a group's name stands for, which cannot have dots: two underscores are one, and a split
// behind one underscore is a split.
func curveOf(group string) string {
	name := strings.ReplaceAll(group, "__", ".")
	for _, split := range []string{"train", "val", "test"} {
		if measure, ok := strings.CutSuffix(name, "_"+split); ok && measure != "" {
			return measure + "." + split
		}
	}
	return name
}
