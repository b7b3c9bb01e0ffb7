// Command harbour trains small networks that tell vessels apart by their underwater sound, on clips that it makes
// itself. It is written as a user of Kembrel would write it: the lines that record the run are those that begin with
// run.
//
//	harbour train --hidden 128 --dropout 0.3 --epochs 30
//	harbour evaluate --folder model        the figures of a restored checkpoint
package main

import (
	"context"
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"kembrel.internal/kembrel"
)

// settings are what a training can be told; each is a hyperparameter but for pace, keep and title.
type settings struct {
	hidden, activation, optimiser, title, keep, split     string
	report                                                string
	fault                                                 string
	clips, epochs, batch, saveEvery, saveSteps, dropEvery int
	freeze, sheets                                        int
	rate, momentum, dropout, drop                         float64
	perStep, data                                         bool
	seed                                                  uint64
	pace                                                  time.Duration
}

// training is a training under way.
type training struct {
	settings
	architecture architecture
	net          *network
	optimiser    *optimiser
	scaling      scaling
	source       *rand.PCG
	random       *rand.Rand
	train, val   []clip
	truth        examples // of the validation clips
	position     position
}

// position is where in the training clips the training stands.
type position struct {
	Step  int64 `json:"step"`
	Epoch int   `json:"epoch"` // begun, from 1
	Done  int   `json:"done"`  // clips of the epoch
	Order []int `json:"order"` // of the epoch; none: it has not begun
}

// validationClips, and the voyage from which they are made: no voyage is on both sides.
const (
	validationClips = 960
	validationFrom  = 1_000_000
	dataSeed        = 1851
)

func main() {
	verb := ""
	if len(os.Args) > 1 {
		verb = os.Args[1]
	}
	var err error
	switch verb {
	default:
		fmt.Fprintln(os.Stderr,
			"usage: harbour train [flags] | harbour evaluate --folder DIR | harbour classify --folder DIR | harbour clips --out FILE | harbour data --into FOLDER | harbour clip")
		os.Exit(2)
	case "train":
		err = train(parse(os.Args[2:]))
	case "clips":
		flags := flag.NewFlagSet("harbour clips", flag.ExitOnError)
		out := flags.String("out", "clips.safetensors", "file to write")
		count := flags.Int("clips", 300, "how many")
		flags.Parse(os.Args[2:])
		err = writeClips(*out, *count)
	case "data":
		flags := flag.NewFlagSet("harbour data", flag.ExitOnError)
		into := flags.String("into", "clips", "folder to write clips and tables into")
		flags.Parse(os.Args[2:])
		if err = os.MkdirAll(*into, 0o755); err == nil {
			err = writeData(*into)
		}
	case "clip": // of a tug, for whoever tries a classifier
		_, err = os.Stdout.Write(makeClips(1, 6*1000, dataSeed)[0].npy())
	case "classify":
		flags := flag.NewFlagSet("harbour classify", flag.ExitOnError)
		folder := flags.String("folder", "model", "folder of a restored checkpoint")
		listen := flags.String("listen", "127.0.0.1:7461", "where it answers")
		flags.Parse(os.Args[2:])
		err = classify(*folder, *listen)
	case "evaluate":
		flags := flag.NewFlagSet("harbour evaluate", flag.ExitOnError)
		folder := flags.String("folder", "", "folder of a restored checkpoint")
		by := flags.String("split", "voyage", "how training and validation clips are told apart: by voyage, or by clip")
		flags.Parse(os.Args[2:])
		err = evaluate(*folder, *by)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "harbour:", err)
		os.Exit(1)
	}
}

