package datasets

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kembrel/api"
	"kembrel/core/curve"
	"kembrel/core/dataset"
	"kembrel/core/dataset/kept"
	"kembrel/core/verdict"
	"kembrel/service/act"
	"kembrel/service/finding"
	"kembrel/store"
)

func joined(list []string) string { return strings.Join(list, ", ") }

// sayAnswers answers the questions that a snapshot's page asks.
func sayAnswers(s *api.Snapshot) *api.SnapshotAnswers {
	out := &api.SnapshotAnswers{Changed: "It is the first snapshot.", Used: sayUsed(s.Users),
		Looked: sayLooked(s)}
	if s.Found == nil {
		wait := "It is being looked at."
		if s.Failed != "" {
			wait = "It could not be looked at: " + s.Failed + "."
		}
		out.Trust, out.Clean, out.Alike = wait, wait, wait
		if s.Number > 1 {
			out.Changed = wait
		}
		return out
	}
	out.Trust, out.Clean, out.Alike = sayTrust(s.Found, s.Rows), sayClean(s.Found), sayAlike(s.Found)
	return out
}

// share is a part of a whole in per cent, with a digit where it is small.
func share(part, whole int64) string {
	if whole == 0 {
		return "0 %"
	}
	p := 100 * float64(part) / float64(whole)
	if p > 0 && p < 10 {
		return fmt.Sprintf("%.1f %%", p)
	}
	return fmt.Sprintf("%.0f %%", p)
}

func items(n int64) string {
	if n == 1 {
		return "1 item"
	}
	return api.Thousands(n) + " items"
}

// sayCrossing says what two splits have in common.
func sayCrossing(c dataset.Crossing, rows bool) string {
	what := map[string][2]string{"same-group": {"group", "groups"}, "same-bytes": {"file", "files"},
		"nearly-same": {"nearly equal item", "nearly equal items"}, "same-name": {"name", "names"}}[c.Kind]
	if rows && c.Kind == "same-bytes" {
		what = [2]string{"row", "rows"}
	}
	word, verb := what[1], "are"
	if c.Shared == 1 {
		word, verb = what[0], "is"
	}
	if c.Kind == "same-item" {
		was := "were"
		if c.Shared == 1 {
			was = "was"
		}
		return fmt.Sprintf("%s %s handed over for both %s and %s", items(c.Shared), was, c.Splits[0], c.Splits[1])
	}
	return fmt.Sprintf("%s %s %s in both %s and %s", api.Thousands(c.Shared), word, verb, c.Splits[0], c.Splits[1])
}

// sayTrust answers: can the validation figure be trusted?
func sayTrust(a *dataset.Findings, rows bool) string {
	named := slices.DeleteFunc(slices.Clone(a.Splits), func(s dataset.SplitCount) bool { return s.Name == "" })
	if len(named) < 2 {
		if len(named) == 0 {
			return "No item is in a split, so nothing here is held out."
		}
		return fmt.Sprintf("All items are in one split, %s, so nothing here is held out.", named[0].Name)
	}
	var bad []string
	for _, s := range named[1:] {
		if s.Leaking > 0 {
			bad = append(bad, fmt.Sprintf("%s of its %s (%s) are not new to a model that was trained on the others",
				s.Name+": "+
					api.Thousands(s.Leaking), items(s.Items), share(s.Leaking, s.Items)))
		}
	}
	var why, names []string
	for _, c := range a.Crossings {
		if c.Kind == "same-name" {
			names = append(names, sayCrossing(c, rows))
		} else {
			why = append(why, sayCrossing(c, rows))
		}
	}
	name := ""
	if len(names) > 0 {
		name = " Besides, " + strings.Join(names, "; ") + " but for the split's: worth a look."
	}
	looked := "by their bytes"
	switch {
	case rows:
		looked = "as whole rows"
	case a.Unknown > 0 && a.Unknown == a.Items:
		looked = "by their keys; their bytes are not known"
	case a.Unknown > 0:
		looked = fmt.Sprintf("by their keys, and by their bytes, which are not known of %s", items(a.Unknown))
	}
	switch {
	case a.Nearly == "text":
		looked += ", and as texts without case, space and punctuation"
	case a.Nearly == "rows":
		looked += ", and as rows but for one column"
	}
	if len(bad) > 0 {
		return "No. " + strings.Join(bad, "; ") + ". " + capital(strings.Join(why, "; ")) + "." + name
	}
	if len(why) > 0 { // leaking only into the first
		return "Not quite. " + capital(strings.Join(why, "; ")) + "." + name
	}
	if !a.Grouped {
		return "As far as can be seen: no item is in two splits (" + looked +
			"). Items have no groups, so whether what belongs together was torn apart is not known." + name
	}
	return "Yes: no item is in two splits (" + looked + "), and no group is." + name
}

