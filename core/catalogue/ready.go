package catalogue

import "slices"

// Rule says what a standing asks of an edition.
type Rule struct {
	Name      string   `json:"name" maxLength:"40" example:"in-use"`
	Approvers int      `json:"approvers" minimum:"0" maximum:"20" doc:"People who must sign off; 0: it is not guarded"`
	Checks    []string `json:"checks,omitempty" maxItems:"50" doc:"That must have passed, by name"`
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
	Current bool  // whoever signed may still sign off
}

// Outcome is the latest of a check.
type Outcome struct {
	Name   string
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
		i := slices.IndexFunc(outcomes, func(o Outcome) bool { return o.Name == name })
		switch {
		case i < 0:
			out = append(out, Lack{Kind: LacksCheck, Name: name})
		case !outcomes[i].Passed:
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