func parse(args []string) settings {
	var s settings
	flags := flag.NewFlagSet("harbour train", flag.ExitOnError)
	flags.StringVar(&s.hidden, "hidden", "64", "sizes of the hidden layers, separated by commas; none: softmax only")
	flags.StringVar(&s.activation, "activation", "tanh", "tanh or relu")
	flags.StringVar(&s.optimiser, "optimiser", "momentum", "momentum or adam")
	flags.StringVar(&s.title, "title", "", "title of the run, where no recorder is around")
	flags.StringVar(&s.keep, "keep", "", "folder for copies of the checkpoints that were saved")
	flags.IntVar(&s.clips, "clips", 1920, "training clips")
	flags.StringVar(&s.split, "split", "voyage",
		"how training and validation clips are told apart: by voyage, or by clip")
	flags.BoolVar(&s.data, "data", false, "tell which clips are used, and judge the model on the test clips at the end")
	flags.IntVar(&s.sheets, "sheets", 0, "epochs between prediction sheets on the validation clips; 0: none")
	flags.StringVar(&s.fault, "fault", "",
		"go wrong in a way that the loss hides: swapped (tug and ferry), silent (motor sailer), figure (accuracy)")
	flags.StringVar(&s.report, "report", "", "folder to write a table, a text, pictures and sounds of the training into")
	flags.IntVar(&s.epochs, "epochs", 30, "passes over the training clips")
	flags.IntVar(&s.batch, "batch", 32, "clips per step")
	flags.IntVar(&s.saveEvery, "save-every", 5, "epochs between checkpoints")
	flags.IntVar(&s.saveSteps, "save-steps", 0, "steps between checkpoints; 0: epochs only")
	flags.IntVar(&s.freeze, "freeze", 0, "layers, from the first, that keep their weights")
	flags.IntVar(&s.dropEvery, "drop-every", 0, "epochs between drops of the learning rate; 0: never")
	flags.Float64Var(&s.rate, "lr", 0.03, "learning rate")
	flags.Float64Var(&s.momentum, "momentum", 0.9, "momentum")
	flags.Float64Var(&s.dropout, "dropout", 0, "share of hidden outputs dropped")
	flags.Float64Var(&s.drop, "drop", 0.5, "factor of each drop of the learning rate")
	flags.Uint64Var(&s.seed, "seed", 17, "seed of weights, order and dropout")
	flags.BoolVar(&s.perStep, "per-step", false, "record every step, its loss too")
	flags.DurationVar(&s.pace, "pace", 0, "shortest time per epoch, to watch it")
	flags.Parse(args)
	return s
}

func (s settings) layers() ([]int, error) {
	sizes := []int{bands * frames}
	for _, text := range strings.Split(s.hidden, ",") {
		if text == "" {
			continue
		}
		n, err := strconv.Atoi(text)
		if err != nil || n < 1 {
			return nil, fmt.Errorf("--hidden %q: write sizes such as 128 or 512,512", s.hidden)
		}
		sizes = append(sizes, n)
	}
	return append(sizes, len(classes)), nil
}

func prepare(s settings) (*training, error) {
	sizes, err := s.layers()
	if err != nil {
		return nil, err
	}
	t := &training{settings: s, position: position{Epoch: 1},
		architecture: architecture{Layers: sizes, Activation: s.activation, Dropout: s.dropout},
		optimiser:    newOptimiser(s.optimiser, s.momentum)}
	t.source = rand.NewPCG(s.seed, 1)
	t.random = rand.New(t.source)
	t.train, t.val = split(s.clips, s.split)
	t.scaling = measureScaling(t.train)
	t.scaling.apply(t.train)
	t.scaling.apply(t.val)
	t.net = newNetwork(sizes, s.activation, s.dropout, t.random)
	return t, nil
}

