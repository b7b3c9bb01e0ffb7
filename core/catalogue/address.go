package catalogue

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
)

// Proposed is the standing of the edition that is asked for another one, and waits for it.
const Proposed = "proposed"

// Address names a model, one of its editions, or the edition that has a standing.
type Address struct {
	Model    string
	Edition  int    // 0: none is meant by number
	Standing string // "": none is meant
}

var name = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// CheckName says what is wrong with the name of a model or of a standing, or nil.
func CheckName(what, text string) error {
	if !name.MatchString(text) {
		return fmt.Errorf("%s cannot be called %.60q: 1 to 40 lower-case letters, digits and -, the first a letter",
			what, text)
	}
	return nil
}

// Parse reads an address.
func Parse(text string) (Address, error) {
	model, number, hasNumber := strings.Cut(text, "#")
	model, standing, hasStanding := strings.Cut(model, "/")
	a := Address{Model: model, Standing: standing}
	err := CheckName("a model", model)
	switch {
	case err != nil:
	case hasNumber && hasStanding:
		err = fmt.Errorf("it names an edition twice")
	case hasStanding:
		err = CheckName("a standing", standing)
	case hasNumber:
		n, wrong := strconv.ParseInt(number, 10, 32)
		if a.Edition = int(n); wrong != nil || n < 1 {
			err = fmt.Errorf("%.40q is no number of an edition", number)
		}
	}
	if err != nil {
		return Address{}, fmt.Errorf("%.100q is no address in the catalogue, such as vessel-classifier#3 or vessel-classifier/in-use: %w", text, err)
	}
	return a, nil
}

// Names reports whether a text is an address of an edition or standing, and of nothing else.
func Names(text string) bool {
	a, err := Parse(text)
	return err == nil && (a.Edition > 0 || a.Standing != "")
}

// String writes the address as Parse reads it.
func (a Address) String() string {
	switch {
	case a.Edition > 0:
		return a.Model + "#" + strconv.Itoa(a.Edition)
	case a.Standing != "":
		return a.Model + "/" + a.Standing
	}
	return a.Model
}
