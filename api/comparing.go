package api

import "encoding/json"

// CompareInput names runs of a project to be compared: by their numbers, or those that a filter chooses.
type CompareInput struct {
	ProjectInput
	Runs []int `query:"runs" maxItems:"1000" doc:"Numbers of runs; absent: those that the filter chooses, as far as there is room"`
	RunChoice
	Baseline int `query:"baseline" minimum:"0" doc:"Number of the run that others are held against; 0: the project's"`
}

// Comparison answers what people ask of several runs (docs/comparing.md).
type Comparison struct {
	Project   string         `json:"project"`
	Objective Objective      `json:"objective"`
	Answers   CompareAnswers `json:"answers"`
	Runs      []Run          `json:"runs" doc:"In the order asked for"`
	Left      int64          `json:"left,omitempty" doc:"Runs that the filter chooses and that there was no room for"`
	Baseline  int            `json:"baseline,omitempty" doc:"Number of the run that others are held against"`
	Groups    []RunGroup     `json:"groups" doc:"Runs that differ only in the seed stand together; the best group first"`
	Differ    []FactRow      `json:"differ" doc:"What differs of what went in"`
	Same      []FactRow      `json:"same" doc:"What all have in common, with one value"`
	Changes   []CodeChange   `json:"changes" doc:"What was not committed, where that differs"`

	Evaluated []ComparedEvaluation `json:"evaluated,omitempty" doc:"What the runs' latest evaluations on the same data found; absent where there are none"`
}

// ComparedEvaluation is what the latest evaluations of runs on one set of data give for one measure.
type ComparedEvaluation struct {
	On      string          `json:"on" example:"hydrophone#3:test"`
	Measure string          `json:"measure" example:"accuracy"`
	Values  []Float         `json:"values" doc:"Of each run, in their order; NaN: none"`
	Alarmed []bool          `json:"alarmed" doc:"Whether the run's raises an alarm, as where it was trained on some of the data"`
	Groups  []ComparedGroup `json:"groups" doc:"The same of each group"`
}

// ComparedGroup is the same of runs of one setting.
type ComparedGroup struct {
	Mean    Float `json:"mean"`
	Runs    int   `json:"runs" doc:"That were evaluated on it"`
	Alarmed bool  `json:"alarmed,omitempty" doc:"One of them raises an alarm"`
}

// CompareAnswers are the sentences that open the sections of a comparison.
type CompareAnswers struct {
	Best     string `json:"best" doc:"Which is best?"`
	Apart    string `json:"apart" doc:"Which of the next cannot be told apart"`
	Differed string `json:"differed" doc:"What differed?"`
	Learned  string `json:"learned" doc:"How did they learn?"`

	Evaluated string `json:"evaluated,omitempty" doc:"What did evaluations find?"`
}

// RunGroup are runs of one setting.
type RunGroup struct {
	Label    string      `json:"label"`
	Runs     []int       `json:"runs" nullable:"false"`
	Twice    []int       `json:"twice,omitempty" doc:"Those that repeat a seed which counts already"`
	Best     GroupFigure `json:"best" doc:"Of the runs' best figures"`
	Last     GroupFigure `json:"last"`
	Next     *Margin     `json:"next,omitempty" doc:"Against the group after it"`
	Baseline *Margin     `json:"against_baseline,omitempty" doc:"Against the baseline's group"`
}

// GroupFigure describes the figures of a group.
type GroupFigure struct {
	Count     int    `json:"count" doc:"Figures that count"`
	Values    Floats `json:"values" doc:"They"`
	Mean      Float  `json:"mean"`
	Deviation Float  `json:"deviation" doc:"Standard deviation with n-1; NaN below two"`
	Lowest    Float  `json:"lowest"`
	Highest   Float  `json:"highest"`
}

// Margin is the difference of two groups' means of the best figures, with the interval that holds the true one in 95 of
// 100 comparisons.
type Margin struct {
	Of         string `json:"of" doc:"Label of the other group"`
	Difference Float  `json:"difference"`
	Low        Float  `json:"low" doc:"NaN where nothing can be said"`
	High       Float  `json:"high"`
	Method     string `json:"method" enum:",student,welch,prediction" doc:"Empty where nothing can be said"`
	Beyond     bool   `json:"beyond" doc:"More than the noise between seeds"`
	Says       string `json:"says"`
}

