package main

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"kembrel.internal/kembrel"

	"kembrel/api"
	"kembrel/client"
	"kembrel/store/pg/db"
)

// size of the file that is saved, sent and restored, in bytes.
const size = 300 << 20

var seed uint64

// fill writes fresh noise: content that the service does not have and nothing can pack.
func fill(path string) error {
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	seed++
	var key [32]byte
	key[0], key[1] = byte(seed), byte(time.Now().UnixNano())
	_, err = io.CopyN(f, rand.NewChaCha8(key), size)
	return err
}

// copySync is the reference: the same file copied and made durable. It returns MB per second.
func (w *world) copySync() (float64, error) {
	source, err := w.source()
	if err != nil {
		return 0, err
	}
	began := time.Now()
	target := filepath.Join(w.folder, "copy")
	if out, err := exec.Command("sh", "-c", "cp "+source+" "+target+" && sync "+target).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	return size / 1e6 / time.Since(began).Seconds(), os.Remove(target)
}

// save is the program of the upload: it saves one checkpoint of what is in the file named and prints when it had
// written it, how long the checkpoint kept it, and how long it takes to write the same to a plain file.
func save(source string) {
	data, err := os.ReadFile(source)
	if err == nil {
		err = os.Remove(source)
	}
	run, _ := kembrel.Record(context.Background(), kembrel.Options{})
	begin := time.Now()
	if err == nil {
		err = os.WriteFile(source, data, 0o600)
	}
	plain := time.Since(begin).Seconds()
	os.Remove(source)
	var written time.Time
	begin = time.Now()
	if err == nil {
		err = run.Checkpoint(1, 1, "bench", func(folder string) (map[string][]string, error) {
			err := os.WriteFile(filepath.Join(folder, "weights.bin"), data, 0o600)
			written = time.Now()
			return map[string][]string{"weights": {"weights.bin"}}, err
		})
	}
	stall := time.Since(begin).Seconds()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(written.UnixNano(), stall, plain)
	run.End(kembrel.Finished, "")
}

// record saves a fresh file under a real recorder and returns the seconds that the checkpoint kept the program, those
// that writing a plain file takes it, and those from the write to the commit at the service.
func (w *world) record() (stall, plain, commit float64, err error) {
	source := filepath.Join(w.folder, "spool", "fresh")
	if err := os.MkdirAll(filepath.Dir(source), 0o700); err != nil {
		return 0, 0, 0, err
	}
	if err := fill(source); err != nil {
		return 0, 0, 0, err
	}
	return w.send(source)
}

// send is record for a file that is there.
func (w *world) send(source string) (stall, plain, commit float64, err error) {
	self, err := os.Executable()
	if err != nil {
		return 0, 0, 0, err
	}
	cmd := exec.Command(os.Getenv("KEMBREL_BINARY"), "record", "--quiet", "--project", "vessels", "--",
		self, "save", source)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return 0, 0, 0, err
	}
	var began int64
	if _, err := fmt.Sscan(string(out), &began, &stall, &plain); err != nil {
		return 0, 0, 0, fmt.Errorf("the program said %q", out)
	}
	var kept time.Time
	err = w.db.Lane(db.Jobs).QueryRow(context.Background(),
		"select kept from checkpoint order by id desc limit 1").Scan(&kept)
	return stall, plain, kept.Sub(time.Unix(0, began)).Seconds(), err
}

func (w *world) upload() row {
	return row{what: "300 MB, new content: program's commit to the service's", reference: "cp + sync", unit: "MB/s",
		want: ">= 0.60 (0.80)", more: true, rounds: 5,
		theirs: w.copySync,
		ours: func() (float64, error) {
			_, _, commit, err := w.record()
			return size / 1e6 / commit, err
		}}
}

func (w *world) stall() row {
	return row{what: "300 MB: a checkpoint keeps the training program, its own writing included",
		reference: "writing the file", unit: "s", want: "<= 1.1", rounds: 5,
		both: func() (plain, stall float64, err error) {
			stall, plain, _, err = w.record()
			return plain, stall, err
		}}
}

// python measures the Python binding: microseconds per call of readings, and a save beside writing the file.
func (w *world) python(what string) row {
	r := row{what: "Python, " + what, rounds: 3}
	var found []string
	call := func(word string) error {
		script, err := filepath.Abs("bindings/python/tests/cost.py")
		if err != nil {
			return err
		}
		cmd := exec.Command(os.Getenv("KEMBREL_BINARY"), "record", "--quiet", "--project", "vessels", "--",
			"/usr/bin/python3", script, w.folder)
		cmd.Env = append(os.Environ(), "PYTHONPATH="+filepath.Dir(filepath.Dir(script)), "PYTHONDONTWRITEBYTECODE=1")
		cmd.Stderr = os.Stderr
		out, err := cmd.Output()
		for _, line := range strings.Split(string(out), "\n") {
			if strings.HasPrefix(line, word) {
				found = strings.Fields(strings.TrimPrefix(line, word))
			}
		}
		if err == nil && len(found) == 0 {
			err = fmt.Errorf("it said %q", out)
		}
		return err
	}
	word := "readings us"
	r.reference, r.unit, r.want = "1 us", "us", "<= 20 (10) us"
	if what != "time per readings call" {
		word, r.reference, r.unit, r.want = "save ratio", "writing the file", "of the write", "<= 1.1"
	}
	r.theirs = func() (float64, error) { return 1, nil }
	r.ours = func() (float64, error) {
		if err := call(word); err != nil {
			return 0, err
		}
		return strconv.ParseFloat(found[len(found)/2], 64)
	}
	return r
}

func (w *world) restore() row {
	ctx := context.Background()
	return row{what: "300 MB restored, verified, to disk", reference: "cp + sync", unit: "MB/s", want: ">= 0.60 (0.90)",
		more: true, rounds: 5,
		theirs: w.copySync,
		ours: func() (float64, error) {
			runs, err := client.Call(ctx, w.client, api.ListRuns,
				&api.RunsInput{ProjectInput: api.ProjectInput{Project: "vessels"}, PageInput: api.PageInput{Limit: 1}})
			if err == nil && len(runs.Items) == 0 {
				if _, _, _, err = w.record(); err == nil {
					runs, err = client.Call(ctx, w.client, api.ListRuns,
						&api.RunsInput{ProjectInput: api.ProjectInput{Project: "vessels"},
							PageInput: api.PageInput{Limit: 1}})
				}
			}
			if err != nil {
				return 0, err
			}
			at := api.CheckpointInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: "vessels"},
				Number: runs.Items[0].Number}, At: "last"}
			c, err := client.Call(ctx, w.client, api.GetCheckpoint, &at)
			if err != nil {
				return 0, err
			}
			into := filepath.Join(w.folder, "restored")
			began := time.Now()
			if err := client.Restore(ctx, w.client, at, c.Files, into, false, func(int64) {}); err != nil {
				return 0, err
			}
			return size / 1e6 / time.Since(began).Seconds(), os.RemoveAll(into)
		}}
}
