package assess

import (
	"math"
	"slices"
	"strings"

	"kembrel/core/sheet"
)

// Measured is a named figure.
type Measured struct {
	Name string `json:"name" example:"accuracy"`
	Interval
	Lower bool `json:"lower,omitempty" doc:"Lower is better"`
}

// Measure is the figure's name as curves and filters have it: log_loss for log loss, mae for mean absolute error.
func (m Measured) Measure() string {
	return strings.ToLower(strings.NewReplacer("mean absolute error", "mae", "root mean squared error", "rmse", ", ",
		"_", " ", "_").
		Replace(m.Name))
}

// Class is what a sheet says of one class. What cannot be said is absent: recall of a class without examples.
type Class struct {
	Name      string    `json:"name"`
	True      int64     `json:"true" doc:"Examples of it; of masks, pixels"`
	Predicted int64     `json:"predicted" doc:"Answers that name it"`
	Right     int64     `json:"right"`
	Recall    *Interval `json:"recall,omitempty" doc:"Of its examples, the share that is answered so"`
	Precision *Interval `json:"precision,omitempty" doc:"Of the answers that name it, the share that is right"`
	F1        *float64  `json:"f1,omitempty" doc:"Harmonic mean of the two"`
	Area      *float64  `json:"area,omitempty" doc:"Area under its ROC curve, against the rest: the chance that an example of it has a higher score for it than another"`
	IoU       *float64  `json:"iou,omitempty" doc:"Of masks: intersection over union"`
	Average   *float64  `json:"average,omitempty" doc:"Average precision: the area under its precision-recall curve, as steps"`
}

// Cell says how often one class is answered for another. Places of classes; -1 is none. Of several labels it says how
// often the one is missed where the other is added: -1 answered where nothing is added, -1 true where nothing is
// missed.
type Cell struct {
	True      int   `json:"t"`
	Predicted int   `json:"p"`
	Count     int64 `json:"n"`
}

// Bin is a bin of answers by their score.
type Bin struct {
	From  float64 `json:"from"`
	To    float64 `json:"to"`
	Count int64   `json:"count"`
	Score float64 `json:"score" doc:"Mean score of the answers in it"`
	Right float64 `json:"right" doc:"Share of them that is right"`
}

// Bins is how many bins of equal width the scores of answers are put into.
const Bins = 15

// Assessment is what a sheet comes to.
type Assessment struct {
	Examples  int64      `json:"examples"`
	Labelled  int64      `json:"labelled" doc:"Examples of which it is known what is true"`
	Right     int64      `json:"right"`
	Groups    int        `json:"groups,omitempty" doc:"How many the examples are of; intervals are computed by group if there are two or more, and not at all if there are fewer than eight"`
	Figures   []Measured `json:"figures"`
	Classes   []Class    `json:"classes,omitempty"`
	Cells     []Cell     `json:"cells,omitempty" doc:"What is answered for what, without zeros, by the true class and the answer"`
	Bins      []Bin      `json:"bins,omitempty" doc:"How far scores can be believed; without empty ones"`
	Scores    string     `json:"scores,omitempty" enum:"probabilities,scores" doc:"What the scores were taken for; absent: there are none"`
	Unsummed  int64      `json:"unsummed,omitempty" doc:"Examples whose probabilities do not sum to 1"`
	Outside   int64      `json:"outside,omitempty" doc:"Examples with a probability below 0 or above 1"`
	NotNumber int64      `json:"not_number,omitempty" doc:"Examples with a score that is not a number"`
	Doubled   int64      `json:"doubled,omitempty" doc:"Examples that show the same as another"`
	Blank     int64      `json:"blank,omitempty" doc:"Examples that show nothing: one colour, silence, an empty text"`
	Pixels    int64      `json:"pixels,omitempty" doc:"Of masks: the pixels that classes and cells count, instead of examples"`
}

// Figure finds a figure by its name.
func (a *Assessment) Figure(name string) (Measured, bool) {
	i := slices.IndexFunc(a.Figures, func(f Measured) bool { return f.Name == name })
	if i < 0 {
		return Measured{}, false
	}
	return a.Figures[i], true
}

// Of assesses a sheet. It takes time in proportion to examples times classes, and to resample up to 400 times.
func Of(s *sheet.Sheet) *Assessment {
	a := &Assessment{Examples: int64(s.Len()), Figures: []Measured{}}
	a.Groups = units(s).groups
	switch s.Task {
	case sheet.Number:
		a.numbers(s)
		return a
	case sheet.Text:
		a.texts(s)
		return a
	case sheet.Masks:
		a.masks(s)
		return a
	case sheet.Labels:
		a.labels(s)
		return a
	}
	a.scores(s)
	a.classes(s)
	a.figures(s)
	if s.Scores != nil {
		a.ranks(s)
	}
	if a.Scores == "probabilities" {
		a.calibrate(s)
	}
	return a
}

// sumError is by how much the sum of probabilities may miss 1: half precision of many classes.
const sumError = 0.01

// nearly is the share of rows that must look like probabilities for scores to be taken for such, where it is not said.
const nearly = 0.9

