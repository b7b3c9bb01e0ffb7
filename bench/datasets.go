package main

import (
	"bufio"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"time"

	"kembrel/api"
	"kembrel/client"
)

// itemTable writes a table of so many items of voyages of twelve clips each, and returns its path.
func (w *world) itemTable(n int) (string, error) {
	path := filepath.Join(w.folder, fmt.Sprintf("items-%d.csv", n))
	if _, err := os.Stat(path); err == nil {
		return path, nil
	}
	f, err := os.Create(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	random := rand.New(rand.NewPCG(1, uint64(n)))
	out := bufio.NewWriter(f)
	fmt.Fprintln(out, "key,split,voyage,label,depth,station")
	for i := range n {
		voyage := i / 12
		split := "train"
		switch voyage % 20 {
		case 3:
			split = "val"
		case 4:
			split = "test"
		}
		fmt.Fprintf(out, "clip-%07d.npy,%s,voyage%06d,%s,%.6f,%s\n", i, split, voyage,
			[]string{"tug", "ferry", "trawler"}[random.IntN(3)], random.Float64()*40, []string{"quay", "mole"}[i%2])
	}
	return path, out.Flush()
}

// addTable adds a table as a dataset by the command that people use, and returns the seconds that it took.
func (w *world) addTable(n int, name string) (float64, error) {
	path, err := w.itemTable(n)
	if err != nil {
		return 0, err
	}
	began := time.Now()
	out, err := exec.Command(os.Getenv("KEMBREL_BINARY"), "data", "add", name, "--table", path, "--map", "voyage=group",
		"--yes").CombinedOutput()
	if err != nil {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	return time.Since(began).Seconds(), nil
}

// dataRows measure datasets of 10^3 to 10^6 items: adding, looking, a page, a filtered page, the page of the snapshot.
func (w *world) dataRows() (rows []row) {
	ctx := context.Background()
	million, made := 1_000_000, map[int]bool{}
	once := func(n int) error {
		if made[n] {
			return nil
		}
		made[n] = true
		_, err := w.addTable(n, fmt.Sprintf("items-%d", n))
		return err
	}
	at := func(n int) api.SnapshotInput {
		return api.SnapshotInput{DatasetInput: api.DatasetInput{Dataset: fmt.Sprintf("items-%d", n)}, Number: 1}
	}
	timed := func(n int, do func() error) func() (float64, error) {
		return func() (float64, error) {
			if err := once(n); err != nil {
				return 0, err
			}
			if _, err := client.LookedAt(ctx, w.client, at(n)); err != nil {
				return 0, err
			}
			began := time.Now()
			err := do()
			return float64(time.Since(began).Microseconds()) / 1000, err
		}
	}
	for n := 1000; n <= million; n *= 10 {
		name := 0
		add := func() (float64, error) {
			name++
			took, err := w.addTable(n, fmt.Sprintf("added-%d-%d", n, name))
			return took / float64(n) * 1e6, err
		}
		want := "(flat)"
		if n == million {
			want = "<= 20 (flat)"
		}
		rows = append(rows, row{what: fmt.Sprintf("dataset of %d items added from a table, each", n),
			reference: "(itself)",
			unit:      "us", want: want, rounds: 1, theirs: add, ours: add})
	}
	look := func() (float64, error) {
		if _, err := w.addTable(million, fmt.Sprintf("looked-%d", time.Now().UnixNano())); err != nil {
			return 0, err
		}
		all, err := client.Call(ctx, w.client, api.ListDatasets, &api.PageInput{Limit: 500})
		if err != nil {
			return 0, err
		}
		newest := api.SnapshotInput{Number: 1}
		for _, d := range all.Items {
			newest.Dataset = max(newest.Dataset, d.Name)
		}
		began := time.Now()
		s, err := client.LookedAt(ctx, w.client, newest)
		if err == nil && s.Found == nil {
			err = fmt.Errorf("%s was not looked at", s.Address)
		}
		return time.Since(began).Seconds(), err
	}
	page := func(where string, from int64) func() error {
		return func() error {
			got, err := client.Call(ctx, w.client, api.ListItems,
				&api.ItemsInput{SnapshotInput: at(million), Where: where,
					From: from, Limit: 100, Counts: where != ""})
			if err == nil && len(got.Items) != 100 {
				err = fmt.Errorf("%d items came", len(got.Items))
			}
			return err
		}
	}
	of := func(what, want string, do func() error) row {
		read := timed(million, do)
		return row{what: "dataset of 1000000 items, " + what, reference: "(itself)", unit: "ms", want: want, rounds: 5,
			theirs: read, ours: read}
	}
	return append(rows,
		row{what: "dataset of 1000000 items, its checks", reference: "(itself)", unit: "s", want: "<= 30", rounds: 1,
			theirs: look, ours: look},
		of("first page of items", "<= 50", page("", 0)), of("a page in the middle", "<= 50", page("", 500_000)),
		of("a page and the count of those that fulfil a condition", "(reads two columns of all)",
			page(`label == "tug" && depth > 30`, 0)),
		of("its page", "<= 10", func() error {
			in := at(million)
			_, err := client.Call(ctx, w.client, api.GetSnapshot, &in)
			return err
		}))
}
