package history

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/parquet-go/parquet-go"
	"github.com/stretchr/testify/require"

	"kembrel/core/curve"
)

func written(t *testing.T, format string, runs int) (string, map[string]map[string][]curve.Reading) {
	r := rand.New(rand.NewPCG(1, 2))
	names := []string{"host.cpu", "loss.train", "loss.val", "odd"}
	var out bytes.Buffer
	w, err := NewWriter(format, &out, names, runs > 1)
	require.NoError(t, err)
	want := map[string]map[string][]curve.Reading{}
	for n := range runs {
		run := ""
		if runs > 1 || format != "csv" {
			run = fmt.Sprint("vessels/", n+1)
		}
		want[run] = map[string][]curve.Reading{}
		for k, name := range names {
			var points []curve.Point
			var values []float64
			step := int64(0)
			for range 50 + r.IntN(50) {
				step += r.Int64N(3)
				p := curve.Point{Step: step, Epoch: float64(step) / 7, Time: 1790000000000 + 10*step}
				if name == "odd" {
					p.Epoch = math.NaN()
				}
				v := r.NormFloat64()
				if r.IntN(10) == 0 {
					v = []float64{math.NaN(), math.Inf(1), math.Inf(-1), math.Copysign(0, -1),
						math.SmallestNonzeroFloat64}[k]
				}
				points, values = append(points, p), append(values, v)
				want[run][name] = append(want[run][name], curve.Reading{Point: p, Value: v})
			}
			half := len(points) / 2
			require.NoError(t, w.Write(run, name, points[:half], values[:half]))
			require.NoError(t, w.Write(run, name, points[half:], values[half:]))
		}
	}
	require.NoError(t, w.Close())
	return out.String(), want
}

func requireEqual(t *testing.T, want, got map[string]map[string][]curve.Reading) {
	t.Helper()
	require.Len(t, got, len(want))
	for run, curves := range want {
		require.Len(t, got[run], len(curves))
		for name, readings := range curves {
			require.Equal(t, fmt.Sprintf("%+v", readings), fmt.Sprintf("%+v", got[run][name]), "%s %s", run, name)
		}
	}
}

// What is written reads back equal, in every format that is read.
func TestThereAndBack(t *testing.T) {
	for _, format := range []string{"csv", "csv-long", "jsonl"} {
		for _, runs := range []int{1, 3} {
			text, want := written(t, format, runs)
			f, err := Open(format, strings.NewReader(text))
			require.NoError(t, err, format)
			imported, err := f.Read()
			require.NoError(t, err, format)
			got := map[string]map[string][]curve.Reading{}
			for _, run := range imported {
				require.NoError(t, run.Batch.Check(0))
				got[run.Run] = map[string][]curve.Reading{}
				for i, c := range run.Batch.Columns {
					got[run.Run][run.Names[i]] = run.Batch.Readings(c)
				}
			}
			requireEqual(t, want, got)
		}
	}
}

func TestParquet(t *testing.T) {
	text, want := written(t, "parquet", 2)
	rows, err := parquet.Read[parquetRow](strings.NewReader(text), int64(len(text)))
	require.NoError(t, err)
	got := map[string]map[string][]curve.Reading{}
	for _, r := range rows {
		if got[r.Run] == nil {
			got[r.Run] = map[string][]curve.Reading{}
		}
		p := curve.Point{Step: r.Step, Epoch: math.NaN(), Time: r.Time}
		if r.Epoch != nil {
			p.Epoch = *r.Epoch
		}
		got[r.Run][r.Curve] = append(got[r.Run][r.Curve], curve.Reading{Point: p, Value: r.Value})
	}
	requireEqual(t, want, got)
}

