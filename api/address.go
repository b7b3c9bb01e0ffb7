package api

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"kembrel/core/checkpoint"
)

// Address names a project, a run or a checkpoint:
//
//	vessels            a project
//	vessels/17         a run
//	vessels/17@e12     its checkpoint of epoch 12 (the latest one in it)
//	vessels/17@s4800   its checkpoint at step 4800
//	vessels/17@s4800.leg1  the one of leg 1 there, which a later leg has replaced
//	vessels/17@best    the one nearest at or before the best reading of the objective
//	vessels/17@last    the latest one
type Address struct {
	Project string
	Run     int // 0: a project is meant
	At      At  // zero: no checkpoint is meant
}

// At says which checkpoint of a run is meant.
type At = checkpoint.At

// The ways to name a checkpoint.
const (
	AtNone  = checkpoint.AtNone
	AtEpoch = checkpoint.AtEpoch
	AtStep  = checkpoint.AtStep
	AtBest  = checkpoint.AtBest
	AtLast  = checkpoint.AtLast
)

// ParseAt reads the part of an address behind the "@".
func ParseAt(text string) (At, error) { return checkpoint.ParseAt(text) }

var projectKey = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// Everywhere stands in the place of a project's key for the whole service, where an operation takes it.
const Everywhere = "*"

// CheckProjectKey says what is wrong with a project's key, or nil.
func CheckProjectKey(key string) error {
	if !projectKey.MatchString(key) {
		return fmt.Errorf("project key %.60q: write a lower-case letter, then up to 39 letters, digits or hyphens, such as vessels", key)
	}
	return nil
}

// taken are names that the console and the service need for pages of their own, those to come included.
var taken = []string{"account", "api", "assets", "audit", "catalogue", "data", "enter", "go", "lineage", "models", "oidc",
	"people", "python", "searches", "sign-in", "sites", "storage", "subscriptions", "teams", "write-ups"}

// CheckNewProjectKey says why there can be no new project with a key, or nil.
func CheckNewProjectKey(key string) error {
	if err := CheckProjectKey(key); err != nil {
		return err
	}
	if slices.Contains(taken, key) {
		return fmt.Errorf("a project cannot be called %s: the console has a page of that name", key)
	}
	return nil
}

// ParseAddress reads any address.
func ParseAddress(text string) (Address, error) {
	wrong := func(why string) (Address, error) {
		return Address{}, fmt.Errorf("address %.80q: %s; write vessels, vessels/17, vessels/17@e12, @s4800, @s4800.leg1, @best or @last", text, why)
	}
	head, at, hasAt := strings.Cut(text, "@")
	project, number, hasRun := strings.Cut(head, "/")
	if !projectKey.MatchString(project) {
		return wrong("no project key at its start")
	}
	a := Address{Project: project}
	if hasRun {
		n, err := strconv.ParseInt(number, 10, 32)
		if err != nil || n < 1 || strconv.FormatInt(n, 10) != number {
			return wrong("the run is not a whole number from 1 up")
		}
		a.Run = int(n)
	}
	if hasAt {
		if !hasRun {
			return wrong("a checkpoint belongs to a run")
		}
		var err error
		if a.At, err = ParseAt(at); err != nil {
			return wrong(err.Error())
		}
	}
	return a, nil
}

// String writes the address as ParseAddress reads it.
func (a Address) String() string {
	text := a.Project
	if a.Run > 0 {
		text += "/" + strconv.Itoa(a.Run)
	}
	if a.At.Kind != AtNone {
		text += "@" + a.At.String()
	}
	return text
}
