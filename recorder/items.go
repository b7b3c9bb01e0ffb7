package recorder

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/dataset"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// Items of data are handed over use by use, and those of one dataset become one snapshot together: only then does it
// say what training and validation have in common. It is made when training begins, as far as the spool tells, when
// something else is handed over, or when nothing has come for itemsWait.

const (
	itemsWait = time.Minute
	itemsTime = 30 * time.Minute // for sending and making a snapshot
)

// grouping are items of data that were handed over and not yet said to be complete.
type grouping struct {
	some bool
	from int64 // readings before them
}

// itemsBegun notes that items are being handed over. The mutex is held.
func (n *session) itemsBegun() {
	if !n.items.some {
		n.items = grouping{true, n.readings}
	}
}

// itemsComplete says in the spool that training has begun and that all items handed over before it are in front of
// this: they are made durable beside the readings, which may be first. The mutex is held.
func (n *session) itemsComplete() {
	if !n.items.some || n.readings == n.items.from {
		return
	}
	for _, m := range n.open {
		if m.Items != nil {
			return
		}
	}
	n.items = grouping{}
	n.spool.Append(spool.Training, 0, nil, func(error) {}) // without it they are sent a little later
}

// sendAllHanded sends what was handed over, in order, until no more comes. A manifest without a key says that training
// has begun.
func (s *sender) sendAllHanded(ctx context.Context, manifests <-chan spool.Manifest,
	sheets chan<- spool.Manifest) error {
	var items []spool.Manifest
	flush := func() error {
		for len(items) > 0 {
			of := func(m spool.Manifest) bool { return m.Items.Dataset == items[0].Items.Dataset }
			var some, others []spool.Manifest
			for _, m := range items {
				if of(m) {
					some = append(some, m)
				} else {
					others = append(others, m)
				}
			}
			if err := s.sendItems(ctx, some); err != nil {
				return err
			}
			items = others
		}
		return nil
	}
	for {
		var late <-chan time.Time
		if len(items) > 0 {
			late = time.After(itemsWait)
		}
		select {
		case <-late:
			if err := flush(); err != nil {
				return err
			}
		case m, more := <-manifests:
			if more && m.Sheet != nil {
				select {
				case sheets <- m: // nothing waits behind one
				case <-ctx.Done():
					return ctx.Err()
				}
				continue
			}
			if more && m.Items != nil {
				if again, err := s.madeBefore(m.Key); err != nil {
					return err
				} else if !again {
					items = append(items, m)
				}
				continue
			}
			if err := flush(); err != nil || !more {
				return err
			}
			if m.Key == "" {
				continue
			}
			if err := s.sendHanded(ctx, m); err != nil {
				return err
			}
		}
	}
}

// sendSheets sends prediction sheets, one after another, beside everything else: the service may take minutes to assess
// one.
func (s *sender) sendSheets(ctx context.Context, sheets <-chan spool.Manifest) error {
	for m := range sheets {
		if err := s.sendHanded(ctx, m); err != nil {
			return err
		}
	}
	return nil
}

// sendItems has a snapshot made of items of one dataset and says that the run uses it. Items that the service refuses
// for good are not with it, which is left on the run.
func (s *sender) sendItems(ctx context.Context, items []spool.Manifest) error {
	made, counts, bad, err := s.makeSnapshot(ctx, items)
	for _, m := range items {
		if err != nil {
			break
		}
		use := &api.DataUseInput{RunInput: s.leg.RunInput, Leg: s.leg.Leg}
		use.Body.Use, use.Body.Items = m.Items.For, counts[m.Items.For]
		use.Body.Asked = api.DataAddress{Dataset: made.Dataset, Number: made.Number, Split: m.Items.For}.String()
		err = s.tryItem(ctx, func(ctx context.Context) error {
			_, err := client.Call(ctx, s.via(), api.UseData, use)
			return err
		})
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case err == nil:
		s.snapshots.Add(1)
		s.sayMade(made, bad)
		s.change(func(st *spool.State) { // a few of them alone would be another snapshot
			st.Snapshot = nil
			for _, m := range items {
				st.Snapshot = append(st.Snapshot, m.Key)
			}
		})
		for _, m := range items {
			err = errors.Join(err, s.spool.Forget(m.Key))
		}
		return err
	}
	var wrong *badItems
	for _, m := range items {
		do := s.setAside
		if errors.As(err, &wrong) || api.Is(err, api.Invalid) || api.Is(err, api.TooLarge) {
			do = s.refuseHanded
		}
		if err := do(m, err); err != nil {
			return err
		}
	}
	return nil
}

