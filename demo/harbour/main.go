// Command harbour trains small networks that tell vessels apart by their underwater sound, on clips that it makes itself. It is
// written as a user of Kembrel would write it: the lines that record the run are those that begin with run.
//
//	harbour train --hidden 128 --dropout 0.3 --epochs 30
//	harbour evaluate --folder model        the figures of a restored checkpoint
package main

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	kembrel "kembrel/bindings/go"
)

// settings are what a training can be told; each is a hyperparameter but for pace, keep and title.
type settings struct {
	hidden, activation, optimiser, title, keep string
	clips, epochs, batch, saveEvery, dropEvery int
	rate, momentum, dropout, drop              float64
	perStep                                    bool
	seed                                       uint64
	pace                                       time.Duration
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
}

// validationClips, and the voyage from which they are made: no voyage is on both sides.
const (
	validationClips = 960
	validationFrom  = 1_000_000
	dataSeed        = 1851
)

func main() {
	if len(os.Args) < 2 || os.Args[1] != "train" && os.Args[1] != "evaluate" {
		fmt.Fprintln(os.Stderr, "usage: harbour train [flags] | harbour evaluate --folder DIR")
		os.Exit(2)
	}
	var err error
	if os.Args[1] == "train" {
		err = train(parse(os.Args[2:]))
	} else {
		flags := flag.NewFlagSet("harbour evaluate", flag.ExitOnError)
		folder := flags.String("folder", "", "folder of a restored checkpoint")
		flags.Parse(os.Args[2:])
		err = evaluate(*folder)
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
	flags.IntVar(&s.epochs, "epochs", 30, "passes over the training clips")
	flags.IntVar(&s.batch, "batch", 32, "clips per step")
	flags.IntVar(&s.saveEvery, "save-every", 5, "epochs between checkpoints")
	flags.IntVar(&s.dropEvery, "drop-every", 0, "epochs between drops of the learning rate; 0: never")
	flags.Float64Var(&s.rate, "lr", 0.03, "learning rate")
	flags.Float64Var(&s.momentum, "momentum", 0.9, "momentum")
	flags.Float64Var(&s.dropout, "dropout", 0, "share of hidden outputs dropped")
	flags.Float64Var(&s.drop, "drop", 0.5, "factor of each drop of the learning rate")
	flags.Uint64Var(&s.seed, "seed", 17, "seed of weights, order and dropout")
	flags.BoolVar(&s.perStep, "per-step", false, "record every step, its loss too")
	flags.DurationVar(&s.pace, "pace", 0, "least time per epoch, to watch it")
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
	t := &training{settings: s, architecture: architecture{sizes, s.activation, s.dropout}, optimiser: newOptimiser(s.optimiser, s.momentum)}
	t.source = rand.NewPCG(s.seed, 1)
	t.random = rand.New(t.source)
	t.train, t.val = makeClips(s.clips, 0, dataSeed), makeClips(validationClips, validationFrom, dataSeed)
	t.scaling = measureScaling(t.train)
	t.scaling.apply(t.train)
	t.scaling.apply(t.val)
	t.net = newNetwork(sizes, s.activation, s.dropout, t.random)
	return t, nil
}

func train(s settings) error {
	t, err := prepare(s)
	if err != nil {
		return err
	}
	run := kembrel.Hello(kembrel.Options{Project: "vessels", Title: s.title, Hyper: map[string]any{
		"layers": t.architecture.Layers, "activation": s.activation, "optimiser": s.optimiser, "lr": s.rate, "momentum": s.momentum,
		"dropout": s.dropout, "batch": s.batch, "epochs": s.epochs, "clips": s.clips, "split": "by voyage", "seed": s.seed,
		"lr-drop.every": s.dropEvery, "lr-drop.factor": s.drop,
	}})
	step, best := int64(0), math.Inf(1)
	for epoch := 1; epoch <= s.epochs; epoch++ {
		began := time.Now()
		rate := schedule(s.rate, epoch, s.dropEvery, s.drop)
		t.pass(rate, func(done, loss, gradient float64) {
			step++
			switch at := float64(epoch-1) + done; {
			case s.perStep:
				run.Readings(step, at, kembrel.V("loss.step", loss), kembrel.V("gradient", gradient), kembrel.V("lr.step", rate))
			case step%10 == 0:
				run.Readings(step, at, kembrel.V("gradient", gradient))
			}
		})
		trainLoss, trainAccuracy := t.net.evaluate(t.train)
		valLoss, valAccuracy := t.net.evaluate(t.val)
		run.Readings(step, float64(epoch), kembrel.V("loss.train", trainLoss), kembrel.V("loss.val", valLoss),
			kembrel.V("accuracy.train", trainAccuracy), kembrel.V("accuracy.val", valAccuracy), kembrel.V("lr", rate))
		fmt.Printf("epoch %2d of %d  loss %.4f / %.4f  accuracy %.3f / %.3f\n", epoch, s.epochs, trainLoss, valLoss, trainAccuracy, valAccuracy)
		why := ""
		if valLoss < best {
			best, why = valLoss, "best so far"
		} else if epoch%s.saveEvery == 0 || epoch == s.epochs {
			why = fmt.Sprintf("every %d epochs", s.saveEvery)
		}
		if why != "" {
			if err := run.Checkpoint(step, float64(epoch), why, func(folder string) (map[string][]string, error) {
				return saved, t.save(folder)
			}); err != nil {
				fmt.Fprintln(os.Stderr, "harbour: not saved:", err)
			} else if err := t.keepCopy(epoch); err != nil {
				return err
			}
		}
		if why, stop := run.Stop(); stop {
			run.End("stopped", why)
			return nil
		}
		if rest := s.pace - time.Since(began); rest > 0 {
			time.Sleep(rest)
		}
	}
	run.End("finished", fmt.Sprintf("All %d epochs done.", s.epochs))
	return nil
}

// pass goes once over the training clips in a new order; each is told of every step how much of the epoch is done,
// the loss and the gradient's norm.
func (t *training) pass(rate float64, each func(done, loss, gradient float64)) {
	order := t.random.Perm(len(t.train))
	for from := 0; from < len(order); from += t.batch {
		to := min(from+t.batch, len(order))
		some, loss := order[from:to], 0.0
		for _, i := range some {
			p := t.net.forward(t.train[i].levels[:], t.random)
			loss -= math.Log(max(p[t.train[i].class], 1e-12)) / float64(len(some))
			t.net.backward(t.train[i].levels[:], t.train[i].class)
		}
		each(float64(to)/float64(len(order)), float64(float32(loss)), t.optimiser.step(t.net.parameters(), rate, len(some)))
	}
}

// keepCopy writes a copy of a checkpoint that was saved, where one is wanted.
func (t *training) keepCopy(epoch int) error {
	if t.keep == "" {
		return nil
	}
	folder := filepath.Join(t.keep, fmt.Sprintf("e%d", epoch))
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	return t.save(folder)
}

// evaluate prints the figures of a restored checkpoint on the validation clips.
func evaluate(folder string) error {
	net, pre, err := load(folder)
	if err != nil {
		return err
	}
	val := makeClips(validationClips, validationFrom, dataSeed)
	pre.Scaling.apply(val)
	loss, accuracy := net.evaluate(val)
	fmt.Printf("loss.val %v\naccuracy.val %v\n", loss, accuracy)
	return nil
}