// FactRow is one thing that went into runs.
type FactRow struct {
	Section string   `json:"section" enum:"hyperparameter,seed,data,code,package,machine,start,command"`
	Name    string   `json:"name"`
	Values  []string `json:"values" doc:"Of each run, in their order; of equal ones one"`
	Has     []bool   `json:"has" doc:"Whether the run has it"`
	Groups  []string `json:"groups,omitempty" doc:"What the runs of each group have, in the order of the groups; different values joined by commas"`
	Apart   []bool   `json:"apart,omitempty" doc:"Whether that is other than what the baseline's group has; without one, the first group"`
}

// CodeChange is what was not committed when a run was started.
type CodeChange struct {
	Run    int    `json:"run" doc:"The first that had it"`
	Runs   []int  `json:"runs" nullable:"false" doc:"All that had it"`
	Commit string `json:"commit"`
	Patch  string `json:"patch" doc:"git diff --binary HEAD, its first 64 kB"`
}

// LearningInput asks for curves of several runs over each other.
type LearningInput struct {
	CompareInput
	Names  []string `query:"names" minItems:"1" maxItems:"12" doc:"Curves, such as loss.val"`
	By     string   `query:"by" enum:"epoch,step,time" default:"epoch" doc:"Time is in seconds since the run's start"`
	From   float64  `query:"from"`
	To     float64  `query:"to" doc:"0: the end"`
	Pixels int      `query:"pixels" minimum:"20" maximum:"4000" default:"600"`
	Smooth float64  `query:"smooth" minimum:"0" doc:"Half-life of an exponential smoothing, in units of the axis"`
	Median float64  `query:"median" minimum:"0" doc:"Stretch of the axis for a moving median"`
	Groups bool     `query:"groups" doc:"One line for each group of seeds: their mean, and between what they lie"`
}

// Learning are curves of several runs.
type Learning struct {
	By       string         `json:"by"`
	Baseline int            `json:"baseline,omitempty"`
	Lines    []LearningLine `json:"lines"`
}

// LearningLine is one run's curve, or the mean of a group's.
type LearningLine struct {
	Name     string `json:"name" doc:"Of the curve"`
	Label    string `json:"label"`
	Runs     []int  `json:"runs" nullable:"false"`
	X        Floats `json:"x"`
	Y        Floats `json:"y" doc:"Smoothed where that is asked for; the mean of what falls on one pixel"`
	Raw      Floats `json:"raw,omitempty" doc:"As recorded, where y is smoothed"`
	Low      Floats `json:"low,omitempty" doc:"Between what the readings of a pixel, or the runs of a group, lie"`
	High     Floats `json:"high,omitempty"`
	LessX    Floats `json:"less_x,omitempty" doc:"Less the baseline's: places"`
	LessY    Floats `json:"less_y,omitempty"`
	Baseline bool   `json:"baseline,omitempty"`
}

// InfluenceInput asks which hyperparameters mattered.
type InfluenceInput struct {
	CompareInput
	Figure string `query:"figure" maxLength:"400" doc:"A figure; absent: the best of the objective"`
}

// Mattered says which hyperparameters mattered for a figure.
type Mattered struct {
	Figure     string           `json:"figure"`
	Lower      bool             `json:"lower"`
	Says       string           `json:"says"`
	Runs       int              `json:"runs" doc:"That have the figure"`
	Left       int              `json:"left" doc:"Without a finite figure, or without room"`
	Sampled    int              `json:"sampled,omitempty" doc:"The runs are a sample, spread evenly over so many that the project has had; absent: they are all that were asked for"`
	Few        bool             `json:"few" doc:"Too few runs to trust this"`
	Explained  Float            `json:"explained" doc:"Share of the variance of the figure's ranks that the forest predicts of runs it has not seen"`
	Influences []Influence      `json:"influences" doc:"The most important first"`
	Pairs      []Pair           `json:"pairs" doc:"Of the most important, how much they act together"`
	Points     []InfluencePoint `json:"points" doc:"The runs with the figure, for drawings"`
}