func TestGuess(t *testing.T) {
	f, err := Open("csv", strings.NewReader("Epoch;loss;val_loss;Test Accuracy;lr;host name;timestamp\n1;0.5;0.6;0.7;1e-3;hydra-2;2026-03-01 12:00:00\n2;nan;;inf;1e-3;hydra-2;2026-03-01 12:00:01.5\n"))
	require.NoError(t, err)
	var got []string
	for _, c := range f.Columns {
		got = append(got, string(c.Role)+" "+c.As)
	}
	require.Equal(t, []string{"epoch ", "values loss.train", "values loss.val", "values Accuracy.test", "values lr",
		"left out ", "time "}, got)
	require.NoError(t, f.Set("lr", "rate"))
	require.NoError(t, f.Set("Test Accuracy", ""))
	require.ErrorContains(t, f.Set("what", "rate"), "it has: Epoch")
	runs, err := f.Read()
	require.NoError(t, err)
	require.Len(t, runs, 1)
	require.Equal(t, []string{"loss.train", "loss.val", "rate"}, runs[0].Names)
	require.Equal(t, curve.Point{Step: 2, Epoch: 2, Time: 1772366401500}, runs[0].Batch.Axis[1])
	require.True(t, math.IsNaN(runs[0].Batch.Columns[0].Values[1]))
	require.Len(t, runs[0].Batch.Columns[1].Values, 1, "empty is no reading")
	for name, want := range map[string]string{"val_loss": "loss.val", "train/acc": "acc.train", "loss.val": "loss.val",
		"grad_norm": "grad_norm"} {
		require.Equal(t, want, CurveName(name, false), name)
	}
}

func TestErrorsSayWhere(t *testing.T) {
	for text, want := range map[string]string{
		"":                                       "EOF",
		"step,loss\n":                            "line 1: there is no row",
		"step,loss\n1,0.5\n2,bad\n":              "no column of the file holds readings",
		"step,loss\n1,0.5,6\n":                   "line 2, column 1: wrong number of fields",
		"step,loss\n-1,0.5\n":                    `line 2, column 1: step: "-1" is not a step`,
		"step,loss\n1,\"0.5\n":                   "line 2",
		"time,loss\nyesterday,1\n":               `line 2, column 1: time: "yesterday" is not a time`,
		"run,curve,step,value\na,x/y,1,1\n":      "line 2, column 3: curve: curve name",
		"run,curve,step,value\na,loss.val,1,x\n": `value: "x" is not a number`,
		"step,val_loss,loss_val\n1,2,3\n":        "both taken for the curve loss.val",
	} {
		f, err := Open("csv", strings.NewReader(text))
		if err == nil {
			_, err = f.Read()
		}
		require.ErrorContains(t, err, want, "%q", text)
	}
	// A bad number far below the rows that are guessed from.
	f, err := Open("csv", strings.NewReader("step,loss\n"+strings.Repeat("1,0.5\n", 500)+"1,bad\n"))
	require.NoError(t, err)
	_, err = f.Read()
	var where *ReadError
	require.True(t, errors.As(err, &where))
	require.Equal(t, [2]int{502, 3}, [2]int{where.Line, where.Column})
	for text, want := range map[string]string{"[1]": "line 1: not a JSON object", "{\"a\":[1]}": `"a" is a list`,
		"{}{}": "something stands behind", "{\"step\":1}\n{": "line 2"} {
		_, err := Open("jsonl", strings.NewReader(text))
		require.ErrorContains(t, err, want, text)
	}
}

func FuzzRead(f *testing.F) {
	f.Add("csv", "step,loss\n1,0.5\n")
	f.Add("jsonl", `{"step":1,"values":{"loss.val":"NaN"}}`)
	f.Fuzz(func(t *testing.T, format, text string) {
		file, err := Open(format, strings.NewReader(text))
		if err != nil {
			return
		}
		runs, err := file.Read()
		if err != nil {
			return
		}
		for _, run := range runs {
			require.NoError(t, run.Batch.Check(0))
			for _, name := range run.Names {
				require.NoError(t, curve.CheckName(name))
			}
		}
	})
}

