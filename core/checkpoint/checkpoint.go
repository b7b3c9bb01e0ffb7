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
	Random       = "random"
	Architecture = "architecture"
	Preprocess   = "preprocess"
)

// UsualNeeds are the parts that going on with a run needs, unless its program declares others.
var UsualNeeds = []string{Weights, Optimiser, Random}

// OnlyToResume reports whether a part is dead weight for whoever uses the model.
func OnlyToResume(part string) bool {
	return slices.Contains([]string{Optimiser, Random, "schedule", "position", "training"}, part)
}

// HoldsTensors reports whether a file of a part may hold tensors: JSON beside them says how they hang together.
func HoldsTensors(path string) bool { return !strings.HasSuffix(path, ".json") }

// Lacks are the needs that the parts do not cover, in the order of the needs.
func Lacks(parts, needs []string) []string {
	var out []string
	for _, n := range needs {
		if !slices.Contains(parts, n) {
			out = append(out, n)
		}
	}
	return out
}

// UsableFor says what a checkpoint with these parts is good for: "resume" (all that going on needs), "use" (weights and
// architecture), "weights only", or "nothing" of these.
func UsableFor(parts, needs []string) string {
	switch {
	case !slices.Contains(parts, Weights):
		return "nothing"
	case len(Lacks(parts, needs)) == 0:
		return "resume"
	case slices.Contains(parts, Architecture):
		return "use"
	}
	return "weights only"
}

// Classifies reports whether a curve of this name is one of a program that tells classes apart, so that its answers
// mean nothing without the labels.
func Classifies(curve string) bool {
	measure, _, _ := strings.Cut(curve, ".")
	return slices.Contains([]string{"accuracy", "precision", "recall", "f1", "error-rate", "overlap"}, measure)
}

// Warnings say what a person should know who counts on a checkpoint with these parts: that it does not do to resume, or
// that whoever uses the model would lack labels and ranges.
func Warnings(parts, needs []string, classes bool) []string {
	var out []string
	if lacks := Lacks(parts, needs); len(lacks) > 0 {
		out = append(out, "Its checkpoints lack "+strings.Join(lacks,
			", ")+", so the run cannot be resumed from them as if nothing had happened.")
	}
	if classes && slices.Contains(parts, Weights) && !slices.Contains(parts, Preprocess) {
		out = append(out, "The run tells classes apart, but its checkpoints have no part preprocess: label names, ranges for normalisation or vocabulary are not saved, and whoever uses the model needs them.")
	}
	return out
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
