package act

import (
	"context"
	"encoding/json"
	"fmt"
	"sort"
	"strings"

	"kembrel/store"
)

// Did is what is said of a change: the verb of its event, and what more there is to know.
type Did struct {
	Verb string
	Data map[string]any
}

// Event writes an event, with the address from which it is done.
func (s *Act) Event(ctx context.Context, q Tx, e store.Event) error {
	e.Place = Place(ctx)
	e.Subject = Clean(e.Subject)
	err := q.AddEvent(ctx, e)
	if err == nil {
		s.counts.add(e.Kind, e.Verb)
	}
	return err
}

// RunEvent is Event for one of a run: it fills in the project, and the run's address where no subject is given. A
// subject that begins with @ is a checkpoint of the run.
func (s *Act) RunEvent(ctx context.Context, q Tx, e store.Event) error {
	project, address, err := q.RunOf(ctx, e.Run)
	if err != nil {
		return err
	}
	e.Project = project
	if e.Subject == "" || e.Subject[0] == '@' {
		e.Subject = address + e.Subject
	}
	return s.Event(ctx, q, e)
}

// SayEvent is what happened as a person reads it behind the subject: the verb, and what more there is.
func SayEvent(verb string, data json.RawMessage) string {
	text := strings.ReplaceAll(verb, "-", " ")
	var more map[string]any
	if json.Unmarshal(data, &more) != nil || len(more) == 0 {
		return text
	}
	parts := make([]string, 0, len(more))
	for name, v := range more {
		if list, ok := v.([]any); ok {
			v = strings.Trim(strings.ReplaceAll(fmt.Sprintf("%q", list), `" "`, `", "`), "[]")
		}
		parts = append(parts, fmt.Sprintf("%s %v", strings.ReplaceAll(name, "_", " "), v))
	}
	sort.Strings(parts)
	return text + " (" + strings.Join(parts, ", ") + ")"
}
