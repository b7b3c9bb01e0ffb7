package recorder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"net"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/plain"
	"kembrel/core/space"
	"kembrel/recorder/spool"
)

// Options say what to record and where to send it.
type Options struct {
	Service  string
	Project  string
	Title    string
	Hyper    map[string]json.RawMessage
	Roots    []string      // where spools may be: its own folder, then where one is made if that takes none
	Wait     time.Duration // how long to wait, at the end, for a service that takes nothing
	Quiet    bool
	Content  bool                                // cut files without tensors by their content
	Stop     *api.StopRule                       // the run's own stop rule
	Enforce  bool                                // end a program that goes on although its stop rule says stop
	Grace    time.Duration                       // how long it may take to end by itself, and again after SIGTERM
	Progress bool                                // SendLeftover says now and then how far it is
	Force    bool                                // SendLeftover sends even while the program lives
	Into     string                              // SendLeftover: project of runs not begun yet; "": their own
	Connect  func(service string) *client.Client // with the credentials of the moment
	Out      io.Writer
	Err      io.Writer

	Data []api.DataUse // what the run uses, as whoever starts it says
	Keep []string      // patterns of files that the program writes, to be kept at its end

	space.Place
	Begin  *Beginning // how the leg begins; nil: a new run, afresh
	Chosen []string   // environment variables to record beside the usual ones
	Output string     // how readings are found in the program's output: "" not at all, printed.Auto, or a pattern

	// asked hyperparameters that stand in the command: the program is given them there
	Substituted map[string]json.RawMessage

	rules   api.LegNews // as Check found them
	unheard bool        // where the program cannot be listened to, the rest is recorded all the same
}

// recording is a leg being recorded.
type recording struct {
	options Options
	spool   *spool.Spool
	session *session
	sender  *sender
	over    atomic.Bool // nothing more comes from the program
	socket  net.Listener
	conns   sync.WaitGroup
	sending chan error
	cancel  context.CancelFunc
	machine *machine
	unplug  context.CancelFunc // ends the machine's readings
	program atomic.Int32       // process id
	ended   time.Time          // of the program
	tail    string             // the last lines that it printed
	asked   atomic.Value       // string: the signal that asked the program to end
	printed *printedReader     // nil: its output is not read
	voice   *voice
}

func newRecording(o Options, s *spool.Spool) *recording {
	return &recording{options: o, spool: s, sending: make(chan error, 1), voice: newVoice(o.Err)}
}

// Check asks before the program starts whether the service would take the run, and learns its stop rule. What is wrong
// is no reason not to start: everything waits in the spool until it is put right.
func Check(ctx context.Context, o *Options) error {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	if api.CheckProjectKey(o.Project) != nil {
		return noProject(o.Project)
	}
	c, in := o.Connect(o.Service), &api.ProjectInput{Project: o.Project}
	project, err := client.Call(ctx, c, api.GetProject, in)
	if api.Is(err, api.NotFound) {
		return api.Fail(api.NotFound, "there is no project %q at %s; create it with: kembrel projects create %s",
			o.Project, o.Service, o.Project)
	}
	if err != nil {
		return err
	}
	rule, err := client.Call(ctx, c, api.GetStopRule, in)
	if err != nil {
		return err
	}
	o.rules = api.LegNews{Objective: project.Objective, Rule: rule.Rule}
	if o.Stop != nil {
		o.rules.Rule = o.Stop
	}
	return nil
}

// noProject says that a run cannot be delivered as it names no project.
func noProject(key string) error {
	if key == "" {
		return api.Fail(api.NotFound, "no project is named (--project, or KEMBREL_PROJECT)")
	}
	return api.Fail(api.NotFound, "%.60q is no key of a project", key)
}

