package finding

import (
	"context"
	"fmt"

	"kembrel/api"
	"kembrel/core/filter"
	"kembrel/service/act"
	"kembrel/store/pg/db"
)

// Lists whose conditions people write can cost the database anything. They go over connections of their own, each
// person has a few at a time, and each is given up after some seconds, so that nobody takes the lists from the others.

const (
	mostWeight = 400 // of condition, order and columns of one request (filter.Node.Weight)
	mostLists  = 2   // of one person at a time
)

// Asked is an expression of a request, and where it stands.
type Asked struct {
	field string // where, sort, column 3
	text  string
	node  *filter.Node
}

// AskedBy collects the expressions of a request.
func AskedBy(in api.RunChoice, where, sort *filter.Node, columns []*filter.Node, texts []string) []Asked {
	list := []Asked{{"where", in.Where, where}, {"sort", in.Sort, sort}}
	for i, n := range columns {
		list = append(list, Asked{fmt.Sprintf("column %d", i+1), texts[i], n})
	}
	return list
}

// heaviest is the expression that costs most; "" where none is given.
func heaviest(list []Asked) (says string, total int) {
	most := 0
	for _, a := range list {
		w := a.node.Weight()
		if total += w; w > most {
			most, says = w, fmt.Sprintf("%s (%.80s)", a.field, a.text)
		}
	}
	return says, total
}

// Costly does what expressions ask of the database, in the caller's turn and within the time for lists. What takes too
// long is a problem that names the expression which costs most.
func (s *Finder) Costly(ctx context.Context, list []Asked, do func(context.Context) error) error {
	says, total := heaviest(list)
	if total > mostWeight {
		return api.Fail(api.TooCostly,
			"the condition, order and columns ask for too much at once (%d of at most %d); the largest is %s",
			total, mostWeight, says)
	}
	who, asks := act.Asks(ctx)
	if !asks || who.ID == 0 {
		return do(ctx)
	}
	done, err := s.turns.Take(ctx, who.ID)
	if err != nil {
		return err
	}
	defer done()
	err = do(db.In(ctx, db.Lists))
	if db.TooCostly(err) && ctx.Err() == nil {
		if says == "" {
			says = "the list itself"
		}
		s.Log.Warn("a list took too long", "person", who.Name, "says", says)
		return api.Fail(api.TooCostly,
			"the database took longer than %s. What costs most is %s: narrow it, or ask for fewer columns or runs",
			db.ListTime, says)
	}
	return OrOutOfRange(err)
}
