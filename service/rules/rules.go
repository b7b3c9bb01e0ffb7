package rules

import (
	"encoding/json"
	"math"

	"kembrel/api"
	"kembrel/core/keep"
	"kembrel/core/verdict"
)

// ParseKeepRule reads a rule as it is kept; nil: all stay.
func ParseKeepRule(text json.RawMessage) *keep.Rule {
	var r keep.Rule
	if len(text) == 0 || json.Unmarshal(text, &r) != nil || r.Check() != nil {
		return nil
	}
	return &r
}

// ToKeepState is the keep rule that holds, of a run or of its project.
func ToKeepState(ofProject, ofRun json.RawMessage) *api.KeepState {
	out := &api.KeepState{Said: "all checkpoints stay", From: "none"}
	text := ofProject
	if len(ofRun) > 0 {
		text, out.From = ofRun, "run"
	} else if len(ofProject) > 0 {
		out.From = "project"
	}
	if rule := ParseKeepRule(text); rule != nil {
		out.Rule, out.Said = &api.KeepRule{Rule: *rule}, rule.Say()
	}
	return out
}

// ParseRule reads a stop rule as it is kept; nil: there is none.
func ParseRule(text json.RawMessage) *verdict.StopRule {
	if len(text) == 0 || string(text) == "{}" {
		return nil
	}
	r := &verdict.StopRule{}
	if json.Unmarshal(text, r) != nil {
		return nil
	}
	return r
}

// ToStopState is a stop rule as the API shows it.
func ToStopState(rule *verdict.StopRule, own bool) *api.StopState {
	out := &api.StopState{Rule: rule, From: "project", Left: api.Float(math.NaN()), Said: "none"}
	switch {
	case own:
		out.From = "run"
	case rule == nil:
		out.From = "none"
	}
	if rule != nil {
		out.Said = rule.Say()
	}
	return out
}
