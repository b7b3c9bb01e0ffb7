package main

import (
	"archive/zip"
	"context"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"kembrel.internal/kembrel"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/tensor"
	"kembrel/store"
	"kembrel/store/pg/db"
)

// states are real training states, made once by the demo's trainer at larger size: folders of checkpoints, a folder
// each.
const states = "build/states"

// trainings are the trainings whose states are kept.
var trainings = map[string][]string{
	"momentum": {"--optimiser", "momentum"},
	"adam":     {"--optimiser", "adam", "--lr", "0.001"},
	"frozen":   {"--optimiser", "momentum", "--freeze", "2"},
}

// makeStates trains, and casts and repacks what came out, where that has not been done.
func makeStates() error {
	if _, err := os.Stat(states + "/done"); err == nil {
		return nil
	}
	os.RemoveAll(states)
	problems := make(chan error, len(trainings))
	for name, flags := range trainings {
		go func() {
			keep, err := filepath.Abs(filepath.Join(states, name))
			if err == nil {
				args := append([]string{"record", "--quiet", "--project", "vessels", "--", "build/harbour", "train",
					"--hidden", "1024,1024", "--clips", "480", "--epochs", "6", "--save-every", "1",
					"--keep", keep}, flags...)
				cmd := exec.Command(os.Getenv("KEMBREL_BINARY"), args...)
				// no service hears of it
				cmd.Env = append(os.Environ(), "KEMBREL_URL=http://127.0.0.1:1", "KEMBREL_SPOOL="+keep+".spool")
				var out []byte
				if out, err = cmd.CombinedOutput(); err != nil {
					err = fmt.Errorf("%w: %s", err, out)
				}
				os.RemoveAll(keep + ".spool")
			}
			problems <- err
		}()
	}
	for range trainings {
		if err := <-problems; err != nil {
			return err
		}
	}
	for name := range trainings {
		checkpoints, err := checkpointsOf(name)
		if err != nil {
			return err
		}
		for _, from := range checkpoints {
			if err := recast(from, name); err != nil {
				return err
			}
		}
	}
	return os.WriteFile(states+"/done", nil, 0o644)
}

// readTensors reads a file of tensors.
func readTensors(path string) ([]tensor.Tensor, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	return tensor.ReadAll(f, info.Size())
}

// recast writes a checkpoint of the trainer, which calculates in float64, as a training in fp32 would leave it; of the
// momentum training also its weights as bf16 and fp16, and all of its tensors as NPZ and in a zip that is not packed.
func recast(from, training string) error {
	write := func(kind, name string, give func(io.Writer) error) error {
		folder := filepath.Join(states, kind, filepath.Base(from))
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
		f, err := os.Create(filepath.Join(folder, name))
		if err != nil {
			return err
		}
		defer f.Close()
		return give(f)
	}
	whole := map[string][]tensor.Tensor{}
	for _, part := range []string{"weights", "optimiser"} {
		tensors, err := readTensors(filepath.Join(from, part+".safetensors"))
		if err != nil {
			return err
		}
		for i := range tensors {
			if tensors[i].Dtype == "F64" {
				tensors[i] = cast(tensors[i], "F32", 4, func(out []byte,
					v float64) {
					binary.LittleEndian.PutUint32(out, math.Float32bits(float32(v)))
				})
			}
		}
		whole[part] = tensors
		if err := write(training+"-fp32", part+".safetensors",
			func(w io.Writer) error { return tensor.WriteSafetensors(w, tensors) }); err != nil {
			return err
		}
	}
	if training != "momentum" {
		return nil
	}
	weights, err := readTensors(filepath.Join(from, "weights.safetensors"))
	if err != nil {
		return err
	}
	for kind, to := range map[string]func(float32) uint16{"BF16": bf16, "F16": fp16} {
		var out []tensor.Tensor
		for _, t := range weights {
			out = append(out, cast(t, kind, 2,
				func(out []byte, v float64) { binary.LittleEndian.PutUint16(out, to(float32(v))) }))
		}
		if err := write(strings.ToLower(kind), "weights.safetensors",
			func(w io.Writer) error { return tensor.WriteSafetensors(w, out) }); err != nil {
			return err
		}
	}
	all := slices.Clone(whole["weights"])
	for _, t := range whole["optimiser"] {
		t.Name = "optimiser." + t.Name
		all = append(all, t)
	}
	if err := write("npz", "state.npz", func(w io.Writer) error { return tensor.WriteNPZ(w, all) }); err != nil {
		return err
	}
	return write("zip", "state.zip", func(w io.Writer) error {
		z := zip.NewWriter(w)
		for _, part := range []string{"weights", "optimiser"} {
			member, err := z.CreateHeader(&zip.FileHeader{Name: part + ".safetensors", Method: zip.Store})
			if err != nil {
				return err
			}
			if err := tensor.WriteSafetensors(member, whole[part]); err != nil {
				return err
			}
		}
		return z.Close()
	})
}

