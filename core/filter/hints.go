package filter

import (
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"
)

// otherWords are what other languages of conditions say, and what is written here.
var otherWords = map[string]string{"and": "&&", "or": "||", "not": "!", "like": `contains, as title.contains("net")`,
	"between": "two conditions with &&", "is": "=="}

var words = regexp.MustCompile(`"(?:[^"\\]|\\.)*"?|'[^']*'?|[A-Za-z_][A-Za-z_0-9.]*`)

// otherWord finds one in a text that cannot be read.
func otherWord(text string) *Error {
	for _, at := range words.FindAllStringIndex(text, -1) {
		word := text[at[0]:at[1]]
		if here, ok := otherWords[strings.ToLower(word)]; ok {
			return &Error{utf8.RuneCountInString(text[:at[0]]) + 1, fmt.Sprintf("%s is written %s here", word, here)}
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
	case strings.Contains(message, "<EOF>"):
		return "something is missing at the end"
	}
	return message
}
