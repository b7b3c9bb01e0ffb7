package recorder

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/google/uuid"

	"kembrel/api"
	"kembrel/client"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// Options say what to record and where to send it.
type Options struct {
	Service  string
	Project  string
	Title    string
	Hyper    map[string]json.RawMessage
	Root     string        // where spools are
	Wait     time.Duration // how long to wait, at the end, for a service that takes nothing
	Quiet    bool
	Content  bool                                // cut files without tensors by their content
	Stop     *api.StopRule                       // the run's own stop rule
	Obey     bool                                // end a program that goes on although its stop rule says stop
	Grace    time.Duration                       // how long it may take to end by itself, and again after SIGTERM
	Progress bool                                // SendLeftover says now and then how far it is
	Force    bool                                // SendLeftover sends even while the program lives
	Connect  func(service string) *client.Client // with the credentials of the moment
	Out      io.Writer
	Err      io.Writer

	Search int        // number of the search that the run is a trial of; 0: none
	Trial  int        // its place in it, from 1
	Begin  *Beginning // how the leg begins; nil: a new run, afresh
	Chosen []string   // environment variables to record beside the usual ones

	rules api.LegNews // as Check found them
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
}

// Check finds out before the program starts whether the service would take the run: a wrong project or token is an error now, a
// service that does not answer is none (nil, with away set).
func Check(ctx context.Context, o *Options) (away error, err error) {
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	c, in := o.Connect(o.Service), &api.ProjectInput{Project: o.Project}
	project, err := client.Call(ctx, c, api.GetProject, in)
	if err == nil {
		var rule *api.StopState
		if rule, err = client.Call(ctx, c, api.GetStopRule, in); err == nil {
			o.rules = api.LegNews{Objective: project.Objective, Rule: rule.Rule}
			if o.Stop != nil {
				o.rules.Rule = o.Stop
			}
		}
	}
	if err != nil && (temporary(err) || errors.Is(err, context.DeadlineExceeded)) && !api.Is(err, api.SignedOut) {
		return err, nil
	}
	if api.Is(err, api.NotFound) {
		return nil, api.Fail(api.NotFound, "there is no project %q at %s; make it with: kembrel projects make %s", o.Project, o.Service, o.Project)
	}
	return nil, err
}

// begin makes the spool and the socket and starts sending.
func begin(ctx context.Context, o Options, recipe api.Recipe) (*recording, error) {
	folder, err := os.MkdirTemp("", "kembrel-") // a socket's path may have 107 bytes only
	if err != nil {
		return nil, fmt.Errorf("make a folder for the socket: %w", err)
	}
	leg := spool.Leg{Service: o.Service, Project: o.Project, RunKey: uuid.NewString(), LegKey: uuid.NewString(), Title: o.Title,
		Hyper: o.Hyper, Recipe: recipe, Started: time.Now(), Search: o.Search, Trial: o.Trial, Socket: filepath.Join(folder, "s"), Stop: o.Stop}
	if o.Begin != nil {
		o.Begin.leg(&leg)
	}
	s, err := spool.Make(o.Root, leg)
	if err == nil && o.Begin != nil {
		if err = prepare(ctx, o, s); err != nil {
			s.Remove()
		}
	}
	if err == nil && o.rules.Objective != "" {
		err = s.SetState(spool.State{Objective: o.rules.Objective, Rule: o.rules.Rule})
	}
	if err != nil {
		os.RemoveAll(folder)
		return nil, err
	}
	return attach(ctx, o, s)
}