// cast writes each value of an F64 tensor anew, in so many bytes.
func cast(t tensor.Tensor, dtype string, width int, put func(out []byte, v float64)) tensor.Tensor {
	values, err := t.Float64s()
	if err != nil {
		panic(err) // the trainer's tensors are F64
	}
	data := make([]byte, width*len(values))
	for i, v := range values {
		put(data[width*i:], v)
	}
	return tensor.Tensor{Info: tensor.Info{Name: t.Name, Dtype: dtype, Shape: t.Shape}, Data: data}
}

// bf16 and fp16 round to the nearest, ties to even; values of weights are neither infinite nor NaN.
func bf16(v float32) uint16 {
	b := math.Float32bits(v)
	return uint16((b + 0x7fff + b>>16&1) >> 16)
}

func fp16(v float32) uint16 {
	b := math.Float32bits(v)
	sign := uint16(b >> 16 & 0x8000)
	size := math.Abs(float64(v))
	switch {
	case size >= 65520:
		return sign | 0x7c00
	case size < math.Ldexp(1, -14):
		return sign | uint16(math.RoundToEven(math.Ldexp(size, 24)))
	}
	fraction, exponent := math.Frexp(size) // size = fraction * 2^exponent, fraction in [1/2, 1)
	m := math.RoundToEven(math.Ldexp(fraction, 11))
	if m == 2048 {
		m, exponent = 1024, exponent+1
	}
	return sign | uint16(exponent+14)<<10 | uint16(m)&0x3ff
}

// saveAll is the program that saves checkpoints of a folder, one after another, as training does.
func saveAll(set string) {
	run, _ := kembrel.Record(context.Background(), kembrel.Options{})
	checkpoints, err := checkpointsOf(set)
	for i, from := range checkpoints {
		if err != nil {
			break
		}
		err = run.Checkpoint(int64(i+1), float64(i+1), "bench", func(folder string) (map[string][]string, error) {
			parts := map[string][]string{}
			files, err := os.ReadDir(from)
			for _, f := range files {
				data, readErr := os.ReadFile(filepath.Join(from, f.Name()))
				if readErr != nil {
					return nil, readErr
				}
				part, _, _ := strings.Cut(f.Name(), ".")
				parts[part] = append(parts[part], f.Name())
				if err := os.WriteFile(filepath.Join(folder, f.Name()), data, 0o600); err != nil {
					return nil, err
				}
			}
			return parts, err
		})
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	run.End(kembrel.Finished, "")
}

func checkpointsOf(set string) ([]string, error) {
	list, err := filepath.Glob(filepath.Join(states, set, "e*"))
	slices.Sort(list)
	if err == nil && len(list) == 0 {
		err = fmt.Errorf("no states of %s", set)
	}
	return list, err
}

// saved is what saving a set of checkpoints took.
type saved struct{ seconds, bytes float64 }

// restic saves each checkpoint of a set into a repository of its own, one after another.
func (w *world) restic(set string) (out saved, err error) {
	checkpoints, err := checkpointsOf(set)
	if err != nil {
		return out, err
	}
	os.RemoveAll(w.repository())
	if err := w.runRestic("init"); err != nil {
		return out, err
	}
	began := time.Now()
	for _, c := range checkpoints {
		if err := w.runRestic("backup", c); err != nil {
			return out, err
		}
	}
	out.seconds = time.Since(began).Seconds()
	out.bytes, err = folderSize(w.repository())
	return out, err
}

func (w *world) repository() string { return filepath.Join(w.folder, "restic") }

func (w *world) runRestic(args ...string) error {
	cmd := exec.Command("restic", append([]string{"--repo", w.repository(), "--quiet", "--no-cache"}, args...)...)
	cmd.Env = append(os.Environ(), "RESTIC_PASSWORD=bench")
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("restic %s: %w: %s", args[0], err, out)
	}
	return nil
}