// begin makes the spool and the socket and starts sending.
func begin(ctx context.Context, o Options, recipe api.Recipe) (*recording, error) {
	leg := spool.Leg{Service: o.Service, Project: o.Project, RunKey: uuid.NewString(),
		LegKey: uuid.NewString(), Title: o.Title,
		Hyper: o.Hyper, Recipe: recipe, Started: time.Now(), Place: o.Place, Stop: o.Stop}
	folder, err := socketFolder(o)
	if err == nil {
		leg.Socket = filepath.Join(folder, "s")
	} else if !o.unheard {
		return nil, err
	}
	if o.Begin != nil {
		o.Begin.leg(&leg)
	}
	if len(o.Substituted) > 0 {
		leg.Hyper = maps.Clone(o.Substituted)
		maps.Copy(leg.Hyper, o.Hyper)
	}
	s, why, err := spool.MakeSomewhere(o.Roots, leg)
	if err == nil && why != nil && !o.Quiet {
		fmt.Fprintf(o.Err, "kembrel: the spool is in %s instead, as none could be made where it belongs: %v\n",
			filepath.Dir(s.Folder), why)
	}
	if err == nil {
		for _, use := range o.Data {
			if why := s.AppendNow(spool.Data, 0, use); why != nil && !o.Quiet {
				fmt.Fprintf(o.Err, "kembrel: what data the run uses could not be kept: %v\n", why)
			}
		}
	}
	if err == nil && o.Begin != nil {
		if err = prepare(ctx, o, s); err != nil {
			s.Remove()
		}
	}
	if err == nil && o.rules.Objective != (api.Objective{}) {
		// without it the service is asked again
		s.SetState(spool.State{Objective: o.rules.Objective, Rule: o.rules.Rule})
	}
	if err != nil {
		os.RemoveAll(folder)
		return nil, err
	}
	return adopt(ctx, o, s)
}

// maxSocket is how long a socket's path may be, in bytes.
const maxSocket = 100

// socketFolder makes a folder for the socket where that can be done.
func socketFolder(o Options) (folder string, err error) {
	for _, root := range append([]string{os.TempDir(), "/dev/shm"}, o.Roots...) {
		if len(root) > maxSocket-30 {
			continue
		}
		if folder, err = os.MkdirTemp(root, "kembrel-"); err == nil {
			return folder, nil
		}
	}
	return "", fmt.Errorf("make a folder for the socket: %w", err)
}

// garbage is how much the heap may grow, in percent, before it is collected: a recorder has little, and is to leave the
// processor to the training.
const garbage = 400

// adopt takes up a spool, new or left by a recorder that died: listens for programs and sends.
func adopt(ctx context.Context, o Options, s *spool.Spool) (*recording, error) {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(garbage)
	}
	r := newRecording(o, s)
	var err error
	if r.session, err = newSession(s, r.say); err != nil {
		s.Close()
		return nil, err
	}
	if o.Content {
		r.session.cut = spool.CutByContent
	}
	if err = r.listen(); err != nil && !o.unheard {
		s.Close()
		return nil, err
	}
	if err != nil {
		text := fmt.Sprintf("What the program itself says is not recorded, as it cannot be listened to: %v.",
			withoutPath(err))
		r.say("warning: %s", text)
		r.session.remark(text)
	}
	r.sender = &sender{spool: s, connect: func() *client.Client { return o.Connect(s.Leg.Service) }, say: r.say,
		over: r.over.Load, session: r.session, coming: make(chan spool.Manifest, 1), advise: r.session.advise,
		named: func(run string, leg int) {
			r.session.named(run, leg)
			r.say("recording %s, %s/%s; a curve named like train/loss becomes loss.train", run,
				strings.TrimRight(s.Leg.Service, "/"), run)
		}}
	r.session.coming = r.sender.come
	ctx, r.cancel = context.WithCancel(context.WithoutCancel(ctx))
	r.machine = newMachine()
	reading, stop := context.WithCancel(ctx)
	r.unplug = stop
	go r.session.watchMachine(reading, r.machine, func() int { return int(r.program.Load()) })
	go r.sender.obeyRule(ctx)
	go func() { r.sending <- r.keepSending(ctx) }()
	go sendLeftovers(ctx, o, s.Folder)
	return r, nil
}

