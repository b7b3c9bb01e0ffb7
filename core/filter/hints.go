package filter

import (
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"
)

// otherWords are what other languages of conditions say, and what is written here.
var otherWords = map[string]string{"and": "&&", "or": "||", "not": "!", "like": `contains, as title.contains("net")`,
	"between": "two conditions with &&", "is": "==", "contains": `title.contains("net") and "baseline" in tags`}

var (
	words    = regexp.MustCompile(`"(?:[^"\\]|\\.)*"?|'[^']*'?|[A-Za-z_][A-Za-z_0-9.]*`)
	lengths  = regexp.MustCompile(`"(?:[^"\\]|\\.)*"?|'[^']*'?|[A-Za-z_][A-Za-z_0-9.]*|[0-9.]+[smhdw]\b`)
	inRounds = regexp.MustCompile(`^\s*\([^()]*[,)]`)
)

// otherWord finds one in a text that cannot be read.
func otherWord(text string) *Error {
	for _, at := range words.FindAllStringIndex(text, -1) {
		word := text[at[0]:at[1]]
		column := utf8.RuneCountInString(text[:at[0]]) + 1
		if here, ok := otherWords[strings.ToLower(word)]; ok {
			return &Error{column, fmt.Sprintf("%s is written %s here", word, here)}
		}
		if strings.ToLower(word) == "in" && inRounds.MatchString(text[at[1]:]) {
			return &Error{column, `a list is written in brackets: in ["failed", "lost"]`}
		}
	}
	return nil
}

// bareLength finds a length of time without quotes in a text that cannot be read.
func bareLength(text string) *Error {
	for _, at := range lengths.FindAllStringIndex(text, -1) {
		if word := text[at[0]:at[1]]; word[0] >= '0' && word[0] <= '9' {
			return &Error{utf8.RuneCountInString(text[:at[0]]) + 1,
				fmt.Sprintf("a length of time is written in quotes: %q", word)}
		}
	}
	return nil
}

// plain says what CEL's parser says in our words.
func plain(message string) string {
	message, _, _ = strings.Cut(strings.TrimPrefix(message, "Syntax error: "), " expecting {")
	_, what, _ := strings.Cut(message, " at: ")
	switch {
	case strings.HasPrefix(message, "token recognition error") && strings.HasPrefix(strings.Trim(what, "'"), "="):
		return "a single = compares nothing; write =="
	case strings.HasPrefix(message, "token recognition error"):
		return "this cannot be read: " + what
	case strings.Contains(message, "input '<EOF>'"):
		return "something is missing at the end"
	case strings.Contains(message, "input ','"):
		return "a comma stands only in a list, which is written in brackets: [64, 32]; numbers have a decimal point"
	case strings.Contains(message, " input '"):
		_, what, _ = strings.Cut(message, " input '")
		what, _, _ = strings.Cut(what, "'")
		return fmt.Sprintf("%q does not belong here", what)
	}
	return message
}
