package assess

import (
	"math"
	"slices"

	"kembrel/core/sheet"
)

// AlarmKind is what is wrong.
type AlarmKind string

// The kinds of alarms, those that say most first.
const (
	FigureDiffers AlarmKind = "figure-differs"  // the program's own figure is not what its sheet gives
	Swapped       AlarmKind = "swapped-labels"  // two classes are answered for each other
	Permuted      AlarmKind = "permuted-labels" // classes are answered for others, one for each
	Shuffled      AlarmKind = "shuffled-labels" // no better than chance while training fits
	OneAnswer     AlarmKind = "one-answer"      // one class is answered for nearly everything
	NeverAnswered AlarmKind = "never-answered"  // a class that has examples is never answered
	AlwaysWrong   AlarmKind = "always-wrong"    // none of the examples of a class is answered rightly
	InTraining    AlarmKind = "in-training"     // examples are in the training split
	OddScores     AlarmKind = "odd-scores"      // probabilities outside 0 to 1, or that do not sum to 1, or no numbers
	Doubled       AlarmKind = "doubled-inputs"  // inputs that come several times
	Blank         AlarmKind = "blank-inputs"    // inputs that show nothing
)

// AlarmKinds are all of them.
var AlarmKinds = []AlarmKind{FigureDiffers, Swapped, Permuted, Shuffled, OneAnswer, NeverAnswered, AlwaysWrong,
	InTraining, OddScores, Doubled, Blank}

// Alarm is something wrong that a falling loss hides, with its evidence. Which fields are set depends on Kind.
type Alarm struct {
	Kind     AlarmKind  `json:"kind" enum:"figure-differs,swapped-labels,permuted-labels,shuffled-labels,one-answer,never-answered,always-wrong,in-training,odd-scores,doubled-inputs,blank-inputs"`
	Class    string     `json:"class,omitempty"`
	Other    string     `json:"other,omitempty" doc:"Of two classes that are answered for each other"`
	Curve    string     `json:"curve,omitempty" doc:"Whose figure the sheet does not give"`
	Recorded *float64   `json:"recorded,omitempty" doc:"What the curve says"`
	Given    *float64   `json:"given,omitempty" doc:"What the sheet gives"`
	Count    int64      `json:"count,omitempty" doc:"How many examples it is about"`
	Of       int64      `json:"of,omitempty" doc:"Of how many"`
	Pairs    [][2]int   `json:"pairs,omitempty" maxItems:"1000" doc:"Places of classes, and of those that are answered for them"`
	Data     string     `json:"data,omitempty" doc:"The split of a snapshot that examples are in"`
	Trained  string     `json:"trained,omitempty" doc:"The split of another snapshot, on which it was trained, that has them too"`
	Odd      *OddCounts `json:"odd,omitempty"`
	Pixels   bool       `json:"pixels,omitempty" doc:"Count and of are pixels, not examples"`
}

// OddCounts say how many examples have odd scores.
type OddCounts struct {
	Outside   int64 `json:"outside,omitempty"`
	Unsummed  int64 `json:"unsummed,omitempty"`
	NotNumber int64 `json:"not_number,omitempty"`
}

// leastExamples is how many examples a class has before it is said that it is never answered, or always wrong.
const leastExamples = 10

// leastDoubled is how many examples show the same before that is said; they are a hundredth of all, too.
const leastDoubled = 5

// leastBlank is how many examples show nothing before that is said; they are a hundredth of all, too.
const leastBlank = 5

// unanswered finds classes of several labels, or of masks, that are never answered or always wrong.
func (a *Assessment) unanswered(task sheet.Task) (out []Alarm) {
	least, of, pixels := int64(leastExamples), a.Labelled, task == sheet.Masks
	if pixels {
		least, of = max(least, a.Pixels/1000), a.Pixels
	}
	for _, c := range a.Classes {
		switch {
		case c.True < least || c.Right > 0:
		case c.Predicted == 0:
			out = append(out, Alarm{Kind: NeverAnswered, Class: c.Name, Count: c.True, Of: of, Pixels: pixels})
		default:
			out = append(out, Alarm{Kind: AlwaysWrong, Class: c.Name, Count: c.True, Of: of, Pixels: pixels})
		}
	}
	return out
}