// listen makes the socket where programs speak and serves them.
func (r *recording) listen() error {
	leg := &r.spool.Leg
	err := fs.ErrNotExist
	if leg.Socket != "" {
		os.MkdirAll(filepath.Dir(leg.Socket), 0o700)
		os.Remove(leg.Socket)
		r.socket, err = net.Listen("unix", leg.Socket)
	}
	if err != nil { // its folder may have been taken away, or be on a full disk
		if leg.Socket != "" {
			os.Remove(filepath.Dir(leg.Socket))
		}
		var folder string
		if folder, err = socketFolder(r.options); err != nil {
			return err
		}
		leg.Socket = filepath.Join(folder, "s")
		if r.socket, err = net.Listen("unix", leg.Socket); err != nil {
			os.RemoveAll(folder)
			return fmt.Errorf("listen for the program: %w", err)
		}
	}
	go r.accept()
	return nil
}

// refusedPause is how long a service that refuses a run as a whole is left alone: a person may make the project
// meanwhile, or sign in.
const refusedPause = 30 * time.Second

// keepSending sends until everything is sent, ctx ends, or the program has and the service refuses it still.
func (r *recording) keepSending(ctx context.Context) error {
	for said := ""; ; {
		err := r.sender.send(ctx)
		if !errors.Is(err, errRefused) || r.over.Load() {
			return err
		}
		if text := err.Error(); text != said {
			r.say("%s; it is tried again every %s", text, refusedPause)
			said = text
		}
		for began := time.Now(); time.Since(began) < refusedPause && !r.over.Load(); {
			select {
			case <-ctx.Done():
				return err
			case <-time.After(100 * time.Millisecond):
			}
		}
	}
}

func (r *recording) say(format string, args ...any) {
	if !r.options.Quiet && r.voice != nil {
		r.voice.say(plain.Text(fmt.Sprintf(format, args...)))
	}
}

// loud says what also those want to know who want to hear nothing.
func (r *recording) loud(format string, args ...any) {
	r.voice.say(plain.Text(fmt.Sprintf(format, args...)))
}

func (r *recording) noteProgram(pid int) {
	r.program.Store(int32(pid))
	if err := r.spool.SetProgram(pid); err != nil {
		r.say("cannot note the program's process: %v", withoutPath(err))
	}
}

func (r *recording) accept() {
	for {
		conn, err := r.socket.Accept()
		if err != nil {
			return
		}
		r.conns.Go(func() { r.session.serve(conn) })
	}
}

// Behind the program's end what it sent is read as long as something comes, which a slow disk delays, but not longer
// than so: a child of the program that keeps its connection may never hang up.
const (
	longestQuiet = 3 * time.Second
	longestRest  = time.Minute
)

// hangUp stops listening and waits until what the program sent is read, or until it is clear that some child of it
// keeps the connection open.
func (r *recording) hangUp() {
	if r.socket != nil {
		time.Sleep(20 * time.Millisecond) // a connection made at the very end is still in the queue of the socket
		r.socket.Close()
		os.RemoveAll(filepath.Dir(r.spool.Leg.Socket))
	}
	read := make(chan struct{})
	go func() { r.conns.Wait(); close(read) }()
	for ended := time.Now(); ; {
		select {
		case <-read:
			r.awaitKept()
			return
		case <-time.After(100 * time.Millisecond):
		}
		if r.session.quiet(ended) > longestQuiet || time.Since(ended) > longestRest {
			r.say("a child of the program keeps its connection; what it sends from now on is not recorded")
			r.awaitKept()
			return
		}
	}
}

// awaitKept waits until what the program handed over last is durable: its end stands behind it in the spool.
func (r *recording) awaitKept() {
	r.session.mutex.Lock()
	r.session.release(true)
	r.session.mutex.Unlock()
	began, stuck, said := time.Now(), time.Duration(0), false
	for pause := time.Millisecond; r.session.keeping.Load() > 0; pause = min(2*pause, 100*time.Millisecond) {
		if time.Since(began) > keepTime || stuck > endTime {
			r.say("what the program handed over last could not be made safe on disk")
			return
		}
		if !said && time.Since(began) > 3*time.Second {
			said = true
			r.say("waiting until what the program handed over last is safe on disk")
		}
		if r.spool.Stuck() != nil {
			stuck += pause
		}
		time.Sleep(pause)
	}
}

