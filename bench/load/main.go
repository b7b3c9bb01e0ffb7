// Command load is many training machines at once: it starts the real service on a database of its own, sends readings
// of many runs once a second as recorders do, with their signs of life, watches how long batches take, how far
// summaries are behind and how much memory the service has, and then reads everything back and compares. It needs
// KEMBREL_BINARY; make load sets it.
//
//	load --runs 1000 --curves 50 --for 2m --out bench/results.md
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/curve"
)

func main() {
	log.SetFlags(0)
	runs := flag.Int("runs", 1000, "runs that train at once")
	curves := flag.Int("curves", 50, "curves of each, a reading a second")
	length := flag.Duration("for", 2*time.Minute, "how long")
	out := flag.String("out", "", "file to append the result to")
	flag.Parse()
	text, err := load(*runs, *curves, *length)
	fmt.Print(text)
	if *out != "" && text != "" {
		f, opened := os.OpenFile(*out, os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o644)
		if opened == nil {
			f.WriteString(text)
			opened = f.Close()
		}
		err = errors.Join(err, opened)
	}
	if err != nil {
		log.Fatal(err)
	}
}

// trainer is one run under way.
type trainer struct {
	leg   api.LegInput
	acked []time.Time // when the service said that it has a step
	mutex sync.Mutex
}

type fleet struct {
	client   *client.Client
	curves   int
	trainers []*trainer
	took     durations
	lags     durations
	verdicts durations // how far they are behind
	refused  atomic.Int64
	pid      int
	memory   atomic.Int64 // most, in bytes
}

type durations struct {
	mutex sync.Mutex
	all   []time.Duration
}

func (d *durations) add(took time.Duration) {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	d.all = append(d.all, took)
}

// at is the duration that a share of all do not exceed.
func (d *durations) at(share float64) time.Duration {
	d.mutex.Lock()
	defer d.mutex.Unlock()
	if len(d.all) == 0 {
		return 0
	}
	slices.Sort(d.all)
	return d.all[min(len(d.all)-1, int(share*float64(len(d.all))))].Round(100 * time.Microsecond)
}

func value(run, curve int, step int64) float64 {
	return float64(float32(rand.New(rand.NewPCG(uint64(run), uint64(curve)<<32|uint64(step))).Float64()))
}

func load(runs, curves int, length time.Duration) (string, error) {
	folder, err := os.MkdirTemp("/var/tmp", "kembrel-load-")
	if err != nil {
		return "", err
	}
	defer os.RemoveAll(folder)
	if err := os.Chmod(folder, 0o711); err != nil {
		return "", err
	}
	f := &fleet{curves: curves}
	stop, err := f.start(folder)
	if err != nil {
		return "", err
	}
	defer stop()
	if err := f.begin(runs); err != nil {
		return "", fmt.Errorf("begin the runs: %w", err)
	}
	log.Printf("%d runs of %d curves have begun", runs, curves)
	ctx, cancel := context.WithTimeout(context.Background(), length)
	defer cancel()
	var wait sync.WaitGroup
	for i := range f.trainers {
		wait.Go(func() { f.train(ctx, i) })
		wait.Go(func() { f.live(ctx, i) })
	}
	wait.Go(func() { f.watch(ctx) })
	wait.Wait()
	log.Printf("reading it back")
	readings, differ, err := f.compare()
	text := fmt.Sprintf("\n## Load: %d runs x %d curves x 1 Hz for %s, %s, %d cores shared with the load itself, %s\n\n", runs, curves, length, time.Now().Format("2006-01-02 15:04"), runtime.NumCPU(), runtime.Version())
	text += "| what | measured | wanted |\n|---|---|---|\n"
	text += fmt.Sprintf("| readings kept and read back, of which differ | %d, %d | 0 differ |\n", readings, differ)
	text += fmt.Sprintf("| a batch: median, 99 %%, longest | %s, %s, %s | 99 %% <= 50 ms |\n", f.took.at(.5),
		f.took.at(.99), f.took.at(1))
	text += fmt.Sprintf("| summaries behind what is kept: median, 99 %%, longest | %s, %s, %s | <= 2 s |\n",
		f.lags.at(.5), f.lags.at(.99), f.lags.at(1))
	text += fmt.Sprintf("| verdicts behind the first reading of an epoch (of 10 s): median, 99 %%, longest | %s, %s, %s | |\n", f.verdicts.at(.5), f.verdicts.at(.99), f.verdicts.at(1))
	text += fmt.Sprintf("| batches refused for a moment and sent again | %d | |\n", f.refused.Load())
	text += fmt.Sprintf("| the service's memory, at most | %s | <= 300 MB |\n", api.Bytes(f.memory.Load()))
	if err == nil && differ > 0 {
		err = fmt.Errorf("%d readings are not those that were sent", differ)
	}
	return text, err
}