func capital(text string) string {
	if text == "" {
		return text
	}
	return strings.ToUpper(text[:1]) + text[1:]
}

// sayClean answers: is it clean?
func sayClean(a *dataset.Findings) string {
	if len(a.Tallies) == 0 && a.Unknown > 0 {
		return fmt.Sprintf("As far as can be told: none is without its label. Of %s the bytes are not known, so whether any is empty, blank, or there twice is not either.",
			items(a.Unknown))
	}
	if len(a.Tallies) == 0 {
		return "Yes: none is empty, blank, without its label, or there twice in a split; none has the bytes of one with another label, or a size far from the others'."
	}
	says := map[string]string{"empty": "%s without bytes", "blank": "%s whose bytes are all the same",
		"no-label": "%s without a label", "double": "%s that are in their split already",
		"two-labels": "%s whose bytes stand under two labels",
		"far-off":    "%s of a size far from the others'", "no-split": "%s in no split"}
	var parts []string
	for _, t := range a.Tallies {
		parts = append(parts, fmt.Sprintf(says[t.Kind], items(t.Items)))
	}
	return "Not all: " + strings.Join(parts, "; ") + "."
}

// alikeLevel is the chance below which a difference is not put down to luck, smallEffect the effect below which it does
// not matter (Cohen 1988 calls 0.1 small).
const (
	alikeLevel  = 0.01
	smallEffect = 0.1
)

func sayAlike(a *dataset.Findings) string {
	if len(a.Alike) == 0 {
		if len(a.Splits) < 2 {
			return "There is one split."
		}
		return "Items have no labels that could be compared."
	}
	var parts []string
	for _, x := range a.Alike {
		chance := fmt.Sprintf("%.2g", x.P)
		if x.P < 1e-6 {
			chance = "less than one in a million"
		}
		text := fmt.Sprintf("%s and %s are alike in their labels", x.Splits[0], x.Splits[1])
		if x.P < alikeLevel {
			text = fmt.Sprintf("%s and %s differ in their labels more than by chance", x.Splits[0], x.Splits[1])
			if x.Effect < smallEffect {
				text += ", but little"
			}
		}
		text += fmt.Sprintf(" (p %s, effect %.2f)", chance, x.Effect)
		if x.P < alikeLevel && x.Most != "" {
			text += fmt.Sprintf(": most in %s, %.0f %% and %.0f %%", x.Most, 100*x.Shares[0], 100*x.Shares[1])
		}
		parts = append(parts, text)
	}
	return capital(strings.Join(parts, "; ")) + "."
}

func sayUsed(users []api.SnapshotUser) string {
	runs := map[string]bool{}
	for _, u := range users {
		runs[u.Run] = true
	}
	switch n := len(runs); {
	case n == 0:
		return "No run has used it."
	case len(users) == mostUsers:
		return fmt.Sprintf("More than %s.", act.Many(n, "run", "runs"))
	case n == 1:
		return "1 run."
	default:
		return fmt.Sprintf("%d runs.", n)
	}
}

func sayLooked(s *api.Snapshot) string {
	if s.Found != nil && !slices.ContainsFunc(s.Found.Splits,
		func(c dataset.SplitCount) bool { return c.Name == "test" }) {
		return "It has no split test."
	}
	if s.Ledger == nil {
		return "Its test split has not been looked at."
	}
	text := fmt.Sprintf("%s by %s.", act.Many(int(s.Ledger.Looks), "look", "looks"),
		act.Many(s.Ledger.Models, "model", "models"))
	for _, c := range s.Ledger.Curves {
		text += " " + c.Says
	}
	return text
}

