package dataset

// Crossing says what two splits have in common.
type Crossing struct {
	Kind   string    `json:"kind"`   // same-bytes, same-group, nearly-same, same-item, same-name
	Splits [2]string `json:"splits"` // the first before the second as train comes before val
	Shared int64     `json:"shared"` // different bytes, groups, texts or names that are in both
	Items  [2]int64  `json:"items"`  // items of each that these are
}

// Tally counts the items with a mark.
type Tally struct {
	Kind  string `json:"kind"`
	Items int64  `json:"items"`
}

// SplitCount counts a split.
type SplitCount struct {
	Name    string `json:"name"`
	Items   int64  `json:"items"`
	Bytes   int64  `json:"bytes"`
	Groups  int64  `json:"groups"`  // different ones
	Leaking int64  `json:"leaking"` // items that another split has too: by bytes, group, key, or nearly
}

// Findings are what a snapshot says of itself.
type Findings struct {
	Items     int64        `json:"items"`
	Unknown   int64        `json:"unknown,omitempty"` // items of whose bytes nothing is known
	Splits    []SplitCount `json:"splits"`
	Grouped   bool         `json:"grouped"` // some items have groups
	Crossings []Crossing   `json:"crossings"`
	Tallies   []Tally      `json:"tallies"` // of items that are not clean
	Labels    []LabelCount `json:"labels"`  // the most frequent first, at most MostLabels
	Others    int          `json:"others"`  // different labels beyond these
	Alike     []Alike      `json:"alike"`   // each split against the first
	Nearly    string       `json:"nearly"`  // by what likeness was looked for: text, rows, or "" (by bytes alone)
}

// LabelCount counts a label in each split, in the order of Findings.Splits.
type LabelCount struct {
	Label string  `json:"label"`
	Items []int64 `json:"items"`
}

// Alike says how likely it is that two splits differ so much in their labels by chance, and how much that is.
type Alike struct {
	Splits  [2]string `json:"splits"`
	Method  string    `json:"method"`  // chi-square, exact, simulated; for numbers Kolmogorov-Smirnov
	P       float64   `json:"p"`       // chance of such a difference or a larger one
	Effect  float64   `json:"effect"`  // Cramér's V, or the distance of cumulated shares: 0 the same, 1 nothing common
	Most    string    `json:"most"`    // the label whose share differs most
	Shares  []float64 `json:"shares"`  // of that label in each
	Freedom int       `json:"freedom"` // of chi-square
}