func port() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	defer l.Close()
	return l.Addr().String()
}

func (f *fleet) start(folder string) (stop func(), err error) {
	address := port()
	said, err := os.Create(filepath.Join(folder, "log"))
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(os.Getenv("KEMBREL_BINARY"), "start", "--data", filepath.Join(folder, "data"), "--listen",
		address, "--metrics", "")
	cmd.Env = append(os.Environ(), "KEMBREL_CREDENTIALS="+filepath.Join(folder, "credentials.json"))
	cmd.Stdout, cmd.Stderr = said, said
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	f.pid = cmd.Process.Pid
	stop = func() {
		cmd.Process.Signal(syscall.SIGINT)
		cmd.Wait()
	}
	os.Setenv("KEMBREL_CREDENTIALS", filepath.Join(folder, "credentials.json"))
	for range 600 {
		time.Sleep(100 * time.Millisecond)
		known, err := client.LoadCredential("http://" + address)
		if err != nil || known.Token == "" {
			continue
		}
		f.client = client.New("http://"+address, known.Token)
		if _, err := client.Call(context.Background(), f.client, api.GetReady, &struct{}{}); err == nil {
			return stop, nil
		}
	}
	stop()
	text, _ := os.ReadFile(said.Name())
	return nil, fmt.Errorf("the service does not start: %s", text)
}

func (f *fleet) begin(runs int) error {
	project := &api.NewProject{}
	project.Body.Key = "vessels"
	if _, err := client.Call(context.Background(), f.client, api.CreateProject, project); err != nil {
		return err
	}
	f.trainers = make([]*trainer, runs)
	group, ctx := errgroup.WithContext(context.Background())
	group.SetLimit(16)
	for i := range runs {
		group.Go(func() error {
			in := &api.NewRun{ProjectInput: api.ProjectInput{Project: "vessels"}, Key: uuid.NewString()}
			in.Body.Started = time.Now()
			run, err := client.Call(ctx, f.client, api.BeginRun, in)
			if err != nil {
				return err
			}
			open := &api.NewLeg{RunInput: api.RunInput{ProjectInput: in.ProjectInput, Number: run.Number},
				Key: uuid.NewString()}
			open.Body.Recorder, open.Body.Started = uuid.NewString(), time.Now()
			counted, err := client.Call(ctx, f.client, api.OpenLeg, open)
			if err != nil {
				return err
			}
			t := &trainer{leg: api.LegInput{RunInput: open.RunInput, Leg: counted.Leg, Recorder: open.Body.Recorder}}
			names := &api.CurveNames{LegInput: t.leg}
			for c := range f.curves {
				names.Body.Names = append(names.Body.Names, name(c))
			}
			f.trainers[i] = t
			_, err = client.Call(ctx, f.client, api.NameCurves, names)
			return err
		})
	}
	return group.Wait()
}

// name is a curve's; the first is the objective.
func name(curve int) string {
	if curve == 0 {
		return "loss.val"
	}
	return fmt.Sprintf("figure%02d.train", curve)
}