// attach takes up a spool, new or left by a recorder that died: listens for programs and sends.
func attach(ctx context.Context, o Options, s *spool.Spool) (*recording, error) {
	r := &recording{options: o, spool: s, sending: make(chan error, 1)}
	var err error
	if r.session, err = newSession(s, r.say); err != nil {
		s.Close()
		return nil, err
	}
	if o.Content {
		r.session.cut = spool.CutByContent
	}
	os.MkdirAll(filepath.Dir(s.Leg.Socket), 0o700)
	os.Remove(s.Leg.Socket)
	if r.socket, err = net.Listen("unix", s.Leg.Socket); err != nil {
		s.Close()
		return nil, fmt.Errorf("listen for the program: %w", err)
	}
	go r.accept()
	r.sender = &sender{spool: s, connect: func() *client.Client { return o.Connect(s.Leg.Service) }, say: r.say, over: r.over.Load, session: r.session, coming: make(chan spool.Manifest, 1), advise: r.session.advise,
		named: func(run string, leg int) {
			r.session.named(run, leg)
			r.say("recording %s", run)
		}}
	r.session.coming = r.sender.come
	ctx, r.cancel = context.WithCancel(context.WithoutCancel(ctx))
	r.machine = newMachine()
	reading, stop := context.WithCancel(ctx)
	r.unplug = stop
	go r.session.watchMachine(reading, r.machine, func() int { return int(r.program.Load()) })
	go func() { r.sending <- r.sender.send(ctx) }()
	go sendLeftovers(ctx, o, s.Folder)
	return r, nil
}

func (r *recording) say(format string, args ...any) {
	if !r.options.Quiet {
		fmt.Fprintf(r.options.Err, "kembrel: "+format+"\n", args...)
	}
}

func (r *recording) noteProgram(pid int) {
	r.program.Store(int32(pid))
	if err := r.spool.SetProgram(pid); err != nil {
		r.say("cannot note the program's process: %v", err)
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

// hangUp stops listening and waits until what the program sent is read, or until it is clear that some child of it keeps
// the connection open.
func (r *recording) hangUp() {
	time.Sleep(20 * time.Millisecond) // a connection made at the very end is still in the queue of the socket
	r.socket.Close()
	os.RemoveAll(filepath.Dir(r.spool.Leg.Socket))
	read := make(chan struct{})
	go func() { r.conns.Wait(); close(read) }()
	select {
	case <-read:
	case <-time.After(3 * time.Second):
		r.say("a child of the program keeps its connection; what it sends from now on is not recorded")
	}
}

// finish records the end and sends the rest. It waits for the service as long as something gets through, and Wait longer.
func (r *recording) finish(end spool.Ending) {
	r.unplug()
	if end.State == "failed" && end.Signal == syscall.SIGKILL.String() || end.Signal == "" && end.ExitCode == nil && end.State == "failed" {
		if text := r.machine.ranOut(); text != "" {
			r.session.remark(text)
		}
	}
	if err := r.spool.AppendNow(spool.End, 0, end); err != nil {
		r.say("the end could not be kept: %v", err)
	}
	r.over.Store(true)
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
			r.close(err)
			return
		case <-interrupt:
			r.cancel()
		case <-ticker.C:
			if p := r.sender.progress.Load(); p != last {
				last, since = p, time.Now()
			} else if time.Since(since) > r.options.Wait && (r.sender.away.Load() || time.Since(since) > callTime) {
				r.cancel()
			}
		}
	}
}

func (r *recording) close(err error) {
	if err == nil {
		r.say("%s: %d readings and %d checkpoints are with the service", r.spool.State().Run, r.sender.readings.Load(), r.sender.stored.Load())
		if err := r.spool.Remove(); err != nil {
			r.say("the spool could not be removed: %v", err)
		}
		return
	}
	id := filepath.Base(r.spool.Folder)
	if errors.Is(err, errRefused) {
		r.say("%v; the spool %s keeps it: see kembrel spool", err, id)
	} else {
		r.say("the service did not take everything yet; the next recorder here sends the rest, or: kembrel spool send %s", id)
	}
	r.spool.Close()
}