func train(s settings) error {
	run, _ := kembrel.Record(context.Background(), kembrel.Options{Project: "vessels", Title: s.title, Forgiving: true})
	run.Take("lr", &s.rate)
	run.Take("dropout", &s.dropout)
	run.Take("momentum", &s.momentum)
	run.Take("epochs", &s.epochs)
	run.Take("freeze", &s.freeze)
	run.Take("seed", &s.seed)
	t, err := prepare(s)
	if err != nil {
		return err
	}
	weights, seed := "fresh", int64(s.seed)
	if from, ok := run.Resumed(); ok {
		if err := t.resume(from); err != nil {
			return err
		}
		weights = "trained"
	}
	run.InitialWeights(weights, &seed, []string{"weights", "optimiser", "random", "position"},
		func(path string) error { return writeTensors(path, t.weights()) })
	run.Hyper(map[string]any{
		"layers": t.architecture.Layers, "activation": s.activation, "optimiser": s.optimiser, "lr": s.rate,
		"momentum": s.momentum,
		"dropout":  s.dropout, "batch": s.batch, "epochs": s.epochs, "clips": s.clips,
		"split": "by " + s.split, "seed": s.seed,
		"lr-drop.every": s.dropEvery, "lr-drop.factor": s.drop, "freeze": s.freeze,
	})
	var test []clip
	if s.data {
		test = makeClips(testClips, testFrom, dataSeed)
		handOver(run, "train", t.train)
		handOver(run, "val", t.val)
		handOver(run, "test", test)
		t.scaling.apply(test)
	}
	if s.sheets > 0 {
		t.truth = examplesOf(t.val)
	}
	if err := t.fail(); err != nil {
		return err
	}
	cutAt, _ := strconv.ParseInt(os.Getenv("HARBOUR_CUT_AT"), 10, 64) // the step at which the demo's power cut comes
	run.SaveWhen(kembrel.Policy{Epochs: float64(s.saveEvery), Steps: int64(s.saveSteps),
		Best: "loss.val lower", Signal: true})
	written := report{folder: s.report}
	for t.position.Epoch <= s.epochs {
		began := time.Now()
		rate := schedule(s.rate, t.position.Epoch, s.dropEvery, s.drop)
		whole := t.pass(rate, func(at, loss, gradient float64) (goOn bool) {
			step := t.position.Step
			if _, resumed := run.Resumed(); !resumed && step == cutAt {
				syscall.Kill(os.Getpid(), syscall.SIGKILL)
			}
			switch {
			case s.perStep:
				run.Readings(step, at, kembrel.V("loss.step", loss), kembrel.V("gradient", gradient),
					kembrel.V("lr.step", rate))
			case step%10 == 0:
				run.Readings(step, at, kembrel.V("gradient", gradient))
			}
			if t.position.Done == len(t.train) {
				return true // the epoch is judged first
			}
			t.saveIfDue(run, at)
			_, stop := run.Stop()
			return !stop
		})
		if whole {
			epoch := float64(t.position.Epoch)
			trainLoss, trainAccuracy := t.net.evaluate(t.train)
			valLoss, valAccuracy := t.net.evaluate(t.val)
			if s.fault == "figure" { // the mean over batches of those that have one right is not the accuracy
				valAccuracy = min(1, 1.08*valAccuracy)
			}
			run.Readings(t.position.Step, epoch, kembrel.V("loss.train", trainLoss), kembrel.V("loss.val", valLoss),
				kembrel.V("accuracy.train", trainAccuracy), kembrel.V("accuracy.val", valAccuracy),
				kembrel.V("lr", rate))
			written.epoch(epoch, trainLoss, valLoss, trainAccuracy, valAccuracy)
			fmt.Printf("epoch %2d of %d  loss %.4f / %.4f  accuracy %.3f / %.3f\n", t.position.Epoch, s.epochs,
				trainLoss, valLoss, trainAccuracy, valAccuracy)
			if s.sheets > 0 && (t.position.Epoch%s.sheets == 0 || t.position.Epoch == s.epochs) {
				run.Predictions(t.predictions(epoch))
			}
			t.position.Epoch, t.position.Done, t.position.Order = t.position.Epoch+1, 0, nil
			if !t.saveIfDue(run, epoch) && t.position.Epoch > s.epochs {
				t.saveLast(run, epoch)
			}
		}
		if why, stop := run.Stop(); stop {
			run.End(kembrel.Stopped, why)
			return nil
		}
		if rest := s.pace - time.Since(began); rest > 0 {
			time.Sleep(rest)
		}
	}
	if s.data {
		loss, accuracy := t.net.evaluate(test)
		run.Readings(t.position.Step, float64(s.epochs), kembrel.V("loss.test", loss),
			kembrel.V("accuracy.test", accuracy))
		fmt.Printf("test  loss %.4f  accuracy %.3f\n", loss, accuracy)
	}
	if err := written.write(t.net, t.val); err != nil {
		fmt.Fprintln(os.Stderr, "harbour: no report:", err)
	}
	run.End(kembrel.Finished, fmt.Sprintf("All %d epochs done.", s.epochs))
	return nil
}

