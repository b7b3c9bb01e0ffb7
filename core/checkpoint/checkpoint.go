// Package checkpoint says what a checkpoint is good for, which one an address means, and which file names it may hold.
// It imports nothing of ours and does no I/O.
package checkpoint

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// The parts that have a meaning of their own; a program may add others.
const (
	Weights      = "weights"
	Optimiser    = "optimiser"
	Architecture = "architecture"
)

// Fitness says what a checkpoint with these parts is good for: "resume" (weights and optimiser), "use" (weights and
// architecture), "weights only", or "nothing" of these.
func Fitness(parts []string) string {
	switch {
	case !slices.Contains(parts, Weights):
		return "nothing"
	case slices.Contains(parts, Optimiser):
		return "resume"
	case slices.Contains(parts, Architecture):
		return "use"
	}
	return "weights only"
}

// Stand is where a checkpoint stands in its run.
type Stand struct {
	Leg   int
	Step  int64
	Epoch float64
}

// AtEpoch returns the index of the latest checkpoint of an epoch, or -1. Stands come latest first.
func AtEpoch(stands []Stand, epoch float64) int {
	return slices.IndexFunc(stands, func(s Stand) bool { return s.Epoch == epoch })
}

// AtStep returns the index of the latest checkpoint at a step, or -1. Stands come latest first.
func AtStep(stands []Stand, step int64) int {
	return slices.IndexFunc(stands, func(s Stand) bool { return s.Step == step })
}

// NearestBefore returns the index of the checkpoint nearest at or before a step, or -1. Stands come latest first.
func NearestBefore(stands []Stand, step int64) int {
	return slices.IndexFunc(stands, func(s Stand) bool { return s.Step <= step })
}

// MaxPath is the longest path of a file, in bytes; 255 of them at most in one name.
const MaxPath = 500

// CheckPath says what is wrong with the path of a file in a checkpoint, or nil: relative, clean, with slashes, without
// control characters, so that it stays below whatever folder it is restored into on any system.
func CheckPath(p string) error {
	wrong := func(why string) error { return fmt.Errorf("file path %.120q %s", p, why) }
	switch {
	case p == "":
		return wrong("is empty")
	case len(p) > MaxPath:
		return wrong("is too long")
	case !utf8.ValidString(p):
		return wrong("is not valid UTF-8")
	case strings.HasPrefix(p, "/") || strings.Contains(p, `\`) || (len(p) > 1 && p[1] == ':'):
		return wrong("is not relative with slashes")
	case path.Clean(p) != p || p == "." || p == ".." || strings.HasPrefix(p, "../"):
		return wrong("leaves its folder or is not in its shortest form")
	}
	for _, r := range p {
		if unicode.IsControl(r) {
			return wrong("contains a control character")
		}
	}
	for _, name := range strings.Split(p, "/") {
		if len(name) > 255 {
			return wrong("has a name of more than 255 bytes")
		}
	}
	return nil
}

// CheckPart says what is wrong with the name of a part, or nil.
func CheckPart(name string) error {
	if name == "" || len(name) > 60 {
		return fmt.Errorf("part name %.80q must have 1 to 60 characters", name)
	}
	for _, r := range name {
		if !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '-') {
			return fmt.Errorf("part name %q: write lower-case letters, digits and hyphens, such as weights", name)
		}
	}
	return nil
}
