package catalogue

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/store"
)

// sayFigure says an edition's figure by the objective of its run.
func sayFigure(f *api.EditionFacts) string {
	v, known := f.Figures[f.Objective.Curve]
	if !known {
		return ""
	}
	return fmt.Sprintf("%s %.5g", f.Objective.Curve, float64(v))
}

// sayModel answers what is in use, what waits, and what runs where.
func sayModel(m *api.Model) (says api.ModelSays) {
	var has []string
	for _, st := range m.Standings {
		if st.Edition > 0 {
			has = append(has, fmt.Sprintf("#%d is %s, since %s by %s", st.Edition, sayStanding(st.Name),
				st.Since.UTC().Format("2 January 2006"), st.Who))
		}
	}
	switch {
	case len(has) > 0:
		says.InUse = strings.Join(has, "; ") + "."
	case m.Editions == 0:
		says.InUse = "Nothing: it has no edition yet."
	default:
		says.InUse = fmt.Sprintf("Nothing: of its %s none has a standing.", act.Many(m.Editions, "edition", "editions"))
	}
	var waits []string
	for _, a := range m.Waiting {
		waits = append(waits, fmt.Sprintf("#%d: %s", a.Edition, a.Says))
	}
	says.Waiting = strings.Join(waits, " ")
	late, never := 0, 0
	for _, c := range m.Consumers {
		if c.Behind > 0 {
			late++
		} else if c.Behind < 0 {
			never++
		}
	}
	one := map[bool]string{true: "is", false: "are"}
	switch {
	case len(m.Consumers) == 0:
		says.Where = "Nobody has said that they use it."
	case late+never == 0:
		says.Where = act.Many(len(m.Consumers), "place uses", "places use") + " what is in use."
	default:
		var bad []string
		if late > 0 {
			bad = append(bad, fmt.Sprintf("%d %s out of date", late, one[late == 1]))
		}
		if never > 0 {
			bad = append(bad, fmt.Sprintf("%d %s an edition that was never in use", never,
				map[bool]string{true: "has", false: "have"}[never == 1]))
		}
		says.Where = fmt.Sprintf("Of %s %s.", act.Many(len(m.Consumers), "place", "places"), strings.Join(bad, ", "))
	}
	return says
}

// sayStanding is a standing as it stands in a sentence.
func sayStanding(name string) string { return strings.ReplaceAll(name, "-", " ") }