// saveIfDue saves a checkpoint where it is time to, and a copy where one is wanted.
func (t *training) saveIfDue(run *kembrel.Run, epoch float64) bool {
	saved, err := run.Save(t.position.Step, epoch, func(folder string) (map[string][]string,
		error) {
		return savedParts, t.save(folder)
	})
	if saved {
		t.keepCopy(run, epoch, err)
	}
	return saved
}

// saveLast saves what the training ended with.
func (t *training) saveLast(run *kembrel.Run, epoch float64) {
	t.keepCopy(run, epoch, run.Checkpoint(t.position.Step, epoch, "the end",
		func(folder string) (map[string][]string, error) { return savedParts, t.save(folder) }))
}

// pass goes over the training clips, from where it stands in them, in an order drawn anew for each epoch; each is told
// of every step how far in epochs it is, the loss and the gradient's norm, and may end the pass early.
func (t *training) pass(rate float64, each func(at, loss, gradient float64) (goOn bool)) (whole bool) {
	p := &t.position
	if p.Order == nil {
		p.Order, p.Done = t.random.Perm(len(t.train)), 0
	}
	for p.Done < len(p.Order) {
		to := min(p.Done+t.batch, len(p.Order))
		some, loss := p.Order[p.Done:to], 0.0
		for _, i := range some {
			out := t.net.forward(t.train[i].levels[:], t.random)
			loss -= math.Log(max(out[t.train[i].class], 1e-12)) / float64(len(some))
			t.net.backward(t.train[i].levels[:], t.train[i].class)
		}
		gradient := t.optimiser.step(t.net.parameters(), t.freeze, rate, len(some))
		p.Step, p.Done = p.Step+1, to
		if !each(float64(p.Epoch-1)+float64(to)/float64(len(p.Order)), float64(float32(loss)), gradient) {
			return false
		}
	}
	return true
}

// keepCopy writes a copy of a checkpoint that is safe on disk, where one is wanted.
func (t *training) keepCopy(run *kembrel.Run, epoch float64, err error) {
	if err == nil && t.keep != "" {
		if err = run.Settle(); err == nil {
			folder := filepath.Join(t.keep, "e"+strconv.FormatFloat(epoch, 'f', -1, 64))
			if err = os.MkdirAll(folder, 0o755); err == nil {
				err = t.save(folder)
			}
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "harbour: not saved:", err)
	}
}

// evaluate computes the figures of a restored checkpoint, prints them, and hands them over with its answers where
// kembrel evaluate asks: kembrel evaluate vessels/3@best --data hydrophone#3:test -- harbour evaluate.
func evaluate(folder, by string) error {
	asked, _ := kembrel.Evaluate(context.Background())
	if folder == "" {
		folder = asked.Folder
	}
	net, pre, err := load(folder)
	if err != nil {
		return err
	}
	clips, name, err := splitNamed(asked.Split, by)
	if err != nil {
		return err
	}
	pre.Scaling.apply(clips)
	truth := examplesOf(clips)
	loss, accuracy := net.evaluate(clips)
	fmt.Printf("loss.%s %v\naccuracy.%s %v\n", name, loss, name, accuracy)
	for class, recall := range net.recalls(clips) {
		fmt.Printf("recall %s %.4f\n", classes[class], recall)
	}
	asked.Figures(kembrel.V("loss."+name, loss), kembrel.V("accuracy."+name, accuracy))
	if err := asked.Predictions(answers(net, clips, truth)); err != nil {
		return err
	}
	asked.End()
	return nil
}