// scores finds out whether scores are probabilities, and which are none.
func (a *Assessment) scores(s *sheet.Sheet) {
	if s.Scores == nil {
		return
	}
	for i := range s.Len() {
		sum, outside, number := 0.0, false, true
		for _, x := range s.Row(i) {
			number = number && !math.IsNaN(x)
			outside = outside || x < -1e-6 || x > 1+1e-3
			sum += x
		}
		switch {
		case !number:
			a.NotNumber++
		case outside:
			a.Outside++
		case s.Task == sheet.Classes && math.Abs(sum-1) > sumError:
			a.Unsummed++
		}
	}
	odd := a.Outside + a.Unsummed
	a.Scores = "scores"
	if s.Probabilities != nil && *s.Probabilities ||
		s.Probabilities == nil && float64(odd) <= (1-nearly)*float64(a.Examples-a.NotNumber) &&
			a.NotNumber < a.Examples {
		a.Scores = "probabilities"
	} else {
		a.Outside, a.Unsummed = 0, 0
	}
}

// classes counts what is answered for what.
func (a *Assessment) classes(s *sheet.Sheet) {
	k := len(s.Classes)
	counts := map[[2]int32]int64{}
	a.Classes = make([]Class, k)
	for i, name := range s.Classes {
		a.Classes[i].Name = name
	}
	for i := range s.Len() {
		t, p := s.True[i], s.Predicted[i]
		if p != sheet.None {
			a.Classes[p].Predicted++
		}
		if t == sheet.None {
			continue
		}
		a.Labelled++
		a.Classes[t].True++
		counts[[2]int32{t, p}]++
		if t == p {
			a.Right++
			a.Classes[t].Right++
		}
	}
	answered := make([]int64, k) // of labelled examples
	for at, n := range counts {
		a.Cells = append(a.Cells, Cell{int(at[0]), int(at[1]), n})
		if at[1] != sheet.None {
			answered[at[1]] += n
		}
	}
	slices.SortFunc(a.Cells, func(x, y Cell) int {
		if x.True != y.True {
			return x.True - y.True
		}
		return x.Predicted - y.Predicted
	})
	for i := range a.Classes {
		c := &a.Classes[i]
		c.Recall, c.Precision = Wilson(c.Right, c.True), Wilson(c.Right, answered[i])
		if c.True+answered[i] > 0 && a.Labelled > 0 {
			f1 := 2 * float64(c.Right) / float64(c.True+answered[i])
			c.F1 = &f1
		}
	}
}

// calibrate compares the scores of answers with how often they are right (Guo et al. 2017: equal bins, expected
// calibration error).
func (a *Assessment) calibrate(s *sheet.Sheet) {
	bins := make([]Bin, Bins)
	for i := range s.Len() {
		score := s.Score(i)
		if !s.Labelled(i) || !(score >= 0 && score <= 1) {
			continue
		}
		b := &bins[min(Bins-1, int(score*Bins))]
		b.Count++
		b.Score += score
		if s.Right(i) {
			b.Right++
		}
	}
	wrong, all := 0.0, 0.0
	for i, b := range bins {
		if b.Count == 0 {
			continue
		}
		n := float64(b.Count)
		b.From, b.To, b.Score, b.Right = float64(i)/Bins, float64(i+1)/Bins, b.Score/n, b.Right/n
		wrong += n * math.Abs(b.Score-b.Right)
		all += n
		a.Bins = append(a.Bins, b)
	}
	if all > 0 {
		a.Figures = append(a.Figures, Measured{Name: "calibration error", Interval: Interval{Value: wrong / all},
			Lower: true})
	}
}

// ranks finds the areas under the curves of each class against the rest.
func (a *Assessment) ranks(s *sheet.Sheet) {
	if a.Labelled == 0 {
		return
	}
	type scored struct {
		score float64
		is    bool
	}
	list := make([]scored, 0, a.Labelled)
	for c := range a.Classes {
		list = list[:0]
		for i := range s.Len() {
			if v := s.Row(i)[c]; s.Labelled(i) && v == v {
				list = append(list, scored{v, s.Is(i, int32(c))})
			}
		}
		slices.SortFunc(list, func(x, y scored) int {
			switch {
			case x.score > y.score:
				return -1
			case x.score < y.score:
				return 1
			}
			return 0
		})
		is, others := 0.0, 0.0 // so far
		area, average := 0.0, 0.0
		all := 0.0
		for _, x := range list {
			if x.is {
				all++
			}
		}
		if all == 0 || all == float64(len(list)) {
			continue
		}
		for i := 0; i < len(list); { // those of one score together: half of the pairs between them count
			j, here, there := i, 0.0, 0.0
			for ; j < len(list) && list[j].score == list[i].score; j++ {
				if list[j].is {
					here++
				} else {
					there++
				}
			}
			area += there * (is + here/2)
			is, others = is+here, others+there
			average += here / all * is / (is + others)
			i = j
		}
		area /= all * (float64(len(list)) - all)
		a.Classes[c].Area, a.Classes[c].Average = &area, &average
	}
}
