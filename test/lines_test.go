package test

import (
	"go/scanner"
	"go/token"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Lines of Go have at most 120 columns, a tab being four, but for those that a text, which is not cut, makes longer.
func TestLinesAreShort(t *testing.T) {
	out, err := exec.Command("git", "-C", "..", "ls-files", "*.go").Output()
	if err != nil {
		t.Skip("this is no checkout")
	}
	files := strings.Fields(string(out))
	require.Greater(t, len(files), 200)
	for _, name := range files {
		src, err := os.ReadFile("../" + name)
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		texts := textLines(src)
		for i, line := range strings.Split(string(src), "\n") {
			if n := len([]rune(strings.ReplaceAll(line, "\t", "    "))); n > 120 && !texts[i+1] {
				t.Errorf("%s:%d has %d columns", name, i+1, n)
			}
		}
	}
}

// unplain are words that nobody would guess, for which there are plain ones.
var unplain = regexp.MustCompile(`(?i)\b(whence|foretells?|foretold|reckon(s|ed)?|errs?|erred|truth values?|greatest)\b`)

// code is what stands in a line as it is written in a program.
var code = regexp.MustCompile("`[^`]*`")

// Prose has at most 120 columns, where tables, commands and what cannot be broken are let be, and is plain.
func TestProseIsWrappedAndPlain(t *testing.T) {
	out, err := exec.Command("git", "-C", "..", "ls-files", "README.md", "CHANGELOG.md",
		"CONTRIBUTING.md", "SECURITY.md", "docs/*.md", "bench/*.md").Output()
	if err != nil {
		t.Skip("this is no checkout")
	}
	files := strings.Fields(string(out))
	require.Greater(t, len(files), 15)
	for _, name := range files {
		text, err := os.ReadFile("../" + name)
		require.NoError(t, err)
		fenced := false
		for i, line := range strings.Split(string(text), "\n") {
			plain := strings.TrimSpace(line)
			if strings.HasPrefix(plain, "```") {
				fenced = !fenced
			}
			if fenced || plain == "" {
				continue
			}
			if word := unplain.FindString(code.ReplaceAllString(line, "")); word != "" {
				t.Errorf("%s:%d says %q", name, i+1, word)
			}
			if strings.ContainsAny(plain[:1], "|#<") {
				continue
			}
			if r := []rune(line); len(r) > 120 && strings.ContainsRune(strings.TrimSpace(string(r[:120])), ' ') {
				t.Errorf("%s:%d has %d columns", name, i+1, len(r))
			}
		}
	}
	described, err := os.ReadFile("../docs/openapi.json")
	require.NoError(t, err)
	require.Empty(t, unplain.FindString(string(described)), "docs/openapi.json")
}

// textLines are the lines with texts of 40 characters or more, or a part of one that goes over lines.
func textLines(src []byte) map[int]bool {
	files := token.NewFileSet()
	f := files.AddFile("", -1, len(src))
	var s scanner.Scanner
	s.Init(f, src, nil, 0)
	out, sizes := map[int]bool{}, map[int]int{}
	for {
		at, kind, text := s.Scan()
		if kind == token.EOF {
			return out
		}
		if kind != token.STRING {
			continue
		}
		first := f.Line(at)
		sizes[first] += len(text)
		out[first] = out[first] || sizes[first] >= 40
		for i := range strings.Count(text, "\n") {
			out[first+i] = true
			out[first+i+1] = true
		}
	}
}
