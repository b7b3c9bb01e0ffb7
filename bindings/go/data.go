package kembrel

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"path/filepath"
	"strconv"
)

// Data says which data the run uses for what: Data("val", "hydrophone#3:val"). An address that the service does not
// know is said on the run.
func (r *Run) Data(use, address string) {
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.begin("data")
	r.line = appendText(append(r.line, `,"use":`...), use)
	r.line = appendText(append(r.line, `,"data":`...), address)
	r.finish(true)
}

// itemsAtOnce is how many items a message has.
const itemsAtOnce = 2000

// DataItems says which data the run uses for what by the items that it reads, each its key and, where that is known,
// its digest ("b3:..."); the service says which snapshot that is, or that it is none. Items are read one by one and
// held by nobody. dataset, or "", says whose snapshots are looked at first.
func (r *Run) DataItems(use, dataset string, items iter.Seq2[string, string]) {
	var keys, digests []string
	count := 0
	send := func() {
		if len(keys) == 0 {
			return
		}
		r.mutex.Lock()
		defer r.mutex.Unlock()
		r.line = appendText(append(r.line[:0], `{"kind":"data","do":"items","use":`...), use)
		for name, list := range map[string][]string{"keys": keys, "digests": digests} {
			r.line = append(append(append(r.line, `,"`...), name...), `":[`...)
			for i, text := range list {
				if i > 0 {
					r.line = append(r.line, ',')
				}
				r.line = appendText(r.line, text)
			}
			r.line = append(r.line, ']')
		}
		r.finish(false)
		count += len(keys)
		keys, digests = keys[:0], digests[:0]
	}
	for key, digest := range items {
		if keys, digests = append(keys, key), append(digests, digest); len(keys) == itemsAtOnce {
			send()
		}
	}
	send()
	r.mutex.Lock()
	defer r.mutex.Unlock()
	r.begin("data")
	r.line = appendText(append(r.line, `,"do":"end","use":`...), use)
	r.line = appendText(append(r.line, `,"data":`...), dataset)
	r.line = strconv.AppendInt(append(r.line, `,"count":`...), int64(count), 10)
	r.finish(true)
}

// Item is an example that the run reads.
type Item struct {
	Key    string   `json:"key"`              // path or id; an item of a snapshot has it once
	Digest string   `json:"digest,omitempty"` // "b3:..." of its bytes; "": not known
	Group  string   `json:"group,omitempty"`  // what must not be in two splits, such as a voyage
	Labels []string `json:"-"`                // one, several, or none
	Target *float64 `json:"-"`                // a label that is a number; nil: none
}

// MarshalJSON writes an item as a line of a list of items.
func (i Item) MarshalJSON() ([]byte, error) {
	type plain Item
	line := struct {
		plain
		Label any `json:"label,omitempty"`
	}{plain: plain(i)}
	switch {
	case len(i.Labels) > 0:
		line.Label = i.Labels
	case i.Target != nil:
		line.Label = *i.Target
	}
	return json.Marshal(line)
}

// Items hands over the items that the run reads for something, with their groups and labels: they become a snapshot of
// dataset ("": of one that is called as the project), unless one has them already, and use is their split. Those of all
// uses that are handed over before the first reading become one snapshot, which says whether they have anything in
// common. Items are read one by one and held by nobody. It returns once they are written.
func (r *Run) Items(use, dataset string, items iter.Seq[Item]) error {
	err := r.handOver("items", func() {
		r.line = appendText(append(r.line, `,"use":`...), use)
		if dataset != "" {
			r.line = appendText(append(r.line, `,"data":`...), dataset)
		}
	}, func(folder string) (string, any, error) {
		count := 0
		err := inFile(filepath.Join(folder, "items.jsonl"), func(w *bufio.Writer) error {
			lines := json.NewEncoder(w)
			for item := range items {
				if err := lines.Encode(item); err != nil {
					return fmt.Errorf("item %q: %w", item.Key, err)
				}
				count++
			}
			if count == 0 {
				return errors.New("there are no items")
			}
			return nil
		})
		return "count", count, err
	})
	if err != nil {
		err = fmt.Errorf("items for %s: %w", use, err)
		r.fail(err)
	}
	return r.forgive(err)
}
