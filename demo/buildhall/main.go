// Command buildhall stands in for a system that builds and deploys: it hears from Kembrel which checkpoints were
// entered as editions, restores each, evaluates it on the test split and measures how fast it answers, and reports both
// as checks. It deploys the edition that is put in use, as a small HTTP classifier, and says so.
//
//	buildhall --model vessel-classifier --data hydrophone#2:test --folder hall
//
// What it is told it keeps on disk before it answers, so that killing it loses nothing.
package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	cehttp "github.com/cloudevents/sdk-go/v2/protocol/http"
	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// hall is what the build hall knows.
type hall struct {
	model, data, folder, kembrel, harbour, place, serves string
	secret                                               string
	lowest                                               float64 // recall that every class must have
	slowest                                              time.Duration
	log                                                  *log.Logger
	woken                                                chan struct{}
	deployed                                             *classifier // nil: nothing is
}

func main() {
	h := &hall{log: log.New(os.Stdout, "build hall: ", 0), woken: make(chan struct{}, 1)}
	listen := flag.String("listen", "127.0.0.1:7460", "where it hears of events")
	flag.StringVar(&h.serves, "classifier", "127.0.0.1:7461", "where the deployed classifier answers")
	flag.StringVar(&h.model, "model", "vessel-classifier", "model whose editions are checked and deployed")
	flag.StringVar(&h.data, "data", "hydrophone#2:test", "split that editions are evaluated on")
	flag.StringVar(&h.folder, "folder", "hall", "folder for what it was told, and for models")
	flag.StringVar(&h.kembrel, "kembrel", "kembrel", "the command kembrel")
	flag.StringVar(&h.harbour, "harbour", "harbour", "the command harbour")
	flag.StringVar(&h.place, "place", "harbour-north", "what the deployment is called")
	flag.Float64Var(&h.lowest, "lowest-recall", 0.4, "recall that every class must have")
	flag.DurationVar(&h.slowest, "slowest", 20*time.Millisecond, "median time for the answer to a clip")
	flag.Parse()
	h.secret = os.Getenv("BUILDHALL_SECRET")
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	if err := h.run(ctx, *listen); err != nil && ctx.Err() == nil {
		h.log.Fatal(err)
	}
}

func (h *hall) run(ctx context.Context, listen string) error {
	if h.secret == "" {
		return errors.New("the subscription's secret is to be in $BUILDHALL_SECRET")
	}
	for _, name := range []string{"told", "done", "models"} {
		if err := os.MkdirAll(filepath.Join(h.folder, name), 0o700); err != nil {
			return err
		}
	}
	hook, err := standardwebhooks.NewWebhook(h.secret)
	if err != nil {
		return err
	}
	server := &http.Server{Addr: listen, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { h.hear(w, r, hook) })}
	at, err := net.Listen("tcp", listen)
	if err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- server.Serve(at) }()
	h.redeploy(ctx)
	working := make(chan struct{})
	go func() { defer close(working); h.work(ctx) }()
	select {
	case err = <-ended:
	case <-ctx.Done():
		server.Close()
	}
	<-working
	h.deployed.end()
	return err
}

// hear keeps an event whose signature is good, once, and answers when it is safe.
func (h *hall) hear(w http.ResponseWriter, r *http.Request, hook *standardwebhooks.Webhook) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	if err == nil {
		err = hook.Verify(body, r.Header)
	}
	if err != nil {
		http.Error(w, "the signature does not fit: "+err.Error(), http.StatusUnauthorized)
		return
	}
	r.Body = io.NopCloser(bytes.NewReader(body))
	e, err := cehttp.NewEventFromHTTPRequest(r)
	if err == nil {
		err = e.Validate()
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	if n, err := strconv.ParseInt(e.ID(), 10, 64); err != nil || n < 1 { // it was only tried
		w.WriteHeader(http.StatusNoContent)
		return
	}
	if err := h.keep(e); err != nil {
		http.Error(w, "it cannot be kept now", http.StatusServiceUnavailable)
		return
	}
	w.WriteHeader(http.StatusAccepted)
	select {
	case h.woken <- struct{}{}:
	default:
	}
}

// keep writes an event down, unless it was before.
func (h *hall) keep(e *cloudevents.Event) error {
	name := fmt.Sprintf("%020s.json", e.ID())
	if _, err := os.Stat(filepath.Join(h.folder, "done", name)); err == nil {
		return nil
	}
	text, err := json.Marshal(e)
	if err != nil {
		return err
	}
	f, err := os.CreateTemp(h.folder, "told-*")
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		os.Remove(f.Name())
		return err
	}
	return os.Rename(f.Name(), filepath.Join(h.folder, "told", name))
}

// work does what was told, one after another, until ctx ends.
func (h *hall) work(ctx context.Context) {
	for ctx.Err() == nil {
		names, _ := filepath.Glob(filepath.Join(h.folder, "told", "*.json"))
		slices.Sort(names)
		for _, name := range names {
			err := h.one(ctx, name)
			if ctx.Err() != nil {
				return
			}
			if err != nil {
				h.log.Printf("%v", err)
			}
			if away(err) {
				break // it stays, and is done when the service is back
			}
			os.Rename(name, filepath.Join(h.folder, "done", filepath.Base(name)))
		}
		select {
		case <-ctx.Done():
		case <-h.woken:
		case <-time.After(5 * time.Second):
		}
	}
}