// Influence is what a hyperparameter has to do with a figure.
type Influence struct {
	Name        string   `json:"name"`
	Runs        int      `json:"runs"`
	Correlation Float    `json:"correlation" doc:"Spearman's rank correlation; NaN where values are no numbers"`
	Low         Float    `json:"low" doc:"95 % interval"`
	High        Float    `json:"high"`
	Importance  Float    `json:"importance" doc:"Rise of a random forest's squared error when the values are shuffled, as a share of the variance"`
	Effects     []Effect `json:"effects,omitempty" doc:"What the forest predicts at its values, in their order; of the most important ones"`
}

// Effect is what a random forest predicts on average over the runs when a hyperparameter has a value.
type Effect struct {
	Value json.RawMessage `json:"value"`
	Mean  Float           `json:"mean" doc:"Partial dependence, in the units of the figure"`
	Low   Float           `json:"low" doc:"Eight in ten trees predict between low and high"`
	High  Float           `json:"high"`
}

// Pair is how much two hyperparameters act together beyond the sum of either.
type Pair struct {
	A        string `json:"a"`
	B        string `json:"b"`
	Strength Float  `json:"strength" doc:"As a share of the deviation of the figure's ranks"`
}

// InfluencePoint is a run with its hyperparameters and the figure.
type InfluencePoint struct {
	Run    int                        `json:"run"`
	Title  string                     `json:"title"`
	Figure Float                      `json:"figure"`
	Hyper  map[string]json.RawMessage `json:"hyper" doc:"Of the hyperparameters that differ"`
}

// TradeOffInput asks which runs no other beats in two or three figures.
type TradeOffInput struct {
	CompareInput
	Figures string `query:"figures" maxLength:"1000" required:"true" example:"best(\"accuracy.val\"),pace" doc:"Two or three values, separated by commas"`
}

// TradeOff are runs with figures against each other.
type TradeOff struct {
	Figures []string     `json:"figures" nullable:"false"`
	Lower   []bool       `json:"lower" nullable:"false" doc:"Whether less is better: of times, sizes, losses and errors"`
	Says    string       `json:"says"`
	Points  []TradePoint `json:"points"`
	Left    int          `json:"left,omitempty" doc:"Runs that lack a figure"`
	Sampled int          `json:"sampled,omitempty" doc:"As in influences"`
}

// TradePoint is a run with its figures.
type TradePoint struct {
	Run         int    `json:"run"`
	Title       string `json:"title"`
	Values      Floats `json:"values"`
	Undominated bool   `json:"undominated" doc:"No other is at least as good in every figure and better in one"`
}

// DocumentInput asks for a comparison as a document.
type DocumentInput struct {
	CompareInput
	Format string `query:"format" enum:"html,markdown,csv" default:"html" doc:"html: one file; markdown: a zip with its charts as SVG; csv: a row per run"`
}

// The operations on comparisons.
var (
	Compare = declare[CompareInput, Comparison](Spec{ID: "comparison", Method: "GET",
		Path: "/projects/{project}/comparison", Summary: "Compare runs: ranking, noise, differences", Access: Reader})
	GetLearning = declare[LearningInput, Learning](Spec{ID: "learning", Method: "GET",
		Path:    "/projects/{project}/comparison/curves",
		Summary: "Read curves of several runs, their means, and differences from a baseline", Access: Reader})
	GetMattered = declare[InfluenceInput, Mattered](Spec{ID: "influences", Method: "GET",
		Path:    "/projects/{project}/comparison/influences",
		Summary: "Say which hyperparameters mattered", Access: Reader})
	GetTradeOff = declare[TradeOffInput, TradeOff](Spec{ID: "trade-off", Method: "GET",
		Path:    "/projects/{project}/comparison/trade-off",
		Summary: "Mark the runs that no other beats in two or three figures", Access: Reader})
	CompareDocument = declare[DocumentInput, None](Spec{ID: "comparison-document", Method: "GET",
		Path: "/projects/{project}/comparison/document", Summary: "A comparison as HTML, Markdown or CSV",
		Access: Reader, Status: 200,
		Media: []string{"text/html", "application/zip", "text/csv"}})
)