// isShare reports whether a curve is a share of examples, whose luck is known.
func isShare(name string) bool {
	measure, _ := curve.SplitName(name)
	return slices.Contains([]string{"accuracy", "error-rate", "precision", "recall"}, measure)
}

// mostLooks is how many looks at a test split are told one by one.
const mostLooks = 500

// ledgerOf counts what was seen of a test split with so many items (0: not known); nil where nothing was.
func ledgerOf(looks []store.TestLook, items int64) *api.TestLedger {
	if len(looks) == 0 {
		return nil
	}
	out := &api.TestLedger{Looked: []api.TestLook{}, Curves: []api.LedgerCurve{}}
	models := map[int64]bool{}
	type sum struct {
		models map[int64]bool
		looks  int64
		best   float64
		run    string
	}
	curves := map[string]*sum{}
	for _, l := range looks {
		models[l.Run] = true
		out.Looks += l.Looks
		best := l.Lowest
		higher := !finding.LowerIsBetter(verdict.Objective{}, l.Curve)
		if higher {
			best = l.Highest
		}
		c := curves[l.Curve]
		if c == nil {
			c = &sum{models: map[int64]bool{}, best: math.NaN()}
			curves[l.Curve] = c
		}
		c.models[l.Run] = true
		c.looks += l.Looks
		if math.IsNaN(c.best) || higher && best > c.best || !higher && best < c.best {
			c.best, c.run = best, ""
			if l.Project != "" {
				c.run = act.RunAddress(l.Project, l.Number)
			}
		}
		if len(out.Looked) < mostLooks {
			look := api.TestLook{Curve: l.Curve, Looks: l.Looks, Last: api.Float(l.Last),
				Best: api.Float(best), Latest: l.Latest}
			if l.Project != "" {
				look.Run, look.Who = act.RunAddress(l.Project, l.Number), l.Who
			}
			out.Looked = append(out.Looked, look)
		}
	}
	out.Models = len(models)
	for _, name := range act.SortedKeys(curves) {
		c := curves[name]
		row := api.LedgerCurve{Curve: name, Models: len(c.models), Looks: c.looks,
			Best: api.Float(c.best), BestRun: c.run}
		row.Says = fmt.Sprintf("%s: best %.4g of %s.", name, c.best, act.Many(int(c.looks), "look", "looks"))
		if isShare(name) && items > 0 {
			if by := kept.Optimism(c.best, items, int(c.looks)); !math.IsNaN(by) {
				v := api.Float(by)
				row.Optimism = &v
				if by > 0 {
					row.Says = fmt.Sprintf("%s: best %.4g of %d looks; the best of so many looks better than it is by up to %.2g, by luck alone.",
						name, c.best, c.looks, by)
				}
			}
		}
		out.Curves = append(out.Curves, row)
	}
	return out
}

// sayDifference says how a snapshot differs from another.
func sayDifference(from string, d *dataset.ItemChanges) string {
	if len(d.Counts) == 0 && len(d.Columns) == 0 {
		return "Nothing differs from " + from + "."
	}
	var parts []string
	for _, c := range dataset.Changes {
		if n := d.Counts[c]; n > 0 {
			text := fmt.Sprintf("%s %s", api.Thousands(n), c)
			var by []dataset.ByName
			if c == dataset.Moved {
				by = d.BySplit[c]
			} else if c == dataset.Relabelled || c == dataset.Added || c == dataset.Gone {
				by = d.ByLabel[c]
			}
			if len(by) > 0 {
				text += fmt.Sprintf(" (most %s, %s)", by[0].Name, api.Thousands(by[0].Items))
			}
			parts = append(parts, text)
		}
	}
	for _, name := range act.SortedKeys(d.Columns) {
		parts = append(parts, fmt.Sprintf("column %s %s", name, d.Columns[name]))
	}
	return fmt.Sprintf("Against %s: %s; %s as before.", from, strings.Join(parts, ", "), api.Thousands(d.Same))
}