// madeBefore reports whether a snapshot was made of items already, and lets them go.
func (s *sender) madeBefore(key string) (bool, error) {
	_, err := os.Stat(s.spool.KeptFolder(key))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return true, nil
	case slices.Contains(s.spool.State().Snapshot, key):
		return true, s.spool.Forget(key)
	}
	return false, nil
}

// badItems is what is wrong with items, which no waiting changes.
type badItems struct{ error }

func (e *badItems) Unwrap() error { return e.error }

// sayMade says what became of items, where that is not what whoever handed them over will think.
func (s *sender) sayMade(made *api.Snapshot, bad badRows) {
	if bad.count > 0 {
		s.remark(fmt.Sprintf("%s of the items handed over for %s cannot be taken and were left out; the first: %v.",
			api.Thousands(bad.count), made.Address, bad.first))
	}
	if made.Again > 0 {
		s.remark("Of the items handed over for " + made.Address + ", " + api.Thousands(made.Again) +
			" came more than once for one use; there they count once.")
	}
}

// badRows are items that cannot be taken, of which the others know nothing.
type badRows struct {
	count int64
	first error
}

func (b *badRows) add(err error) {
	if b.count++; b.count == 1 {
		b.first = err
	}
}

// makeSnapshot sends items and has their snapshot made. counts are how many there are, by use.
func (s *sender) makeSnapshot(ctx context.Context, items []spool.Manifest) (made *api.Snapshot, counts map[string]int64,
	bad badRows, err error) {
	keys := make([]string, len(items))
	for i, m := range items {
		keys[i] = m.Key
	}
	in := &api.NewDraft{DatasetInput: api.DatasetInput{Dataset: items[0].Items.Dataset},
		Key: uuid.NewSHA1(uuid.NameSpaceOID, []byte(strings.Join(keys, " "))).String()}
	in.Body.Source = api.SnapshotSource{Kind: "program", Host: s.spool.Leg.Recipe.Host,
		Run: api.Address{Project: s.leg.Project, Run: s.leg.Number}.String()}
	err = s.tryItemWithin(ctx, itemsTime, func(ctx context.Context) error {
		counts, bad = map[string]int64{}, badRows{}
		draft, err := client.BeginSnapshot(ctx, s.via(), in)
		if err != nil {
			return err
		}
		for _, m := range items {
			if err := s.addItems(m, draft, counts, &bad); err != nil {
				return err
			}
		}
		made, err = draft.Commit(ctx, func(*api.Snapshot) { s.progress.Add(1) })
		return err
	})
	return made, counts, bad, err
}

// addItems adds the items of a file to a snapshot, but for those that cannot be taken.
func (s *sender) addItems(m spool.Manifest, to *client.Snapshot, counts map[string]int64, bad *badRows) error {
	f, err := os.Open(filepath.Join(s.spool.KeptFolder(m.Key), protocol.ItemsFile))
	if err != nil {
		return err
	}
	defer f.Close()
	var sent error
	err = dataset.ReadLines(f, nil, false, func(it *dataset.Item) error {
		it.Split = m.Items.For
		slices.Sort(it.Labels)
		if err := it.Check(nil); err != nil {
			bad.add(err)
			return nil
		}
		if counts[m.Items.For]++; counts[m.Items.For] > dataset.MaxItems {
			return errors.New("there are too many")
		}
		sent = to.Add(*it)
		return sent
	})
	switch {
	case sent != nil:
		return sent
	case err == nil && counts[m.Items.For] == 0:
		if err = errors.New("there are none"); bad.count > 0 {
			err = bad.first
		}
	}
	if err != nil {
		return &badItems{err}
	}
	return nil
}
