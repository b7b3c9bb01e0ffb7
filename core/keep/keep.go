// Package keep decides which checkpoints of a run stay by its keep rule.
//
// A checkpoint stays if any part of the rule keeps it; whatever the rule says, those stay that are pinned, from which
// another run began, or from which the run itself may have to go on. It imports nothing of ours.
package keep

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"
)

// Rule says which checkpoints of a run stay. A rule without any part is not valid: to keep everything is to have no
// rule.
type Rule struct {
	Best  int     `json:"best,omitempty" minimum:"0" maximum:"10000" doc:"So many by the objective"`
	Last  int     `json:"last,omitempty" minimum:"0" maximum:"10000" doc:"The newest so many"`
	Every float64 `json:"every,omitempty" minimum:"0" doc:"The first at or after each multiple of so many epochs"`
	Days  float64 `json:"days,omitempty" minimum:"0" maximum:"36500" doc:"Those saved in the last so many days"`
	Where string  `json:"where,omitempty" maxLength:"4000" doc:"Those that a condition of the filter language holds for"`
	Grace float64 `json:"grace,omitempty" minimum:"0" maximum:"365" doc:"Days from the decision until the bytes go, in which it can be undone; absent: 7"`
}

// usualGrace is the grace period where a rule names none, in days.
const usualGrace = 7

// Check says what is wrong with a rule. What Where says is not looked at.
func (r Rule) Check() error {
	for _, v := range []float64{float64(r.Best), float64(r.Last), r.Every, r.Days, r.Grace} {
		if !(v >= 0) || math.IsInf(v, 0) {
			return fmt.Errorf("a keep rule has numbers from 0 up, not %g", v)
		}
	}
	if r.Best == 0 && r.Last == 0 && r.Every == 0 && r.Days == 0 && strings.TrimSpace(r.Where) == "" {
		return errors.New("this rule would keep nothing; say what stays: the best, the last, every so many epochs, the newest days, or a condition")
	}
	return nil
}

// Stays is how long dropped checkpoints wait until their bytes go.
func (r Rule) GracePeriod() time.Duration {
	if r.Grace == 0 {
		return usualGrace * 24 * time.Hour
	}
	return time.Duration(r.Grace * 24 * float64(time.Hour))
}

// Say is the rule as people say it.
func (r Rule) Say() string {
	var parts []string
	count := func(n int, what string) {
		switch {
		case n == 1:
			parts = append(parts, "the "+what)
		case n > 1:
			parts = append(parts, fmt.Sprintf("the %s %d", what, n))
		}
	}
	count(r.Best, "best")
	count(r.Last, "last")
	if r.Every == 1 {
		parts = append(parts, "one of every epoch")
	} else if r.Every > 0 {
		parts = append(parts, fmt.Sprintf("one of every %g epochs", r.Every))
	}
	if r.Days == 1 {
		parts = append(parts, "those of the last day")
	} else if r.Days > 0 {
		parts = append(parts, fmt.Sprintf("those of the last %g days", r.Days))
	}
	if r.Where != "" {
		parts = append(parts, "those with "+r.Where)
	}
	return "keeps " + strings.Join(parts, ", ")
}

// Checkpoint is what a decision needs to know of one.
type Checkpoint struct {
	Step     int64
	Epoch    float64
	Saved    time.Time
	Figure   float64  // of the objective; NaN: none
	Replaced bool     // not of the run's present course: a later leg began before it
	Pinned   bool     //
	Children []string // runs and legs of other runs that began from it
	Matches  bool     // the rule's condition holds
}

// Run is what a decision needs to know of a run.
type Run struct {
	Over  bool // it will not go on by itself: finished, or stopped by its rule
	Lower bool // the objective is better when it is lower
}

// Decide says for each checkpoint, in the order given, why it stays; one without a reason goes. O(n log n).
func Decide(rule Rule, run Run, list []Checkpoint, now time.Time) [][]string {
	why := make([][]string, len(list))
	stays := func(i int, format string, args ...any) { why[i] = append(why[i], fmt.Sprintf(format, args...)) }
	var course []int // those of the present course, newest first
	for i, c := range list {
		if !c.Replaced {
			course = append(course, i)
		}
	}
	slices.SortStableFunc(course, func(a, b int) int { return compare(list[b].Step, list[a].Step) })

	var ranked []int
	for _, i := range course {
		if !math.IsNaN(list[i].Figure) {
			ranked = append(ranked, i)
		}
	}
	slices.SortStableFunc(ranked, func(a, b int) int { // equal ones: the newer first
		if run.Lower {
			return compare(list[a].Figure, list[b].Figure)
		}
		return compare(list[b].Figure, list[a].Figure)
	})
	for place, i := range ranked[:min(rule.Best, len(ranked))] {
		if place == 0 {
			stays(i, "the best")
		} else {
			stays(i, "%s best", ordinal(place+1))
		}
	}
	last := rule.Last
	if len(ranked) == 0 { // nothing tells which is the best: as many of the newest stand in
		last = max(last, rule.Best)
	}
	for place, i := range course[:min(last, len(course))] {
		if place == 0 {
			stays(i, "the last")
		} else {
			stays(i, "%s last", ordinal(place+1))
		}
	}
	if rule.Every > 0 {
		first := map[float64]int{}
		for _, i := range course { // newest first, so the earliest of each stretch is left
			first[math.Floor(list[i].Epoch/rule.Every)] = i
		}
		for _, i := range course {
			if first[math.Floor(list[i].Epoch/rule.Every)] == i {
				stays(i, "one of every %g epochs", rule.Every)
			}
		}
	}
	for i, c := range list {
		if rule.Days > 0 && now.Sub(c.Saved) < time.Duration(rule.Days*24*float64(time.Hour)) {
			stays(i, "of the last %g days", rule.Days)
		}
		if rule.Where != "" && c.Matches {
			stays(i, "%s", rule.Where)
		}
		if c.Pinned {
			stays(i, "pinned")
		}
		if len(c.Children) > 0 {
			stays(i, "%s began from it", strings.Join(c.Children, ", "))
		}
	}
	if !run.Over && len(course) > 0 && len(why[course[0]]) == 0 {
		stays(course[0], "the run may have to go on from it")
	}
	return why
}

func compare[T int64 | float64](a, b T) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

// ordinal is the number as a place: 2nd, 3rd, 11th.
func ordinal(n int) string {
	end := "th"
	if n%100 < 11 || n%100 > 13 {
		switch n % 10 {
		case 1:
			end = "st"
		case 2:
			end = "nd"
		case 3:
			end = "rd"
		}
	}
	return fmt.Sprintf("%d%s", n, end)
}
