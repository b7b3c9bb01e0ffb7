package sheets

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"kembrel/api"
	"kembrel/core/assess"
	"kembrel/core/sheet"
	"kembrel/service/act"
)

// percent is a share as a person reads it.
func percent(v float64) string {
	switch p := 100 * v; {
	case p == math.Trunc(p):
		return fmt.Sprintf("%.0f %%", p)
	case p < 1 || p > 99:
		return fmt.Sprintf("%.2g %%", p)
	default:
		return fmt.Sprintf("%.0f %%", p)
	}
}

// figure is a figure with three digits behind the point.
func figure(v float64) string {
	if math.Abs(v) >= 100 {
		return fmt.Sprintf("%.1f", v)
	}
	return fmt.Sprintf("%.3f", v)
}

// sayAlarm says an alarm.
func sayAlarm(a assess.Alarm) string {
	switch a.Kind {
	case assess.FigureDiffers:
		return fmt.Sprintf("%s says %s, these answers give %s: one of the two is computed wrongly.", a.Curve,
			figure(*a.Recorded), figure(*a.Given))
	case assess.Swapped:
		return fmt.Sprintf("%s and %s are answered for each other (%d of %s): their labels look swapped.", a.Class,
			a.Other, a.Count, act.Many(int(a.Of), "example", "examples"))
	case assess.Permuted:
		return fmt.Sprintf("The answers fit other labels better: %d of %s if %s change places. The labels look permuted.",
			a.Count, act.Many(int(a.Of), "example", "examples"), act.Many(len(a.Pairs), "class", "classes"))
	case assess.Shuffled:
		return fmt.Sprintf("%s is %s, but these answers are no better than chance (%s): the labels look shuffled.",
			a.Curve, figure(*a.Recorded), figure(*a.Given))
	case assess.OneAnswer:
		return fmt.Sprintf("%s is the answer to nearly everything: %d of %s.", a.Class, a.Count,
			act.Many(int(a.Of), "example", "examples"))
	case assess.NeverAnswered:
		return fmt.Sprintf("%s is never answered, and %s of it.", a.Class, isOrAre(a))
	case assess.AlwaysWrong:
		return fmt.Sprintf("%s is always answered wrongly, and %s of it.", a.Class, isOrAre(a))
	case assess.InTraining:
		if a.Trained != "" {
			return fmt.Sprintf("%s of the %s items of %s are also in %s, on which it was trained: the figures look better than the model is.",
				api.Thousands(a.Count), api.Thousands(a.Of), a.Data, a.Trained)
		}
		return fmt.Sprintf("%d of the %d items of %s are in the training split too, or others of their group are: the figures are too good.",
			a.Count, a.Of, a.Data)
	case assess.OddScores:
		var parts []string
		for _, p := range []struct {
			n    int64
			what string
		}{{a.Odd.NotNumber, "a score that is not a number"}, {a.Odd.Outside, "a probability below 0 or above 1"},
			{a.Odd.Unsummed, "probabilities that do not sum to 1"}} {
			if p.n > 0 {
				parts = append(parts, fmt.Sprintf("%s %s", act.Many(int(p.n), "example has", "examples have"), p.what))
			}
		}
		return strings.Join(parts, ", ") + "."
	case assess.Doubled:
		return fmt.Sprintf("%d of %s show the same as another.", a.Count, act.Many(int(a.Of), "example", "examples"))
	case assess.Blank:
		return fmt.Sprintf("%d of %s show nothing: one colour, silence or no text.", a.Count,
			act.Many(int(a.Of), "example", "examples"))
	}
	return string(a.Kind)
}

func isOrAre(a assess.Alarm) string {
	unit := "example"
	if a.Pixels {
		unit = "pixel"
	}
	if a.Count == 1 {
		return "there is 1 " + unit
	}
	return fmt.Sprintf("there are %s %ss", api.Thousands(a.Count), unit)
}

