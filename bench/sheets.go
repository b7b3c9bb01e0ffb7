package main

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"strconv"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/sheet"
	"kembrel/core/tensor"
)

// sheetFiles are the answers of a model to n examples of k classes; the same seed gives the same.
func sheetFiles(n, k int, seed uint64) (map[string][]byte, error) {
	rng := rand.New(rand.NewPCG(seed, uint64(n)))
	var lines bytes.Buffer
	data := make([]byte, 0, 4*n*k)
	for i := range n {
		fmt.Fprintf(&lines, `{"key":"val/voyage%05d/clip-%d.npy","true":%d,"group":"voyage%05d"}`+"\n", i/8, i%8, i%k, i/8)
		z, sum := make([]float64, k), 0.0
		for c := range z {
			if z[c] = rng.NormFloat64(); c == i%k {
				z[c] += 2.5
			}
			sum += math.Exp(z[c])
		}
		for _, v := range z {
			data = binary.LittleEndian.AppendUint32(data, math.Float32bits(float32(math.Exp(v)/sum)))
		}
	}
	return map[string][]byte{sheet.ExamplesFile: lines.Bytes(), sheet.ScoresFile: npyOf(data, n, k)}, nil
}

// npyOf is an array of single precision with n rows of k numbers.
func npyOf(data []byte, n, k int) []byte {
	var npy bytes.Buffer
	if err := tensor.WriteNPY(&npy, tensor.Tensor{Info: tensor.Info{Name: "scores", Dtype: "F32",
		Shape: []int64{int64(n), int64(k)}}, Data: data}); err != nil {
		panic(err) // into memory
	}
	return npy.Bytes()
}

// addSheet hands a sheet of classes over.
func (w *world) addSheet(run api.RunInput, step int, files map[string][]byte) error {
	return w.addSheetOf(run, step, sheet.Says{Task: sheet.Classes}, files)
}

func (w *world) addSheetOf(run api.RunInput, step int, says sheet.Says, files map[string][]byte) error {
	ctx := context.Background()
	in := &api.NewSheet{RunInput: run, Key: uuid.NewString()}
	in.Body.Says, in.Body.Split, in.Body.Step, in.Body.Epoch = says, "val", int64(step), api.Float(step)
	for name, content := range files {
		f, err := client.SendFile(ctx, w.client, name, bytes.NewReader(content))
		if err != nil {
			return err
		}
		f.Part = "sheet"
		in.Body.Files = append(in.Body.Files, f)
	}
	_, err := client.Call(ctx, w.client, api.AddSheet, in)
	return err
}

// sheetRun is a run for sheets.
func (w *world) sheetRun() (api.RunInput, error) {
	project := api.ProjectInput{Project: "sheets"}
	made := &api.NewProject{}
	made.Body.Key = project.Project
	client.Call(context.Background(), w.client, api.CreateProject, made) // it may be there
	in := &api.NewRun{ProjectInput: project, Key: uuid.NewString()}
	in.Body.Started = time.Now()
	run, err := client.Call(context.Background(), w.client, api.BeginRun, in)
	if err != nil {
		return api.RunInput{}, err
	}
	return api.RunInput{ProjectInput: project, Number: run.Number}, nil
}

// sheetRows measure a sheet of 50,000 examples and 100 classes, and what fifty epochs of 10,000 and 10 take to store.
func (w *world) sheetRows() []row {
	ctx := context.Background()
	var large api.RunInput
	made := func() error {
		if large.Number > 0 {
			return nil
		}
		files, err := sheetFiles(50_000, 100, 1)
		if err == nil {
			large, err = w.sheetRun()
		}
		if err != nil {
			return err
		}
		return w.addSheet(large, 1, files)
	}
	timed := func(what, want string, do func(i int) error) row {
		n := 0
		read := func() (float64, error) {
			if err := made(); err != nil {
				return 0, err
			}
			n++
			began := time.Now()
			err := do(n)
			return float64(time.Since(began).Microseconds()) / 1000, err
		}
		return row{what: "sheet of 50000 examples, 100 classes: " + what, reference: "(itself)", unit: "ms", want: want,
			rounds: 5, theirs: read, ours: read}
	}
	taken := func() (float64, error) {
		files, err := sheetFiles(50_000, 100, 2)
		if err != nil {
			return 0, err
		}
		run, err := w.sheetRun()
		if err != nil {
			return 0, err
		}
		began := time.Now()
		err = w.addSheet(run, 1, files)
		return time.Since(began).Seconds(), err
	}
	called := uint64(0) // answers of their own each time: what is known is not stored again
	stored := func() (float64, error) {
		called++
		size := func() (n int64, err error) {
			err = w.db.Pool.QueryRow(ctx, "select coalesce(sum(stored), 0) from chunk").Scan(&n)
			return n, err
		}
		before, err := size()
		if err != nil {
			return 0, err
		}
		run, err := w.sheetRun()
		for epoch := 1; epoch <= 50 && err == nil; epoch++ {
			var files map[string][]byte
			if files, err = sheetFiles(10_000, 10, 1000*called+uint64(epoch)); err == nil {
				err = w.addSheet(run, epoch, files)
			}
		}
		if err != nil {
			return 0, err
		}
		after, err := size()
		return float64(after-before) / 1e6, err
	}
	return []row{
		{what: "sheet of 50000 examples, 100 classes: taken and assessed", reference: "(itself)", unit: "s",
			want: "(within seconds)", rounds: 1, theirs: taken, ours: taken},
		timed("its matrix", "<= 300", func(int) error {
			_, err := client.Call(ctx, w.client, api.GetSheet, &api.SheetInput{RunInput: large})
			return err
		}),
		timed("a cell's examples", "<= 200", func(i int) error {
			_, err := client.Call(ctx, w.client, api.ListExamples, &api.ExamplesInput{
				SheetInput: api.SheetInput{RunInput: large}, Limit: 60, Order: "surest",
				Where: fmt.Sprintf(`true == "7" && predicted == %q`, strconv.Itoa(i))})
			return err
		}),
		{what: "sheets of 10000 examples, 10 classes, 50 epochs, stored", reference: "(itself)", unit: "MB",
			want: "<= 25", rounds: 1, theirs: stored, ours: stored},
	}
}