func folderSize(folder string) (float64, error) {
	total := 0.0
	err := filepath.Walk(folder, func(_ string, info os.FileInfo, err error) error {
		if err == nil && info.Mode().IsRegular() {
			total += float64(info.Size())
		}
		return err
	})
	return total, err
}

// forget empties the store, so that a set is new to it.
func (w *world) forget() error {
	_, err := w.db.Lane(db.Jobs).Exec(context.Background(),
		"truncate chunk; delete from checkpoint_file; delete from checkpoint")
	return err
}

// recordAll saves a set through a recorder into the service, and returns when all is committed.
func (w *world) recordAll(set string) (out saved, err error) {
	if err := w.forget(); err != nil {
		return out, err
	}
	self, err := os.Executable()
	if err != nil {
		return out, err
	}
	began := time.Now()
	if text, err := exec.Command(os.Getenv("KEMBREL_BINARY"), "record", "--quiet", "--project", "vessels", "--", self,
		"save-all", set).CombinedOutput(); err != nil {
		return out, fmt.Errorf("%w: %s", err, text)
	}
	out.seconds = time.Since(began).Seconds()
	// What the packs have of it: each chunk as stored, and the 44 bytes before it.
	err = w.db.Lane(db.Jobs).QueryRow(context.Background(),
		"select sum(stored + 44)::float8 from chunk").Scan(&out.bytes)
	return out, err
}

// storedBytes compares the bytes that a set takes; its original size is in the name.
func (w *world) storedBytes(set, name, want string) row {
	return row{what: "stored: " + name, reference: "restic", unit: "MB", want: want, rounds: 1,
		both: func() (float64, float64, error) {
			if err := makeStates(); err != nil {
				return 0, 0, err
			}
			theirs, err := w.restic(set)
			if err != nil {
				return 0, 0, err
			}
			ours, err := w.recordAll(set)
			return theirs.bytes / 1e6, ours.bytes / 1e6, err
		}}
}

// sizes measures adding up what 10,000 checkpoints of 75 chunks each hold, by run.
func (w *world) sizes() row {
	ctx := context.Background()
	made := false
	once := func() (float64, error) {
		if !made {
			made = true
			for _, text := range []string{
				"truncate chunk", "delete from checkpoint_file", "delete from checkpoint",
				`insert into project (key, title, objective, creator) select 'sizes', '', '{"curve":"loss.val","direction":"lower"}', min(id) from person`,
				`insert into run (project, number, key, creator, started) select p.id, n, gen_random_uuid(), p.creator, now() from project p, generate_series(1, 1000) n where p.key = 'sizes'`,
				`insert into chunk (digest, size, pack, at, stored, uses) select sha256(('c' || i)::bytea), 4194304, 'x', i * 4000000::bigint, 3500000, 1 from generate_series(0, 749999) i`,
				`insert into checkpoint (run, key, leg, step, epoch, saved, size) select r.id, gen_random_uuid(), 1, e, e, now(), 75 * 4194304 from run r join project p on p.id = r.project and p.key = 'sizes', generate_series(1, 10) e`,
				`insert into checkpoint_file (run, checkpoint, path, part, size, digest, chunks) select c.run, c.id, 'w', 'weights', c.size, '\x00',
					(select string_agg(sha256(('c' || (c.place * 75 + j))::bytea) || '\x00400000'::bytea, '' order by j) from generate_series(0, 74) j)
					from (select c.*, row_number() over (order by c.id) - 1 as place from checkpoint c) c`, "analyze"} {
				if _, err := w.db.Lane(db.Jobs).Exec(ctx, text); err != nil {
					return 0, err
				}
			}
		}
		p, err := w.db.ProjectByKey(ctx, "sizes")
		if err != nil {
			return 0, err
		}
		began := time.Now()
		held, err := w.db.Held(ctx, store.HeldQuery{By: "run", Project: p.ID})
		if err == nil && (len(held) != 1000 || held[0].Own != held[0].Stored) {
			err = fmt.Errorf("%d runs", len(held))
		}
		return float64(time.Since(began).Milliseconds()), err
	}
	return row{what: "sizes of 1,000 runs with 10,000 checkpoints and 750,000 chunks, added up", reference: "(itself)",
		unit: "ms", rounds: 3, theirs: once, ours: once}
}