func TestTable(t *testing.T) {
	rows := []Row{{{"run", "vessels/1"}, {"hyper.rate", 0.1}, {"hyper.kind", "tanh"}, {"last.loss", math.NaN()}},
		{{"run", "vessels/2"}, {"hyper.kind", true}, {"hyper.layers", []any{3.0, 4.0}}}}
	out := map[string]string{}
	for _, format := range []string{"csv", "jsonl", "parquet"} {
		var b bytes.Buffer
		table := NewTable(format, &b)
		for _, r := range rows {
			table.Add(r)
		}
		require.NoError(t, table.Close())
		out[format] = b.String()
	}
	for _, format := range []string{"csv", "jsonl", "parquet"} { // the same where the columns are said before
		var b bytes.Buffer
		table := NewTable(format, &b)
		table.Declare("run", "hyper.rate", "hyper.kind", "last.loss", "hyper.layers")
		table.Fixed()
		for _, r := range rows {
			table.Add(r)
		}
		require.NoError(t, table.Close())
		require.Equal(t, out[format], b.String(), format)
	}
	require.Equal(t, "run,hyper.rate,hyper.kind,last.loss,hyper.layers\nvessels/1,0.1,tanh,NaN,\nvessels/2,,true,,\"[3,4]\"\n", out["csv"])
	require.Equal(t, `{"hyper.kind":"tanh","hyper.rate":0.1,"last.loss":"NaN","run":"vessels/1"}`,
		strings.SplitN(out["jsonl"], "\n", 2)[0])
	require.Equal(t, `{"hyper.kind":true,"hyper.layers":[3,4],"run":"vessels/2"}`,
		strings.SplitN(out["jsonl"], "\n", 3)[1])
	type back struct {
		Run    string   `parquet:"run,optional"`
		Rate   *float64 `parquet:"hyper.rate,optional"`
		Layers string   `parquet:"hyper.layers,optional"`
	}
	got, err := parquet.Read[back](strings.NewReader(out["parquet"]), int64(len(out["parquet"])))
	require.NoError(t, err)
	require.Len(t, got, 2)
	require.Equal(t, 0.1, *got[0].Rate)
	require.Nil(t, got[1].Rate)
	require.Equal(t, "[3,4]", got[1].Layers)
}

// Cells without a value, percentages, decimal commas, commas between thousands and what JSON does not know are read as
// people write them; what a column is taken for says so.
func TestOddNumbers(t *testing.T) {
	for name, c := range map[string]struct {
		format, text, why string
		want              []float64
	}{
		"absent":                {"csv", "epoch,loss.val\n1,0.5\n2,-\n3,n/a\n4,NA\n5,null\n6,0.25\n", "", []float64{0.5, 0.25}},
		"percent":               {"csv", "epoch,acc.val\n1,12%\n2,50 %\n", "percentages taken as shares", []float64{0.12, 0.5}},
		"decimal commas":        {"csv", "epoch;loss.val\n1;0,5\n2;1.234,25\n3;7\n", "with decimal commas", []float64{0.5, 1234.25, 7}},
		"quoted decimal commas": {"csv", "epoch,loss.val\n1,\"0,5\"\n2,\"0,25\"\n", "with decimal commas", []float64{0.5, 0.25}},
		"thousands":             {"csv", "epoch,loss.val\n1,\"1,234\"\n2,\"12,345.5\"\n", "with commas between thousands", []float64{1234, 12345.5}},
		"trimmed":               {"csv", " epoch , loss.val \n1, 0.5\n", "", []float64{0.5}},
		"JSON": {"jsonl", `{"epoch":1,"loss.val":NaN}` + "\n" + `{"epoch":2,"loss.val":-Infinity,"note":"a \"NaN\" told"}` + "\n", "",
			[]float64{math.NaN(), math.Inf(-1)}},
	} {
		f, err := Open(c.format, strings.NewReader(c.text))
		require.NoError(t, err, name)
		runs, err := f.Read()
		require.NoError(t, err, name)
		require.Len(t, runs, 1, name)
		i := slices.IndexFunc(f.Columns, func(c Column) bool { return c.Role == Values })
		require.Equal(t, c.why, f.Columns[i].Why, name)
		got := runs[0].Batch.Columns[0].Values
		require.Len(t, got, len(c.want), name)
		for k, v := range c.want {
			require.True(t, v == got[k] || math.IsNaN(v) && math.IsNaN(got[k]), "%s: %v", name, got)
		}
	}
	f, err := Open("csv", strings.NewReader("epoch,loss.val,remark\n1,0.5,calm\n2,0.25,-\n"))
	require.NoError(t, err)
	require.Equal(t, Skip, f.Columns[2].Role)
	require.Contains(t, f.Columns[2].Why, "calm")
	f, err = Open("csv", strings.NewReader("epoch,loss.val\n1,0.5\n"+strings.Repeat("2,0.5\n", 300)+"3,much\n"))
	require.NoError(t, err)
	_, err = f.Read()
	require.ErrorContains(t, err, "much")
}
