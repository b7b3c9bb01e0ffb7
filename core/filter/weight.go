package filter

// Weight estimates how much the expression costs a database for each run: 1 for a field of the run, 2 for a
// hyperparameter, 3 for a figure of a curve, 6 for one of an evaluation or a search in texts, and 1 for each 25 values
// of a list. It bounds what one request may ask for; it is no time.
func (n *Node) Weight() int {
	if n == nil {
		return 0
	}
	w := 0
	switch n.Op {
	case Literal:
		if list, ok := n.Lit.([]any); ok {
			return len(list) / 25
		}
		return 0
	case Field:
		w = 1
	case Hyper, Has, Data:
		w = 2
	case Best, Last, Lowest, Highest, AtBest:
		w = 3
	case Evaluated, Search:
		w = 6
	}
	for _, a := range n.Args {
		w += a.Weight()
	}
	return w
}