// keepTime is how long a slow disk may take for what the program handed over last.
const keepTime = 10 * time.Minute

// endTime is how long a disk that takes nothing is waited for at the end.
const endTime = 5 * time.Second

// finish records the end and sends the rest.
func (r *recording) finish(end spool.Ending) {
	defer func() { r.voice.wait(2 * time.Second) }()
	r.unplug()
	if end.State == "failed" && end.Signal == syscall.SIGKILL.String() || end.Signal == "" && end.ExitCode == nil &&
		end.State == "failed" {
		if text := r.machine.ranOut(); text != "" {
			r.session.remark(text)
		}
	}
	if untaken := r.session.untaken(); untaken != "" {
		r.say("warning: %s", untaken)
		r.session.remark(untaken)
	}
	r.session.sayRefused()
	r.session.sayUngathered()
	r.session.mutex.Lock()
	r.session.release(true)
	r.session.sayGap()
	r.session.mutex.Unlock()
	if err := r.spool.AppendEnd(end, endTime); err != nil {
		r.say("the spool's disk takes nothing (%v); what waits in memory is sent from there", withoutPath(err))
	}
	r.over.Store(true)
	run := r.spool.State().Run
	r.close(r.awaitSent())
	if end.Signal != "" && run != "" && (r.sender.stored.Load() > 0 || r.spool.Leg.Resumed != nil) {
		r.say("to go on with it from its last checkpoint: kembrel resume %s", run)
	}
}

// awaitSent waits until what the program left is with the service, as long as something gets through and Wait longer.
func (r *recording) awaitSent() error {
	interrupt := make(chan os.Signal, 1)
	signal.Notify(interrupt, os.Interrupt, syscall.SIGTERM)
	defer signal.Stop(interrupt)
	if f, ok := r.options.Err.(*os.File); ok && isTerminal(f) {
		telling, stop := context.WithCancel(context.Background())
		defer stop()
		go r.sender.tellProgress(telling)
	}
	last, since := r.sender.progress.Load(), time.Now()
	ticker := time.NewTicker(100 * time.Millisecond)
	defer ticker.Stop()
	for {
		select {
		case err := <-r.sending:
			return err
		case <-interrupt:
			r.cancel()
		case <-ticker.C:
			if p := r.sender.progress.Load(); p != last {
				last, since = p, time.Now()
			} else if time.Since(since) > r.options.Wait && (r.sender.away.Load() || r.sender.full.Load() ||
				time.Since(since) > callTime) {
				r.cancel()
			}
		}
	}
}

func (r *recording) close(err error) {
	defer r.voice.wait(2 * time.Second)
	if err == nil && r.spool.Leg.Evaluation != nil {
		if err := r.spool.Remove(); err != nil {
			r.say("the spool could not be removed: %v", err)
		}
		return
	}
	if err == nil {
		r.say("%s: %d readings and %d checkpoints are with the service", r.spool.State().Run, r.sender.readings.Load(),
			r.sender.stored.Load())
		if err := r.spool.Remove(); err != nil {
			r.say("the spool could not be removed: %v", err)
		}
		return
	}
	id := filepath.Base(r.spool.Folder)
	if r.spool.Stuck() != nil {
		if saved, why := r.spool.Rescue(r.options.Roots); why != nil {
			r.say("what waits in memory is LOST: the service does not take it now, and no disk does: %v", why)
		} else {
			r.say("what waited in memory is in %s", saved)
		}
	}
	if r.spool.State().Run == "" && api.Is(err, api.NotFound) {
		r.loud("NOTHING OF THIS RUN IS DELIVERED: %s. The spool %s keeps it all. Create the project and run: kembrel spool send; or send it to another project: kembrel spool send %[2]s --project PROJECT",
			problemOf(err), id)
	} else if errors.Is(err, errRefused) {
		r.say("%v; the spool %s keeps it: see kembrel spool", err, id)
	} else {
		r.say("the service did not take everything yet; the next recorder here sends the rest, or: kembrel spool send %s", id)
	}
	r.spool.Close()
}