func (f *fleet) train(ctx context.Context, i int) {
	t := f.trainers[i]
	time.Sleep(rand.N(time.Second)) // they do not go in step
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for step := int64(1); ; step++ {
		in := &api.BatchInput{LegInput: t.leg, Body: api.Batch{Number: step, Upto: step}}
		b := curve.Batch{Axis: []curve.Point{{Step: step, Epoch: float64(step / 10), Time: time.Now().UnixMilli()}}}
		for c := range f.curves {
			b.Columns = append(b.Columns, curve.Column{Curve: c + 1, Values: []float64{value(i, c, step)}})
		}
		in.Body.Packed = curve.AppendJournal(nil, b)
		for {
			began := time.Now()
			_, err := client.Call(context.WithoutCancel(ctx), f.client, api.SendBatch, in)
			if err == nil {
				f.took.add(time.Since(began))
				break
			}
			f.refused.Add(1)
			if f.refused.Load() < 5 {
				log.Printf("a batch: %v", err)
			}
			select {
			case <-ctx.Done():
				return
			case <-time.After(time.Second):
			}
		}
		t.mutex.Lock()
		t.acked = append(t.acked, time.Now())
		t.mutex.Unlock()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// live shows signs of life, as often as a recorder does.
func (f *fleet) live(ctx context.Context, i int) {
	time.Sleep(rand.N(5 * time.Second))
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		if _, err := client.Call(ctx, f.client, api.ShowLife, &f.trainers[i].leg); err != nil && ctx.Err() == nil {
			f.refused.Add(1)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// watch looks at what a person sees of some run, again and again, and at the service's memory.
func (f *fleet) watch(ctx context.Context) {
	for ctx.Err() == nil {
		t := f.trainers[rand.IntN(len(f.trainers))]
		asked := time.Now()
		run, err := client.Call(ctx, f.client, api.GetRun, &t.leg.RunInput)
		if err == nil {
			shown := int64(0)
			for _, c := range run.Curves {
				if c.Name == name(0) && c.Last != nil {
					shown = c.Last.Step
				}
			}
			t.mutex.Lock()
			// step shown+1 was kept by then and is not in it
			if int(shown) < len(t.acked) && t.acked[shown].Before(asked) {
				f.lags.add(asked.Sub(t.acked[shown]))
			} else {
				f.lags.add(0)
			}
			next := 0 // the step, less 1, with which the first epoch began that the verdict has not seen
			if run.Verdict != nil {
				next = max(0, 10*run.Verdict.Places-1)
			}
			if next < len(t.acked) && t.acked[next].Before(asked) {
				f.verdicts.add(asked.Sub(t.acked[next]))
			} else {
				f.verdicts.add(0)
			}
			t.mutex.Unlock()
		}
		f.memory.Store(max(f.memory.Load(), memory(f.pid)))
		time.Sleep(50 * time.Millisecond)
	}
}

// memory is what a process has of its own in memory, in bytes.
func memory(pid int) int64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.ParseInt(strings.Fields(rest)[0], 10, 64)
			return kb << 10
		}
	}
	return 0
}

// compare reads every reading back.
func (f *fleet) compare() (readings, differ int64, err error) {
	var count, other atomic.Int64
	group, ctx := errgroup.WithContext(context.Background())
	group.SetLimit(4)
	for i, t := range f.trainers {
		group.Go(func() error {
			got, err := client.Call(ctx, f.client, api.GetCurves, &api.CurvesInput{RunInput: t.leg.RunInput})
			if err != nil {
				return err
			}
			seen := int64(0)
			for _, c := range got.Curves {
				number := -1
				for k := range f.curves {
					if name(k) == c.Name {
						number = k
					}
				}
				for k, v := range c.Value {
					step := got.Axes[c.Axis].Step[k]
					if number < 0 || step != int64(k+1) || v != value(i, number, step) {
						other.Add(1)
					}
					seen++
				}
			}
			count.Add(seen)
			if missing := int64(len(t.acked)*f.curves) - seen; missing > 0 {
				other.Add(missing)
			}
			return nil
		})
	}
	err = group.Wait()
	return count.Load(), other.Load(), err
}