// Alarms finds what is wrong in a sheet of classes by itself.
//
// A class is never answered, or always wrong, where it has ten examples or more. One answer for everything is said
// where at least 95 % of ten or more answers are one class that fewer than 80 % of the examples are of. Labels look
// permuted where another assignment of answers to classes (the best one, by the Hungarian method: Kuhn 1955) fits at
// least half of the examples, and a tenth of all more than the answers as they are by more than four standard errors;
// where just two classes change places, and more than half of each is answered as the other, they are swapped.
//
// Of several labels a class is never answered or always wrong likewise; of masks, a class with a thousandth of all
// pixels or more. What is odd of scores and inputs is said whatever the answers are.
func (a *Assessment) Alarms(s *sheet.Sheet) []Alarm {
	var out []Alarm
	if odd := (OddCounts{a.Outside, a.Unsummed, a.NotNumber}); odd != (OddCounts{}) {
		out = append(out, Alarm{Kind: OddScores, Odd: &odd, Count: odd.Outside + odd.Unsummed + odd.NotNumber,
			Of: a.Examples})
	}
	if a.Doubled >= leastDoubled && 100*a.Doubled >= a.Examples {
		out = append(out, Alarm{Kind: Doubled, Count: a.Doubled, Of: a.Examples})
	}
	if a.Blank >= leastBlank && 100*a.Blank >= a.Examples {
		out = append(out, Alarm{Kind: Blank, Count: a.Blank, Of: a.Examples})
	}
	if a.Labelled == 0 {
		return out
	}
	if s.Task == sheet.Labels || s.Task == sheet.Masks {
		out = append(out, a.unanswered(s.Task)...)
	}
	if s.Task != sheet.Classes {
		SortAlarms(out)
		return out
	}
	one := a.oneAnswer()
	if one != nil {
		out = append(out, *one)
	}
	permuted := a.permuted()
	out = append(out, permuted...)
	told := map[string]bool{} // a class that is swapped is not said to be always wrong as well
	for _, p := range permuted {
		told[p.Class], told[p.Other] = true, true
		for _, pair := range p.Pairs {
			told[a.Classes[pair[0]].Name] = true
		}
	}
	for _, c := range a.Classes {
		switch {
		case c.True < leastExamples || c.Right > 0 || told[c.Name] || one != nil:
		case c.Predicted == 0:
			out = append(out, Alarm{Kind: NeverAnswered, Class: c.Name, Count: c.True, Of: a.Labelled})
		default:
			out = append(out, Alarm{Kind: AlwaysWrong, Class: c.Name, Count: c.True, Of: a.Labelled})
		}
	}
	SortAlarms(out)
	return out
}

// SortAlarms puts those that say most first.
func SortAlarms(list []Alarm) {
	slices.SortStableFunc(list, func(x, y Alarm) int {
		return slices.Index(AlarmKinds, x.Kind) - slices.Index(AlarmKinds, y.Kind)
	})
}

func (a *Assessment) oneAnswer() *Alarm {
	if len(a.Classes) < 2 || a.Labelled < leastExamples {
		return nil
	}
	for i, c := range a.Classes {
		answered := int64(0)
		for _, cell := range a.Cells {
			if cell.Predicted == i {
				answered += cell.Count
			}
		}
		if float64(answered) >= 0.95*float64(a.Labelled) && float64(c.True) < 0.8*float64(a.Labelled) {
			return &Alarm{Kind: OneAnswer, Class: c.Name, Count: answered, Of: a.Labelled}
		}
	}
	return nil
}

// mostAssigned is how many classes the best assignment is looked for among: its cost is their third power.
const mostAssigned = 300

// permuted finds labels that look permuted or swapped.
func (a *Assessment) permuted() []Alarm {
	k := len(a.Classes)
	if k < 2 || k > mostAssigned {
		return nil
	}
	counts := make([][]float64, k)
	for i := range counts {
		counts[i] = make([]float64, k)
	}
	for _, c := range a.Cells {
		if c.Predicted >= 0 {
			counts[c.True][c.Predicted] = float64(c.Count)
		}
	}
	var out []Alarm
	twisted := func(i, j int) bool {
		x, y := a.Classes[i], a.Classes[j]
		return x.True >= leastExamples && y.True >= leastExamples && 2*counts[i][j] > float64(x.True) &&
			2*counts[j][i] > float64(y.True)
	}
	for i := range k {
		for j := i + 1; j < k; j++ {
			if twisted(i, j) {
				x, y := a.Classes[i], a.Classes[j]
				out = append(out, Alarm{Kind: Swapped, Class: x.Name, Other: y.Name,
					Count: int64(counts[i][j] + counts[j][i]),
					Of:    x.True + y.True})
			}
		}
	}
	if len(out) > 0 || a.Labelled < leastExamples {
		return out
	}
	to := Assign(counts)
	fits, given, n := 0.0, float64(a.Right), float64(a.Labelled)
	var pairs [][2]int
	for i, j := range to {
		fits += counts[i][j]
		if i != j && a.Classes[i].True > 0 {
			pairs = append(pairs, [2]int{i, j})
		}
	}
	better := (fits - given) / n
	if len(pairs) > 1 && 2*fits >= n && better > 0.1 && better > 4*math.Sqrt(0.25/n) {
		out = append(out, Alarm{Kind: Permuted, Pairs: pairs, Count: int64(fits), Of: a.Labelled})
	}
	return out
}