// wherePair is the condition that lists the examples of a pair; "" stands for nothing true or nothing answered.
func wherePair(task sheet.Task, truth, answer string) string {
	switch {
	case task == sheet.Classes:
		return fmt.Sprintf("true == %q && predicted == %q", truth, answer)
	case task == sheet.Masks && answer == "":
		return fmt.Sprintf("%q in true && error > 0", truth)
	case task == sheet.Masks:
		return fmt.Sprintf("%q in true && %q in predicted", truth, answer)
	case truth == answer:
		return fmt.Sprintf("%q in true && %q in predicted", truth, answer)
	case truth == "":
		return fmt.Sprintf("%q in added", answer)
	case answer == "":
		return fmt.Sprintf("%q in missed", truth)
	}
	return fmt.Sprintf("%q in missed && %q in added", truth, answer)
}

// whereOf is the condition that lists the examples of an alarm; "": it is about all, or they cannot be listed.
func whereOf(task sheet.Task, a assess.Alarm, classes []string) string {
	switch a.Kind {
	case assess.Swapped:
		return fmt.Sprintf("true == %[1]q && predicted == %[2]q || true == %[2]q && predicted == %[1]q", a.Class,
			a.Other)
	case assess.NeverAnswered, assess.AlwaysWrong:
		if task != sheet.Classes {
			return fmt.Sprintf("%q in true", a.Class)
		}
		return fmt.Sprintf("true == %q", a.Class)
	case assess.OneAnswer:
		return fmt.Sprintf("predicted == %q && right == false", a.Class)
	case assess.Permuted:
		if p := a.Pairs[0]; max(p[0], p[1]) < len(classes) {
			return fmt.Sprintf("true == %q && predicted == %q", classes[p[0]], classes[p[1]])
		}
	case assess.FigureDiffers, assess.Shuffled:
		if task == sheet.Number {
			return ""
		}
		return "right == false"
	}
	return ""
}

// silent is what is said where no alarm of a kind is raised, and of which tasks.
var silent = []struct {
	kinds []assess.AlarmKind
	of    []sheet.Task
	says  string
}{
	{[]assess.AlarmKind{assess.NeverAnswered, assess.AlwaysWrong},
		[]sheet.Task{sheet.Classes, sheet.Labels, sheet.Masks}, "no class is never answered or always wrong"},
	{[]assess.AlarmKind{assess.OneAnswer}, []sheet.Task{sheet.Classes}, "not one answer for everything"},
	{[]assess.AlarmKind{assess.Swapped, assess.Permuted, assess.Shuffled}, []sheet.Task{sheet.Classes},
		"labels are not swapped, permuted or shuffled"},
	{[]assess.AlarmKind{assess.OddScores}, []sheet.Task{sheet.Classes, sheet.Labels}, "no odd scores"},
	{[]assess.AlarmKind{assess.InTraining}, sheet.Tasks, "no item is known to be in training"},
}

// sayQuiet says which alarms are silent.
func sayQuiet(s *api.Sheet) string {
	if s.Labelled == 0 {
		return ""
	}
	var parts []string
	if held := slices.DeleteFunc(slices.Clone(s.Held), func(name string) bool {
		return slices.ContainsFunc(s.Alarms, func(a api.Alarm) bool { return a.Curve == name })
	}); len(held) > 0 {
		parts = append(parts, strings.Join(held, " and ")+map[bool]string{true: " is", false: " are"}[len(held) == 1]+
			" what the answers give")
	}
	for _, q := range silent {
		raised := !slices.Contains(q.of, s.Task) || s.Pending && slices.Contains(q.kinds, assess.InTraining)
		for _, kind := range q.kinds {
			for _, a := range s.Alarms {
				raised = raised || a.Kind == kind
			}
		}
		if !raised {
			parts = append(parts, q.says)
		}
	}
	var says []string
	if len(parts) > 0 {
		says = append(says, "Quiet: "+strings.Join(parts, ", ")+".")
	}
	if s.Pending {
		says = append(says, "Its run's curves and data are still to be held against it, as they come.")
	}
	return strings.Join(says, " ")
}

