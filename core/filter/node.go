package filter

// Kind is what a value is.
type Kind int

// The kinds of values. Any is a hyperparameter, whose kind differs from run to run.
const (
	Number Kind = iota
	Text
	Truth
	Time
	List
	Any
)

func (k Kind) String() string {
	return [...]string{"number", "text", "boolean", "time", "list", "hyperparameter"}[k]
}

// Node is a part of an expression. Value says what it stands for; conditions are nodes of the kind Truth.
type Node struct {
	Op   Op
	Kind Kind
	Name string  // of a field, hyperparameter, curve, measure or method
	On   string  // of Evaluated: the data
	Args []*Node // operands
	Lit  any     // of Literal: float64, string, bool, time.Time or []any of these
}

// Op is what a node does.
type Op int

// The operations.
const (
	Literal Op = iota
	Field      // of the run: Name
	Hyper      // hyperparameter Name
	Has        // whether there is a hyperparameter Name, or the value of its one operand
	Data       // address of the data that the run used for Name
	Best       // figures of the curve Name
	Last
	Lowest
	Highest
	AtBest    // the reading when the objective was best
	Evaluated // measure Name of the latest evaluation on the data On
	Search    // whether the run's texts contain Name
	And
	Or
	Not
	Equal
	// with swapped and negated operands for > >= <=: LessEqual has its own, as !(a > b) is not a <= b where one is
	// absent
	Less
	LessEqual
	In
	Contains
	StartsWith
	EndsWith
	Add
	Subtract
	Multiply
	Divide
)

// OfObjective has best and last without a curve mean those of the objective.
func (n *Node) OfObjective(curve string) *Node {
	if n == nil {
		return nil
	}
	if (n.Op == Best || n.Op == Last) && n.Name == "" {
		n.Name = curve
	}
	for _, a := range n.Args {
		a.OfObjective(curve)
	}
	return n
}