// Assign finds the assignment of columns to rows of a square matrix that has the largest sum, by the Hungarian method
// with potentials (Kuhn 1955, Munkres 1957): the column of each row. The cost is the third power of the size.
func Assign(gain [][]float64) []int {
	n := len(gain)
	u, v := make([]float64, n+1), make([]float64, n+1)
	match, way := make([]int, n+1), make([]int, n+1) // of columns, from 1; 0: none
	for i := 1; i <= n; i++ {
		match[0] = i
		at := 0
		least, used := make([]float64, n+1), make([]bool, n+1)
		for j := range least {
			least[j] = math.Inf(1)
		}
		for match[at] != 0 {
			used[at] = true
			row, delta, next := match[at], math.Inf(1), 0
			for j := 1; j <= n; j++ {
				if used[j] {
					continue
				}
				if c := -gain[row-1][j-1] - u[row] - v[j]; c < least[j] {
					least[j], way[j] = c, at
				}
				if least[j] < delta {
					delta, next = least[j], j
				}
			}
			for j := 0; j <= n; j++ {
				if used[j] {
					u[match[j]] += delta
					v[j] -= delta
				} else {
					least[j] -= delta
				}
			}
			at = next
		}
		for at != 0 {
			match[at] = match[way[at]]
			at = way[at]
		}
	}
	out := make([]int, n)
	for j := 1; j <= n; j++ {
		out[match[j]-1] = j - 1
	}
	return out
}

// Against compares a figure that a program recorded with that of its sheet; nil: they agree, or nothing can be said.
// whole says that the sheet has all examples that the program's figure is of; otherwise they may differ by four
// standard errors of a sample more. A recorded share above 1 is taken for percent.
func (a *Assessment) Against(curve, figure string, recorded float64, whole bool) *Alarm {
	f, ok := a.Figure(figure)
	if !ok || math.IsNaN(recorded) || math.IsInf(recorded, 0) {
		return nil
	}
	share, said := figure == "accuracy" || figure == "balanced accuracy" || figure == "exact match", recorded
	if share && recorded > 1 {
		recorded /= 100
	}
	tolerance := 0.002 // rounding, and single precision
	if !share {
		tolerance = 0.01 * math.Abs(f.Value)
	} else if a.Labelled > 0 {
		tolerance = max(tolerance, 0.5/float64(a.Labelled))
	}
	if !whole {
		switch {
		case f.High != nil:
			tolerance += 2 * (*f.High - *f.Low) // four standard errors
		case share && a.Labelled > 0:
			tolerance += 4 * math.Sqrt(0.25/float64(a.Labelled))
		default:
			return nil
		}
	}
	if math.Abs(recorded-f.Value) <= tolerance {
		return nil
	}
	return &Alarm{Kind: FigureDiffers, Curve: curve, Recorded: &said, Given: &f.Value, Count: a.Labelled}
}

// NoBetterThanChance is the alarm of labels that look shuffled: answers that fit no better than chance would, given how
// often each class is true and answered (two standard errors), of at least 50 examples, while the model's share on its
// training data is well above that; nil: not so.
func (a *Assessment) NoBetterThanChance(curve string, training float64) *Alarm {
	accuracy, ok := a.Figure("accuracy")
	if !ok || a.Labelled < 50 || math.IsNaN(training) {
		return nil
	}
	said := training
	if training > 1 {
		training /= 100
	}
	n, chance := float64(a.Labelled), 0.0
	answered := make([]float64, len(a.Classes))
	for _, c := range a.Cells {
		if c.Predicted >= 0 {
			answered[c.Predicted] += float64(c.Count)
		}
	}
	for i, c := range a.Classes {
		chance += float64(c.True) / n * answered[i] / n
	}
	if chance > 0.9 || training < chance+0.2 ||
		accuracy.Value > chance+2*math.Sqrt(chance*(1-chance)/n) {
		return nil
	}
	return &Alarm{Kind: Shuffled, Curve: curve, Recorded: &said, Given: &accuracy.Value, Count: a.Labelled}
}
