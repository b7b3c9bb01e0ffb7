package catalogue

import (
	"maps"
	"slices"
)

// Rule says what a standing asks of an edition.
type Rule struct {
	Name      string   `json:"name" maxLength:"40" example:"in-use"`
	Approvers int      `json:"approvers" minimum:"0" maximum:"20" doc:"People who must sign off; 0: it is not guarded"`
	Checks    []string `json:"checks,omitempty" maxItems:"50" doc:"That must have passed, by name"`

	Reporters map[string]string `json:"reporters,omitempty" maxProperties:"50" doc:"Who reports a check, by the check's name: what others report of it does not count. Absent: anybody who may report checks" example:"{\"every class\": \"buildhall\"}"`
}

// Lowers reports whether a rule asks for less than another in anything.
func (r Rule) Lowers(before Rule) bool {
	if r.Approvers < before.Approvers {
		return true
	}
	for _, c := range before.Checks {
		if !slices.Contains(r.Checks, c) {
			return true
		}
	}
	for check, who := range before.Reporters {
		if r.Reporters[check] != who {
			return true
		}
	}
	return false
}

// And asks for what either rule asks for. Where both say who reports a check, the one before counts.
func (r Rule) And(before Rule) Rule {
	out := Rule{Name: r.Name, Approvers: max(r.Approvers, before.Approvers), Checks: slices.Clone(r.Checks)}
	for _, c := range before.Checks {
		if !slices.Contains(out.Checks, c) {
			out.Checks = append(out.Checks, c)
		}
	}
	if len(r.Reporters)+len(before.Reporters) > 0 {
		out.Reporters = map[string]string{}
		maps.Copy(out.Reporters, r.Reporters)
		maps.Copy(out.Reporters, before.Reporters)
	}
	return out
}

// Leading is the standing that consumers and runs are measured by: in-use where there is one, else the first; "": there
// is none.
func Leading(standings []string) string {
	switch {
	case len(standings) == 0:
		return ""
	case slices.Contains(standings, "in-use"):
		return "in-use"
	}
	return standings[0]
}

// Sign is a sign-off.
type Sign struct {
	Person  string
	Upto    int64 // the latest check that was reported by then
	Current bool  // it was not withdrawn, and whoever signed may still sign off
}

// Outcome is the latest of a check by one who reports it. Another's "passed" takes no place of their "failed".
type Outcome struct {
	Name   string
	Who    string
	Passed bool
}

// LackKind is a kind of what keeps an edition from a standing.
type LackKind string

// The kinds.
const (
	LacksSigns  LackKind = "sign-offs"
	LacksCheck  LackKind = "check"  // it was not reported
	FailedCheck LackKind = "failed" // it was, and did not pass
)

// Lack is what keeps an edition from a standing.
type Lack struct {
	Kind LackKind `json:"kind" enum:"sign-offs,check,failed"`
	Name string   `json:"name,omitempty" doc:"Of the check"`
	By   string   `json:"by,omitempty" doc:"Who must report the check"`
	Have int      `json:"have,omitempty" doc:"Sign-offs that count"`
	Need int      `json:"need,omitempty" doc:"Of how many"`
}

// Counts reports whether a sign-off counts: of somebody who may still give it, not of the one who asks, and on the
// checks as they are: latest is the latest that was reported on the edition.
func (s Sign) Counts(asker string, latest int64) bool {
	return s.Current && s.Person != asker && s.Upto == latest
}

// Lacks says what keeps an edition from a standing that somebody asked for; nothing: it takes it.
func Lacks(rule Rule, asker string, signs []Sign, outcomes []Outcome, latest int64) []Lack {
	var out []Lack
	for _, name := range rule.Checks {
		reported, failed := false, false
		for _, o := range outcomes {
			if o.Name == name && (rule.Reporters[name] == "" || rule.Reporters[name] == o.Who) {
				reported, failed = true, failed || !o.Passed
			}
		}
		switch {
		case !reported:
			out = append(out, Lack{Kind: LacksCheck, Name: name, By: rule.Reporters[name]})
		case failed:
			out = append(out, Lack{Kind: FailedCheck, Name: name})
		}
	}
	people := map[string]bool{}
	for _, s := range signs {
		if s.Counts(asker, latest) {
			people[s.Person] = true
		}
	}
	if len(people) < rule.Approvers {
		out = append(out, Lack{Kind: LacksSigns, Have: len(people), Need: rule.Approvers})
	}
	return out
}