// sayRules says what standings ask for.
func sayRules(rules []catalogue.Rule) string {
	var out []string
	for _, r := range rules {
		text := r.Name
		if r.Approvers > 0 {
			text += fmt.Sprintf(" (%s)", act.Many(r.Approvers, "sign-off", "sign-offs"))
		}
		for i, c := range r.Checks {
			text += map[bool]string{true: " after ", false: ", "}[i == 0] + c
			if by := r.Reporters[c]; by != "" {
				text += " by " + by
			}
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}

// sayAsking says what an asking waits for, or what became of it.
func sayAsking(a *api.Asking) string {
	to := sayStanding(a.Standing)
	when := ""
	if a.Ended != nil {
		when = a.Ended.UTC().Format("2 January 2006 15:04 MST")
	}
	switch a.Outcome {
	case "taken":
		return fmt.Sprintf("it became %s on %s.", to, when)
	case "withdrawn":
		text := fmt.Sprintf("%s took back on %s that it was asked to be %s", a.Ender, when, to)
		if a.Because != "" {
			text += ": " + strings.TrimSuffix(a.Because, ".")
		}
		return text + "."
	}
	var lacks []string
	for _, l := range a.Lacks {
		switch l.Kind {
		case catalogue.LacksCheck:
			text := "the check " + l.Name
			if l.By != "" {
				text += " by " + l.By
			}
			lacks = append(lacks, text)
		case catalogue.FailedCheck:
			lacks = append(lacks, "the check "+l.Name+", which failed")
		case catalogue.LacksSigns:
			text := act.Many(l.Need-l.Have, "sign-off", "sign-offs")
			if l.Have > 0 {
				text = fmt.Sprintf("%d more %s", l.Need-l.Have,
					map[bool]string{true: "sign-off", false: "sign-offs"}[l.Need-l.Have == 1])
			}
			lacks = append(lacks, text)
		}
	}
	return fmt.Sprintf("to be %s it waits for %s.", to, strings.Join(lacks, ", "))
}

// answers are what an edition's page opens with.
func (s *Catalogue) answers(ctx context.Context, who act.Who, m store.Model, row store.Edition,
	e *api.Edition) (*api.EditionSays, error) {
	says := &api.EditionSays{Checked: sayChecks(e.Checks)}
	standings, err := s.db.ListStandings(ctx, m.ID)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(standings, func(st store.ModelStanding) bool { return st.Name == leading(standings) })
	switch {
	case i < 0 || standings[i].Edition == nil:
		says.Better = "No edition is in use to compare it with."
		says.Changed = says.Better
		return says, nil
	case *standings[i].Edition == row.ID:
		says.Better = "It is the one in use."
		before, err := s.before(ctx, s.db, standings[i])
		if err != nil || before == nil {
			says.Changed = "None was in use before it."
			return says, err
		}
		return says, s.against(ctx, who, m, row, e, *before, 0, says)
	}
	return says, s.against(ctx, who, m, row, e, 0, *standings[i].Edition, says)
}

// against compares an edition with another, by number or id, and says so.
func (s *Catalogue) against(ctx context.Context, who act.Who, m store.Model, row store.Edition, e *api.Edition,
	number int, id int64, says *api.EditionSays) error {
	other, err := s.db.Edition(ctx, m.ID, number, id)
	if err != nil {
		return err
	}
	with, err := toEdition(m.Name, other)
	if err != nil {
		return err
	}
	says.Changed = sayChanges(&e.Facts, &with.Facts, with.Number)
	if says.Better != "" {
		return nil
	}
	says.Better = sayBetter(&e.Facts, &with.Facts, with.Number)
	text, err := s.disagree(ctx, who, e, row, &with, other)
	if text != "" {
		says.Better += " " + text
	}
	return err
}

// sayBetter compares the figures of two editions.
func sayBetter(e, with *api.EditionFacts, number int) string {
	var parts, not []string
	say := func(name string, a, b api.Float, higher bool) {
		d := float64(a - b)
		word := "the same"
		if d != 0 && !math.IsNaN(d) {
			word = "better"
			if (d > 0) != higher {
				word = "worse"
			}
		}
		parts = append(parts, fmt.Sprintf("%s %.5g against %.5g (%+.3g, %s)", name, float64(a), float64(b), d, word))
	}
	_, split, _ := strings.Cut(e.Objective.Curve, ".")
	if e.Objective == with.Objective {
		a, has := e.Figures[e.Objective.Curve]
		b, too := with.Figures[e.Objective.Curve]
		switch {
		case !has || !too:
		case e.Data[split] != with.Data[split]:
			not = append(not, fmt.Sprintf("their %s is of different data", e.Objective.Curve))
		default:
			say(e.Objective.Curve, a, b, e.Objective.Direction == verdict.Higher)
		}
	}
	var shared []string
	for on := range e.Measured {
		if with.Measured[on] != nil {
			shared = append(shared, on)
		}
	}
	sort.Strings(shared)
	for _, on := range shared {
		switch {
		case slices.Contains(e.TrainedOn, on):
			not = append(not, fmt.Sprintf("it has seen examples of %s in training", on))
			continue
		case slices.Contains(with.TrainedOn, on):
			not = append(not, fmt.Sprintf("#%d has seen examples of %s in training", number, on))
			continue
		}
		if a, has := e.Measured[on]["accuracy"]; has {
			if b, too := with.Measured[on]["accuracy"]; too {
				say("accuracy on "+on, a, b, true)
			}
		}
	}
	text := fmt.Sprintf("Against #%d, which is in use: %s.", number, strings.Join(parts, "; "))
	if len(parts) == 0 {
		text = fmt.Sprintf("No figure is known of both it and #%d, which is in use: evaluate both on the same data (kembrel evaluate).",
			number)
	}
	if len(not) > 0 {
		text += " Not compared: " + strings.Join(not, "; ") + "."
	}
	return text
}

// disagree says where two editions disagree on the same examples, of evaluations on the same data; "": none are known.
func (s *Catalogue) disagree(ctx context.Context, who act.Who, e *api.Edition, row store.Edition, with *api.Edition,
	other store.Edition) (string, error) {
	if row.Run == nil || other.Run == nil {
		return "", nil
	}
	mine, err := s.sheetsOf(ctx, *row.Run, e)
	if err != nil || len(mine) == 0 {
		return "", err
	}
	theirs, err := s.sheetsOf(ctx, *other.Run, with)
	if err != nil {
		return "", err
	}
	a, err := api.ParseAddress(e.Facts.Run)
	if err != nil {
		return "", nil
	}
	b, err := api.ParseAddress(with.Facts.Run)
	if err != nil {
		return "", nil
	}
	for _, project := range []string{a.Project, b.Project} {
		if sees, err := s.Sees(ctx, project); err != nil || !sees {
			return "", err
		}
	}
	for _, on := range slices.Sorted(maps.Keys(mine)) {
		if theirs[on] == 0 || slices.Contains(e.Facts.TrainedOn, on) || slices.Contains(with.Facts.TrainedOn, on) {
			continue
		}
		in := &api.DisagreementInput{Run: with.Facts.Run, Other: theirs[on], Kind: "answers", Limit: 1}
		in.SheetInput = api.SheetInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: a.Project},
			Number: a.Run}, Sheet: mine[on]}
		d, err := s.sheets.GetDisagreement(ctx, who, in)
		if err != nil {
			return "", nil // what cannot be compared says nothing
		}
		return "On " + on + ": " + d.Says, nil
	}
	return "", nil
}