// Command runs a program under a recorder and returns its exit code; a signal that ended it counts 128 and its number, as in shells.
func Command(ctx context.Context, o Options, command []string) (int, error) {
	path, err := exec.LookPath(command[0])
	if err != nil {
		return 0, fmt.Errorf("cannot start %q: %w", command[0], err)
	}
	r, err := begin(ctx, o, Describe(ctx, command, o.Chosen))
	if err != nil {
		return 0, err
	}
	stdout, err1 := outputFile(r.spool.Folder, "stdout")
	stderr, err2 := outputFile(r.spool.Folder, "stderr")
	if err := errors.Join(err1, err2); err != nil {
		return 0, fmt.Errorf("keep the program's output: %w", err)
	}
	cmd := &exec.Cmd{Path: path, Args: command, Stdin: os.Stdin, Stdout: stdout, Stderr: stderr,
		Env: append(os.Environ(), protocol.Variable+"="+r.spool.Leg.Socket)}
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	if err := cmd.Start(); err != nil {
		r.hangUp()
		r.finish(spool.Ending{State: "failed", At: time.Now(), Why: err.Error()})
		return 0, fmt.Errorf("start %q: %w", command[0], err)
	}
	stdout.Close()
	stderr.Close()
	r.noteProgram(cmd.Process.Pid)
	go func() {
		for s := range signals {
			if s != os.Interrupt || !isTerminal(os.Stdin) { // a terminal interrupts the program itself
				cmd.Process.Signal(s)
			}
		}
	}()
	copied := make(chan struct{})
	ended := make(chan struct{})
	if o.Obey {
		go func() {
			select {
			case <-ended:
			case <-r.session.stopping:
				endGently(cmd.Process, r.session.knows(), o.Grace, ended, r.say)
			}
		}()
	}
	go func() {
		defer close(copied)
		copyOutput(r.spool.Folder, o.Out, o.Err, ended)
	}()
	cmd.Wait()
	at := time.Now()
	close(ended)
	<-copied
	signal.Stop(signals)
	r.hangUp()
	end := ending(cmd.ProcessState, r.session, at)
	end.Tail = tail(r.spool.Folder)
	r.finish(end)
	if end.Signal != "" {
		return 128 + int(cmd.ProcessState.Sys().(syscall.WaitStatus).Signal()), nil
	}
	return cmd.ProcessState.ExitCode(), nil
}

// ending joins what the system says of the program's end with what the program said.
func ending(p *os.ProcessState, n *session, at time.Time) spool.Ending {
	e := spool.Ending{State: "finished", At: at}
	n.mutex.Lock()
	why := n.why
	if n.ended != nil {
		e.Why = n.ended.Why
		if n.ended.State != "" {
			e.State = n.ended.State
		}
	}
	n.mutex.Unlock()
	if p != nil {
		status := p.Sys().(syscall.WaitStatus)
		if code := status.ExitStatus(); status.Signaled() {
			e.State, e.Signal = "failed", status.Signal().String()
		} else if e.ExitCode = &code; code != 0 {
			e.State = "failed"
		}
	}
	// A program that was told to stop and ended, by itself or by our signal, was stopped.
	told := e.Signal == syscall.SIGTERM.String() || e.Signal == syscall.SIGKILL.String() || e.ExitCode != nil && *e.ExitCode == 128+int(syscall.SIGTERM)
	if why != "" && (e.State != "failed" || told) {
		e.State, e.Why = "stopped", why
	}
	return e
}

// Beside records a program that runs already: prints the socket's path on one line for it, and ends when the program is gone.
// With folder set it takes up the spool of a recorder that died.
func Beside(ctx context.Context, o Options, program int, command []string, folder string) error {
	signal.Ignore(os.Interrupt, syscall.SIGHUP) // they are meant for the program, whose group this is in
	var r *recording
	var err error
	if folder != "" {
		var s *spool.Spool
		if s, err = spool.Open(folder); err == nil {
			r, err = attach(ctx, o, s)
		}
	} else {
		r, err = begin(ctx, o, Describe(ctx, command, o.Chosen))
	}
	if err != nil {
		return err
	}
	r.noteProgram(program)
	fmt.Fprintf(o.Out, "%s %s\n", r.spool.Leg.Socket, r.spool.Folder)
	for r.spool.ProgramLives() {
		time.Sleep(100 * time.Millisecond)
		r.session.mutex.Lock()
		done := r.session.ended != nil && len(r.session.programs) == 0
		r.session.mutex.Unlock()
		if done {
			break
		}
	}
	r.hangUp()
	end := ending(nil, r.session, time.Now())
	if r.session.ended == nil {
		end.State, end.Why = "failed", "The program was gone without saying that it had ended."
	}
	r.finish(end)
	return nil
}
