package kembrel

import (
	"encoding/json"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

func TestWhenToSave(t *testing.T) {
	r := &Run{}
	r.SaveWhen(Policy{Epochs: 2, Best: "loss.val lower", Margin: 0.1})
	s := r.saver
	told := []struct {
		epoch, loss float64
		why         string
	}{{1, 1, "best so far"}, {2, 0.95, "every 2 epochs"}, {3, 0.85, "best so far"}, {4, 0.8, "every 2 epochs"},
		{5, math.NaN(), ""}, {6, 0.5, "best so far"}, {7, 0.6, ""}, {8, 0.6, "every 2 epochs"}}
	for i, x := range told {
		s.see([]Value{V("loss.train", 0), V("loss.val", x.loss)})
		require.Equal(t, x.why, s.due(int64(10*(i+1)), x.epoch, false), "epoch %v", x.epoch)
	}
	require.Empty(t, s.due(80, 10, true), "saved at this step already")
	require.Equal(t, "about to stop", s.due(81, 9, true))

	r = &Run{resume: &Resume{Step: 100, Epoch: 5}}
	r.SaveWhen(Policy{Steps: 20, Best: "accuracy.val higher"})
	require.Empty(t, r.saver.due(119, 6, false), "counted from where it goes on")
	require.Equal(t, "every 20 steps", r.saver.due(120, 6, false))
	r.saver.see([]Value{V("accuracy.val", 0.5)})
	require.Equal(t, "best so far", r.saver.due(121, 6, false))
	r.saver.see([]Value{V("accuracy.val", 0.4)})
	require.Empty(t, r.saver.due(122, 6, false))
}

// Asked to end, a program saves once more and is told to stop.
func TestSavesWhenAskedToEnd(t *testing.T) {
	r := listen(t)
	folder := t.TempDir()
	said := make(chan map[string]any, 10)
	go func() {
		r.welcome()
		for m := r.next(); m != nil; m = r.next() {
			said <- m
			id := int(m["id"].(float64))
			if m["do"] == "begin" {
				r.say(fmt.Sprintf(`{"kind":"folder","id":%d,"checkpoint":"k","folder":%q}`, id, folder))
			} else {
				r.say(fmt.Sprintf(`{"kind":"kept","id":%d,"checkpoint":"k"}`, id))
			}
		}
	}()
	run := record(t)
	run.SaveWhen(Policy{Signal: true})
	write := func(string) (map[string][]string, error) { return map[string][]string{"weights": {"w"}}, nil }
	saved, err := run.Save(1, 1, write)
	require.NoError(t, err)
	require.False(t, saved)
	require.NoError(t, syscall.Kill(os.Getpid(), syscall.SIGTERM))
	require.Eventually(t, func() bool { _, stop := run.Stop(); return stop }, 5*time.Second, time.Millisecond)
	saved, err = run.Save(2, 1, write)
	require.NoError(t, err)
	require.True(t, saved)
	require.Equal(t, "asked to end (terminated)", (<-said)["why"])
	require.NoError(t, run.Settle())
	require.NoError(t, run.End(Stopped, ""))
}

func TestWelcomedBack(t *testing.T) {
	r := listen(t)
	go func() {
		r.conn, _ = r.listener.Accept()
		buffer := make([]byte, 4096)
		r.conn.Read(buffer)
		r.say(`{"kind":"welcome","run":"vessels/4","asked":{"lr":0.5,"layers":[1,2]},` +
			`"resume":{"from":"vessels/4@e12","step":480,"epoch":"NaN","folder":"/x",` +
			`"parts":{"weights":["a/w.safetensors"],"two":["b","c"]}}}`)
	}()
	run := record(t)
	from, ok := run.Resumed()
	require.True(t, ok)
	require.Equal(t, int64(480), from.Step)
	require.True(t, math.IsNaN(from.Epoch))
	require.Equal(t, []string{filepath.Join("/x", "a", "w.safetensors"), "", ""},
		[]string{from.File("weights"), from.File("two"), from.File("optimiser")})
	rate, layers, seed := 0.1, []int{}, 7
	require.True(t, run.Take("lr", &rate))
	require.True(t, run.Take("layers", &layers))
	require.False(t, run.Take("seed", &seed))
	require.Equal(t, []any{0.5, []int{1, 2}, 7}, []any{rate, layers, seed})
	require.False(t, run.Take("lr", &layers))
	require.ErrorContains(t, run.Err(), "asked to be 0.5")
	var resumed Resume
	require.NoError(t, json.Unmarshal([]byte(`{"from":"x/1@e3","step":5,"epoch":3}`), &resumed))
	require.Equal(t, 3.0, resumed.Epoch)
}

func TestEvaluate(t *testing.T) {
	r := listen(t)
	lines := make(chan map[string]any, 9)
	go func() {
		r.welcomeWith(`"evaluate":{"checkpoint":"vessels/4@e12","step":480,"epoch":12,"data":"hydrophone#3:test",` +
			`"split":"test","folder":"/x","parts":{"weights":["w.safetensors"]}}`)
		for {
			m := r.next()
			if m == nil {
				return
			}
			lines <- m
			if m["kind"] == "end" {
				r.say(fmt.Sprintf(`{"kind":"kept","id":%v}`, m["id"]))
			}
		}
	}()
	e, err := Evaluate(t.Context())
	require.NoError(t, err)
	require.Equal(t, []any{"vessels/4@e12", int64(480), 12.0, "hydrophone#3:test", "test", "/x/w.safetensors"},
		[]any{e.From, e.Step, e.Epoch, e.Data, e.Split, e.File("weights")})
	e.Figures(V("accuracy", 0.93))
	e.Note("as it should be")
	e.End()
	require.Equal(t, 0.93, (<-lines)["values"].(map[string]any)["accuracy"])
	require.Equal(t, "as it should be", (<-lines)["text"])
}

// Without kembrel evaluate around it an evaluation says so once, and every call may be made.
func TestEvaluateAlone(t *testing.T) {
	t.Setenv("KEMBREL_RECORDER", "")
	e, err := Evaluate(t.Context())
	require.Equal(t, ErrNoEvaluation, err)
	require.Empty(t, e.Folder)
	e.Figures(V("accuracy", 1))
	e.Note("nobody hears it")
	require.NoError(t, e.Predictions(Predictions{Keys: []string{"a"}, Value: []float64{1}}))
	e.End()
}

// A file is copied into the folder that the recorder gives, by its path below the working folder or its name.
func TestFile(t *testing.T) {
	r := listen(t)
	into := t.TempDir()
	begun := make(chan string, 9)
	go func() {
		r.welcome()
		for {
			m := r.next()
			if m == nil {
				return
			}
			switch m["do"] {
			case "begin":
				begun <- m["path"].(string)
				r.say(fmt.Sprintf(`{"kind":"folder","id":%v,"file":"k","folder":%q}`, m["id"], into))
			case "commit":
				begun <- "commit " + m["file"].(string)
				r.say(fmt.Sprintf(`{"kind":"kept","id":%v,"file":"k"}`, m["id"]))
			case "abandon":
				begun <- "abandon"
			}
		}
	}()
	run := record(t)
	elsewhere := filepath.Join(t.TempDir(), "results.txt")
	require.NoError(t, os.WriteFile(elsewhere, []byte("1 2"), 0o600))
	require.NoError(t, run.File(elsewhere, ""))
	require.Equal(t, []string{"results.txt", "commit k"}, []string{<-begun, <-begun})
	got, err := os.ReadFile(filepath.Join(into, "results.txt"))
	require.NoError(t, err)
	require.Equal(t, "1 2", string(got))
	require.NoError(t, run.File("resume_test.go", ""))
	require.Equal(t, []string{"resume_test.go", "commit k"}, []string{<-begun, <-begun})
	require.NoError(t, run.File(elsewhere, "a/b.txt"))
	require.Equal(t, []string{"a/b.txt", "commit k"}, []string{<-begun, <-begun})
	for _, odd := range []string{"nothing.txt", into} {
		require.Equal(t, true, run.File(odd, "") != nil)
		<-begun
		require.Equal(t, "abandon", <-begun)
	}
}