// sheetsOf are the numbers of the sheets of evaluations of an edition's checkpoint, by data.
func (s *Catalogue) sheetsOf(ctx context.Context, run int64, e *api.Edition) (map[string]int, error) {
	found, err := s.db.ListEvaluations(ctx, store.EvaluationQuery{Run: run, Limit: 500})
	if err != nil {
		return nil, err
	}
	at, err := api.ParseAddress(e.Origin)
	if err != nil {
		return nil, nil
	}
	var ids []int64
	on := map[int64]string{}
	for _, v := range found {
		if v.Leg == at.At.Leg && v.Step == at.At.Step && v.Data != "" {
			ids, on[v.ID] = append(ids, v.ID), v.Data
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	sheets, err := s.db.EvaluationSheets(ctx, run, ids)
	out := map[string]int{}
	for _, sheet := range sheets {
		out[on[sheet.Evaluation]] = sheet.Number
	}
	return out, err
}

// sayChanges says in what an edition differs from another.
func sayChanges(e, with *api.EditionFacts, number int) string {
	var parts []string
	if e.Run == with.Run {
		parts = append(parts, "another checkpoint of the same run, "+e.Run)
	}
	var data []string
	for _, use := range []string{"train", "val", "test"} {
		if e.Data[use] != with.Data[use] {
			data = append(data, fmt.Sprintf("%s %s (was %s)", use, orNone(e.Data[use]), orNone(with.Data[use])))
		}
	}
	if len(data) > 0 {
		parts = append(parts, "data: "+strings.Join(data, ", "))
	}
	var hyper []string
	for _, name := range union(e.Hyper, with.Hyper) {
		if string(e.Hyper[name]) != string(with.Hyper[name]) {
			hyper = append(hyper, fmt.Sprintf("%s %s (was %s)", name, orNone(string(e.Hyper[name])),
				orNone(string(with.Hyper[name]))))
		}
	}
	if len(hyper) > 0 {
		parts = append(parts, "hyperparameters: "+act.Few(hyper, 8))
	}
	if e.Commit != with.Commit {
		parts = append(parts, fmt.Sprintf("code: %s (was %s)", short(e.Commit), short(with.Commit)))
	}
	if len(parts) == 0 {
		return fmt.Sprintf("Against #%d nothing that is known: the same data, hyperparameters and code.", number)
	}
	return fmt.Sprintf("Against #%d: %s.", number, strings.Join(parts, "; "))
}

func union(a, b map[string]json.RawMessage) (out []string) {
	for name := range a {
		out = append(out, name)
	}
	for name := range b {
		if _, both := a[name]; !both {
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

func short(commit string) string { return orNone(commit[:min(len(commit), 12)]) }

// sayChecks says how the checks of an edition came out.
func sayChecks(checks []api.EditionCheck) string {
	if len(checks) == 0 {
		return "No check has been reported."
	}
	var failed []string
	latest := time.Time{}
	for _, c := range checks {
		if !c.Passed {
			failed = append(failed, c.Name)
		}
		if c.At.After(latest) {
			latest = c.At
		}
	}
	text := fmt.Sprintf("%d of %d passed", len(checks)-len(failed), len(checks))
	if len(failed) > 0 {
		text += "; failed: " + strings.Join(failed, ", ")
	}
	return text + "."
}
