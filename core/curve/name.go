package curve

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// MaxName is the longest curve name, in bytes.
const MaxName = 200

// Splits are the parts of the data that a curve may be measured on; a name's last segment is one of them or it has
// none.
var Splits = []string{"train", "val", "test"}

// CheckName says what is wrong with a curve's name, or nil. A name is one or more segments joined by dots; a segment is
// printable text without spaces at its ends, slashes, "@", commas or quotes, so that a name is safe in an address, a
// CSV header and a path.
func CheckName(name string) error {
	switch {
	case name == "":
		return fmt.Errorf("a curve needs a name, such as loss.train")
	case len(name) > MaxName:
		return fmt.Errorf("curve name of %d bytes is too long (at most %d)", len(name), MaxName)
	case !utf8.ValidString(name):
		return fmt.Errorf("curve name %q is not valid UTF-8", name)
	}
	for _, r := range name {
		if !unicode.IsPrint(r) {
			return fmt.Errorf("curve name %q contains the control or unprintable character %U", name, r)
		}
		if strings.ContainsRune(`/@,"'\`, r) {
			return fmt.Errorf("curve name %q contains %q, which addresses and CSV files use", name, r)
		}
	}
	for _, segment := range strings.Split(name, ".") {
		if segment == "" || strings.TrimSpace(segment) != segment {
			return fmt.Errorf("curve name %q has an empty or padded segment; write measure.split, such as loss.val",
				name)
		}
	}
	return nil
}

// Rename makes a curve's name of one that is none, by this rule: parts between slashes are segments; where the first is
// a split, it goes to the end; quotes, commas, "@" and what cannot be printed become "_"; spaces around a segment and
// empty segments go. It returns "" where nothing is left or the name stays too long. A name that is one stays as it is.
//
//	Rename("train/loss")     // "loss.train"
//	Rename("val/acc/top 5")  // "acc.top 5.val"
//	Rename("grad@layer,1")   // "grad_layer_1"
func Rename(name string) string {
	if CheckName(name) == nil {
		return name
	}
	if len(name) > 4*MaxName {
		return ""
	}
	name = strings.Map(func(r rune) rune {
		switch {
		case r == '/' || r == '\\':
			return '/'
		case r == '@' || r == ',' || r == '"' || r == '\'' || r == utf8.RuneError || !unicode.IsPrint(r):
			return '_'
		}
		return r
	}, name)
	parts := strings.Split(name, "/")
	for len(parts) > 1 && strings.Trim(parts[0], ". ") == "" {
		parts = parts[1:]
	}
	if first := strings.TrimSpace(parts[0]); len(parts) > 1 && slices.Contains(Splits, first) {
		parts = append(parts[1:], first)
	}
	var segments []string
	for _, segment := range strings.Split(strings.Join(parts, "."), ".") {
		if segment = strings.TrimSpace(segment); segment != "" {
			segments = append(segments, segment)
		}
	}
	if name = strings.Join(segments, "."); CheckName(name) != nil {
		return ""
	}
	return name
}

// SplitName takes a name apart: the measure, and the split it was taken on or "".
//
//	SplitName("loss.val")  // "loss", "val"
//	SplitName("host.cpu")  // "host.cpu", ""
func SplitName(name string) (measure, split string) {
	for _, s := range Splits {
		if m, ok := strings.CutSuffix(name, "."+s); ok {
			return m, s
		}
	}
	return name, ""
}

// InEpoch is the epoch, counted from 1, in which a reading was taken: 12 for what came after epoch 11 and up to the end
// of epoch 12.
func InEpoch(epoch float64) float64 { return math.Ceil(epoch - 1e-9) }

// OfMachine reports whether a curve is one of the machine's own, such as host.cpu, which say nothing about the
// training.
func OfMachine(name string) bool { return strings.HasPrefix(name, "host.") }
