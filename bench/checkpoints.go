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

	kembrel "kembrel/bindings/go"

	"kembrel/api"
	"kembrel/client"
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
	source := filepath.Join(w.folder, "source")
	if _, err := os.Stat(source); err != nil {
		if err := fill(source); err != nil {
			return 0, err
		}
	}
	began := time.Now()
	target := filepath.Join(w.folder, "copy")
	if out, err := exec.Command("sh", "-c", "cp "+source+" "+target+" && sync "+target).CombinedOutput(); err != nil {
		return 0, fmt.Errorf("%w: %s", err, out)
	}
	return size / 1e6 / time.Since(began).Seconds(), os.Remove(target)
}

// save is the program of the upload: it saves one checkpoint of the file named and prints how long it stood still, and when.
func save(source string) {
	run := kembrel.Hello(kembrel.Options{})
	var began time.Time
	err := run.Checkpoint(1, 1, "bench", func(folder string) (map[string][]string, error) {
		if err := os.Rename(source, filepath.Join(folder, "weights.bin")); err != nil {
			return nil, err
		}
		began = time.Now()
		return map[string][]string{"weights": {"weights.bin"}}, nil
	})
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	fmt.Println(began.UnixNano(), time.Since(began).Seconds())
	run.End("finished", "")
}

// record saves a fresh file under a real recorder and returns the seconds that the program stood still behind its own write, and
// those from then to the commit at the service.
func (w *world) record() (stall, commit float64, err error) {
	source := filepath.Join(w.folder, "spool", "fresh")
	if err := os.MkdirAll(filepath.Dir(source), 0o700); err != nil {
		return 0, 0, err
	}
	if err := fill(source); err != nil {
		return 0, 0, err
	}
	self, err := os.Executable()
	if err != nil {
		return 0, 0, err
	}
	cmd := exec.Command(os.Getenv("KEMBREL_BINARY"), "record", "--quiet", "--project", "vessels", "--", self, "save", source)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	if err != nil {
		return 0, 0, err
	}
	text, seconds, _ := strings.Cut(strings.TrimSpace(string(out)), " ")
	began, err1 := strconv.ParseInt(text, 10, 64)
	stall, err2 := strconv.ParseFloat(seconds, 64)
	if err1 != nil || err2 != nil {
		return 0, 0, fmt.Errorf("the program said %q", out)
	}
	var kept time.Time
	err = w.db.Pool.QueryRow(context.Background(), "select kept from checkpoint order by id desc limit 1").Scan(&kept)
	return stall, kept.Sub(time.Unix(0, began)).Seconds(), err
}

func (w *world) upload() row {
	return row{what: "300 MB, new content: program's commit to the service's", reference: "cp + sync", unit: "MB/s", want: ">= 0.60 (0.80)", more: true, rounds: 5,
		theirs: w.copySync,
		ours: func() (float64, error) {
			_, commit, err := w.record()
			return size / 1e6 / commit, err
		}}
}

func (w *world) stall() row {
	return row{what: "300 MB: the program stands still, until it is safe in the spool", reference: "cp + sync", unit: "s", want: "(<= 1.1 of the write)", rounds: 3,
		theirs: func() (float64, error) { speed, err := w.copySync(); return size / 1e6 / speed, err },
		ours:   func() (float64, error) { stall, _, err := w.record(); return stall, err }}
}

func (w *world) restore() row {
	ctx := context.Background()
	return row{what: "300 MB restored, verified, to disk", reference: "cp + sync", unit: "MB/s", want: ">= 0.60 (0.90)", more: true, rounds: 5,
		theirs: w.copySync,
		ours: func() (float64, error) {
			runs, err := client.Call(ctx, w.client, api.ListRuns, &api.RunsInput{ProjectInput: api.ProjectInput{Project: "vessels"}, PageInput: api.PageInput{Limit: 1}})
			if err != nil {
				return 0, err
			}
			at := api.CheckpointInput{RunInput: api.RunInput{ProjectInput: api.ProjectInput{Project: "vessels"}, Number: runs.Items[0].Number}, At: "last"}
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