// told is the data of an event.
type told struct {
	Data struct {
		Edition int `json:"edition"`
	} `json:"data"`
	Edition struct {
		Model  string `json:"model"`
		Number int    `json:"number"`
	} `json:"edition"`
	Report struct {
		Check string `json:"check"`
		Use   string `json:"use"`
		Token string `json:"token"`
	} `json:"report"`
}

// one does what one event asks for.
func (h *hall) one(ctx context.Context, path string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	var e cloudevents.Event
	var t told
	if err := json.Unmarshal(text, &e); err != nil {
		return err
	}
	if err := json.Unmarshal(e.Data(), &t); err != nil {
		return err
	}
	if t.Edition.Model != h.model {
		return nil
	}
	address := fmt.Sprintf("%s#%d", t.Edition.Model, t.Edition.Number)
	switch {
	case e.Type() == "internal.kembrel.model.entered":
		return h.check(ctx, address, t)
	case e.Type() == "internal.kembrel.model.given" && strings.HasSuffix(e.Subject(), "/in-use"):
		return h.deploy(ctx, address, t)
	}
	return nil
}

// restore fetches an edition; what is here already is only verified.
func (h *hall) restore(ctx context.Context, address string) (string, error) {
	into := filepath.Join(h.folder, "models", strings.ReplaceAll(address, "#", "-"))
	if _, err := os.Stat(filepath.Join(into, "weights.safetensors")); err == nil {
		return into, nil
	}
	part := into + ".part"
	if err := os.RemoveAll(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	if _, err := output(ctx, h.kembrel, "restore", address, "--for-use", "--into", part); err != nil {
		return "", err
	}
	return into, os.Rename(part, into)
}

// check restores an edition, tries it and reports what came of it.
func (h *hall) check(ctx context.Context, address string, t told) error {
	h.log.Printf("%s was entered; restoring it", address)
	folder, err := h.restore(ctx, address)
	if away(err) {
		return err
	}
	if err != nil {
		return errors.Join(err, h.report(ctx, t.Report.Check, t.Report.Token, map[string]any{"name": "restored",
			"passed": false, "text": err.Error()}))
	}
	h.log.Printf("evaluating %s on %s", address, h.data)
	text, err := everything(ctx, h.kembrel, "evaluate", address, "--data", h.data, "--", h.harbour, "evaluate")
	if away(err) {
		return err
	}
	recalls, accuracy := figuresIn(text)
	name, lowest := "", 2.0
	for class, recall := range recalls {
		if recall < lowest {
			name, lowest = class, recall
		}
	}
	outcome := map[string]any{"name": "every class", "passed": err == nil && len(recalls) > 0 && lowest >= h.lowest}
	if err == nil && len(recalls) == 0 {
		err = errors.New("the evaluation says nothing of the classes")
	}
	if err != nil {
		outcome["text"] = err.Error()
	} else {
		outcome["figures"] = map[string]float64{"lowest recall": lowest, "accuracy": accuracy}
		outcome["text"] = fmt.Sprintf("On %s the least heard is the %s; %.2f is asked for.", h.data, name, h.lowest)
	}
	if err := h.report(ctx, t.Report.Check, t.Report.Token, outcome); err != nil {
		return err
	}
	h.log.Printf("%s: every class %s, lowest recall %.2f (%s)", address, said(outcome["passed"] == true), lowest, name)

	took, err := h.measure(ctx, folder)
	outcome = map[string]any{"name": "time for a clip", "passed": err == nil && took <= h.slowest,
		"figures": map[string]float64{"median ms": float64(took.Microseconds()) / 1000}}
	if err != nil {
		outcome["text"] = err.Error()
	}
	if err := h.report(ctx, t.Report.Check, t.Report.Token, outcome); err != nil {
		return err
	}
	h.log.Printf("%s: time for a clip %s, %.1f ms", address, said(outcome["passed"] == true),
		float64(took.Microseconds())/1000)
	return nil
}

func said(passed bool) string {
	if passed {
		return "passed"
	}
	return "FAILED"
}

// figuresIn reads recalls by class, and the accuracy, from what the evaluation prints.
func figuresIn(text string) (recalls map[string]float64, accuracy float64) {
	recalls = map[string]float64{}
	for line := range strings.Lines(text) {
		name, value, _ := cutLast(strings.TrimSpace(line))
		v, err := strconv.ParseFloat(value, 64)
		if err != nil {
			continue
		}
		if class, is := strings.CutPrefix(name, "recall "); is {
			recalls[class] = v
		} else if strings.HasPrefix(name, "accuracy.") {
			accuracy = v
		}
	}
	return recalls, accuracy
}

func cutLast(text string) (before, after string, found bool) {
	at := strings.LastIndexByte(text, ' ')
	if at < 0 {
		return text, "", false
	}
	return text[:at], text[at+1:], true
}

// report posts to an address that came with an event.
func (h *hall) report(ctx context.Context, to, token string, what map[string]any) error {
	text, err := json.Marshal(what)
	if err != nil {
		return err
	}
	for pause := time.Second; ; pause = min(2*pause, 30*time.Second) {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, to, bytes.NewReader(text))
		if err != nil {
			return err
		}
		r.Header.Set("Authorization", "Bearer "+token)
		r.Header.Set("Content-Type", "application/json")
		answer, err := http.DefaultClient.Do(r)
		if err == nil {
			answer.Body.Close()
			switch code := answer.StatusCode; {
			case code < 300 || code == http.StatusConflict: // it was reported before we were killed
				return nil
			case code < 500 && code != http.StatusTooManyRequests:
				return fmt.Errorf("reporting %v: the service answered %s", what["name"], answer.Status)
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}