// savedAndRestored compares how long it takes to save the checkpoints of a set, and to restore all of them.
func (w *world) savedAndRestored(set string, restored bool) row {
	what := "time to save checkpoints of " + set + ", one after another, until committed"
	if restored {
		what = "time to restore checkpoints of " + set
	}
	return row{what: what, reference: "restic", unit: "s", want: "<= 0.33", rounds: 5,
		both: func() (float64, float64, error) {
			if err := makeStates(); err != nil {
				return 0, 0, err
			}
			theirs, err := w.restic(set)
			if err != nil {
				return 0, 0, err
			}
			ours, err := w.recordAll(set)
			if err != nil || !restored {
				return theirs.seconds, ours.seconds, err
			}
			return w.restoreAll()
		}}
}

// restoreAll restores the checkpoints that were saved last, from both.
func (w *world) restoreAll() (theirs, ours float64, err error) {
	ctx := context.Background()
	into := filepath.Join(w.folder, "restored")
	defer os.RemoveAll(into)
	list := exec.Command("restic", "--repo", w.repository(), "--no-cache", "snapshots", "--json")
	list.Env = append(os.Environ(), "RESTIC_PASSWORD=bench")
	text, err := list.Output()
	if err != nil {
		return 0, 0, err
	}
	var snapshots []struct {
		ID string `json:"short_id"`
	}
	if err := json.Unmarshal(text, &snapshots); err != nil {
		return 0, 0, err
	}
	began := time.Now()
	for _, snapshot := range snapshots {
		if err := w.runRestic("restore", snapshot.ID, "--target", filepath.Join(into, "restic")); err != nil {
			return 0, 0, err
		}
		if out, err := exec.Command("sync", "--file-system", into).CombinedOutput(); err != nil {
			return 0, 0, fmt.Errorf("%w: %s", err, out)
		}
	}
	theirs = time.Since(began).Seconds()
	runs, err := client.Call(ctx, w.client, api.ListRuns,
		&api.RunsInput{ProjectInput: api.ProjectInput{Project: "vessels"}, PageInput: api.PageInput{Limit: 1}})
	if err != nil {
		return 0, 0, err
	}
	in := api.RunInput{ProjectInput: api.ProjectInput{Project: "vessels"}, Number: runs.Items[0].Number}
	began = time.Now()
	held, err := client.Call(ctx, w.client, api.ListCheckpoints, &in)
	if err != nil {
		return 0, 0, err
	}
	for _, c := range held.Items {
		at := api.CheckpointInput{RunInput: in, At: fmt.Sprintf("s%d", c.Step)}
		whole, err := client.Call(ctx, w.client, api.GetCheckpoint, &at)
		if err != nil {
			return 0, 0, err
		}
		if err := client.Restore(ctx, w.client, at, whole.Files, filepath.Join(into, fmt.Sprint(c.Step)), false,
			func(int64) {}); err != nil {
			return 0, 0, err
		}
	}
	if len(held.Items) != len(snapshots) {
		return 0, 0, fmt.Errorf("%d checkpoints against %d", len(held.Items), len(snapshots))
	}
	return theirs, time.Since(began).Seconds(), nil
}