// sayPair says how often a class is taken for another; of says of how many.
func sayPair(task sheet.Task, p api.SheetPair, of, reverse int64) string {
	many := fmt.Sprintf("%s of %s", api.Thousands(p.Count), api.Thousands(of))
	switch {
	case task == sheet.Masks && p.Predicted == "":
		return fmt.Sprintf("%s gets no answer: %s pixels (%s).", p.True, many, percent(p.Share.Value))
	case task == sheet.Masks:
		return fmt.Sprintf("%s taken for %s: %s pixels (%s).", p.True, p.Predicted, many, percent(p.Share.Value))
	}
	many += fmt.Sprintf(" (95 %% %s to %s)", strings.TrimSuffix(percent(*p.Share.Low), " %"), percent(*p.Share.High))
	switch {
	case task == sheet.Labels && p.True == "":
		return fmt.Sprintf("%s added where nothing is missed: %s of its answers.", p.Predicted, many)
	case task == sheet.Labels && p.Predicted == "":
		return fmt.Sprintf("%s missed, and nothing said in its place: %s.", p.True, many)
	case task == sheet.Labels:
		return fmt.Sprintf("%s missed where %s is added: %s.", p.True, p.Predicted, many)
	case p.Predicted == "":
		return fmt.Sprintf("%s gets no answer: %d of %d.", p.True, p.Count, of)
	}
	text := fmt.Sprintf("%s taken for %s: %s", p.True, p.Predicted, many)
	switch times := float64(p.Count) / float64(reverse); {
	case reverse == 0:
		return text + "; the reverse never."
	case times >= 1.5:
		return fmt.Sprintf("%s, %.1f times the reverse.", text, times)
	default:
		return fmt.Sprintf("%s; the reverse %s.", text, act.Many(int(reverse), "time", "times"))
	}
}

// sayUnderWay says how far assessing a sheet is.
func sayUnderWay(progress float64) string {
	return fmt.Sprintf("being assessed: %.0f %%", 100*progress)
}

// saySheet says what a sheet comes to in a line.
func saySheet(s *api.Sheet) string {
	examples := act.Many(int(s.Examples), "example", "examples")
	if s.Labelled == 0 {
		return fmt.Sprintf("%s without labels: there are answers, and nothing to hold them against.", examples)
	}
	if len(s.Figures) == 0 {
		return fmt.Sprintf("%s, none of which is answered.", examples)
	}
	f := s.Figures[0]
	text := fmt.Sprintf("%s %s", f.Name, figure(f.Value))
	if f.Low != nil {
		text += fmt.Sprintf(" (95 %% %s to %s)", figure(*f.Low), figure(*f.High))
	}
	return fmt.Sprintf("%s on %s.", text, examples)
}

// sayDetail says what a model gets wrong, the worst first.
func sayDetail(d *api.SheetDetail) string {
	if len(d.Pairs) == 0 {
		if d.Task.Classed() && d.Labelled > 0 && len(d.Assessed.Cells) > 0 {
			return "Nothing: every answer is right. " + saySheet(&d.Sheet)
		}
		return saySheet(&d.Sheet)
	}
	says := d.Pairs[0].Says
	return strings.ToUpper(says[:1]) + says[1:]
}

// sayDisagreement says which of two models is better on the examples that both have.
func sayDisagreement(d *api.SheetDisagreement) string {
	if d.Shared == 0 {
		return "They have no labelled example in common, by key."
	}
	apart := d.Disagreement.First + d.Disagreement.Second
	if apart == 0 {
		return fmt.Sprintf("On %s they are right and wrong alike.", act.Many(int(d.Shared), "example", "examples"))
	}
	better, worse, more, less := d.First.Run, d.Second.Run, d.Disagreement.First, d.Disagreement.Second
	if more < less {
		better, worse, more, less = worse, better, less, more
	}
	text := fmt.Sprintf("Of %s, %s alone is right on %d and %s alone on %d: a difference of %s (95 %% %s to %s)",
		act.Many(int(d.Shared), "example", "examples"), better, more, worse, less, figure(math.Abs(d.Difference.Value)),
		figure(low(d)), figure(high(d)))
	if d.P < 0.05 {
		return text + fmt.Sprintf(", more than luck gives (exact McNemar test, p %s).", chance(d.P))
	}
	return text + fmt.Sprintf(", which luck alone gives too (exact McNemar test, p %s).", chance(d.P))
}

func low(d *api.SheetDisagreement) float64 {
	if d.Difference.Value < 0 {
		return -*d.Difference.High
	}
	return *d.Difference.Low
}

func high(d *api.SheetDisagreement) float64 {
	if d.Difference.Value < 0 {
		return -*d.Difference.Low
	}
	return *d.Difference.High
}

func chance(p float64) string {
	if p < 0.001 {
		return "below 0.001"
	}
	return fmt.Sprintf("%.2g", p)
}
