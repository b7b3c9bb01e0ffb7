package recorder

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"syscall"
	"time"

	"kembrel/api"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// The programs that are recorded: started under the recorder, or running already beside it, and how they end.

// Command runs a program under a recorder and returns its exit code; a signal that ended it counts 128 and its number,
// as in shells. Only a program that cannot be started, or a checkpoint to go on from that cannot be had, is an error:
// where nothing can be recorded it runs all the same.
func Command(ctx context.Context, o Options, command []string) (int, error) {
	path, err := exec.LookPath(command[0])
	if err != nil {
		return 0, fmt.Errorf("cannot start %q: %w", command[0], err)
	}
	cmd := &exec.Cmd{Path: path, Args: command, Stdin: os.Stdin, Stdout: os.Stdout, Stderr: os.Stderr}
	recipe := Describe(ctx, command, o.Chosen)
	recipe.ReadOutput, recipe.Keep = o.Output, o.Keep
	for _, u := range o.Data {
		if recipe.Data == nil {
			recipe.Data = map[string]string{}
		}
		recipe.Data[u.Use] = u.Asked
	}
	o.unheard = !o.Begin.needs() // it is told where to go on from
	signals := make(chan os.Signal, 4)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer signal.Stop(signals)
	r, early, err := beginUnless(ctx, signals, o, recipe)
	if early != 0 {
		if r != nil {
			r.hangUp()
			r.finish(unstarted(early))
		}
		return 128 + int(early), nil
	}
	if err != nil {
		if o.Begin.needs() {
			return 0, err
		}
		fmt.Fprintf(o.Err, "kembrel: NOTHING OF THIS RUN IS RECORDED: %v; the program starts all the same\n", err)
	}
	var out *drains
	if r != nil {
		socket := r.spool.Leg.Socket
		if r.socket == nil {
			socket = "" // nor that of a recorder around this one
		}
		cmd.Env = append(os.Environ(), protocol.Variable+"="+socket, protocol.SpoolVariable+"="+r.spool.Folder)
		if out, err = newDrains(r.spool.Folder, [2]io.Writer{o.Out, o.Err}); err != nil {
			r.say("the program's output is not recorded: %v", err)
		} else {
			cmd.Stdout, cmd.Stderr = out.write[0], out.write[1]
			r.readOutput()
		}
	}
	before := versions(ctx, ".", o.Keep)
	if err := cmd.Start(); err != nil {
		if r != nil {
			r.hangUp()
			r.finish(spool.Ending{State: "failed", At: time.Now(), Why: err.Error()})
		}
		return 0, fmt.Errorf("start %q: %w", command[0], err)
	}
	go func() {
		for s := range signals {
			if r != nil {
				r.asked.Store(s.(syscall.Signal).String())
			}
			if s != os.Interrupt || !isTerminal(os.Stdin) { // a terminal interrupts the program itself
				cmd.Process.Signal(s)
			}
		}
	}()
	if r != nil {
		r.watch(cmd, out)
	} else {
		cmd.Wait()
	}
	signal.Stop(signals)
	status := cmd.ProcessState.Sys().(syscall.WaitStatus)
	if r != nil {
		r.session.keepMatched(ctx, ".", o.Keep, before)
		end := ending(cmd.ProcessState, r.session, r.ended)
		// it took the signal, and ended because of it
		if asked, _ := r.asked.Load().(string); end.State != "finished" && end.Signal == "" {
			end.Signal = asked
		}
		end.Tail = r.tail
		r.finish(end)
	}
	if status.Signaled() {
		return 128 + int(status.Signal()), nil
	}
	return status.ExitStatus(), nil
}

// beginUnless begins a recording. A signal meanwhile ends what it waits for, and is returned: the program is not to be
// started then.
func beginUnless(ctx context.Context, signals <-chan os.Signal, o Options, recipe api.Recipe) (*recording,
	syscall.Signal, error) {
	ctx, giveUp := context.WithCancel(ctx)
	defer giveUp()
	begun, early := make(chan struct{}), make(chan syscall.Signal)
	go func() {
		defer close(early)
		select {
		case s := <-signals:
			giveUp()
			early <- s.(syscall.Signal)
		case <-begun:
		}
	}()
	r, err := begin(ctx, o, recipe)
	close(begun)
	return r, <-early, err
}

// unstarted is the end of a program that a signal kept from starting.
func unstarted(s syscall.Signal) spool.Ending {
	e := spool.Ending{State: "failed", At: time.Now(), Signal: s.String(), Why: "Ended before the program was started."}
	if s == syscall.SIGINT {
		e.State, e.Why = "stopped", "Interrupted by a person before the program was started."
	}
	return e
}

// watch waits for the program's end.
func (r *recording) watch(cmd *exec.Cmd, out *drains) {
	if out != nil {
		out.handedOver()
	}
	r.noteProgram(cmd.Process.Pid)
	ended := make(chan struct{})
	go func() {
		var ruled <-chan string
		if r.options.Enforce {
			ruled = r.session.stopping
		}
		select {
		case <-ended:
			return
		case <-ruled:
		case <-r.session.ending:
		}
		endGently(cmd.Process, r.session.knows(), cmp.Or(r.options.Grace, usualGrace), ended, r.say)
	}()
	cmd.Wait()
	r.ended = time.Now()
	close(ended)
	if out != nil {
		r.tail = out.end()
	}
	if r.printed != nil {
		r.printed.finish()
	}
	r.hangUp()
}

// readOutput begins to find readings in what the program prints, where that was asked for.
func (r *recording) readOutput() {
	if r.options.Output == "" {
		return
	}
	var err error
	if r.printed, err = newPrintedReader(r.spool, r.session); err != nil {
		r.say("the program's output is not read for readings: %v", err)
		return
	}
	go r.printed.follow()
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
	if e.Signal == syscall.SIGINT.String() { // a person's
		e.State, e.Why = "stopped", "Interrupted by a person."
	}
	// A program that was told to stop and ended, by itself or by our signal, was stopped.
	told := e.Signal == syscall.SIGTERM.String() || e.Signal == syscall.SIGKILL.String() || e.ExitCode != nil &&
		*e.ExitCode == 128+int(syscall.SIGTERM)
	if why != "" && (e.State != "failed" || told) {
		e.State, e.Why = "stopped", why
	}
	return e
}

// Attach records a program that runs already: prints the socket's path on one line for it, and ends when the program is
// gone. With folder set it takes up the spool of a recorder that died.
func Attach(ctx context.Context, o Options, program int, command []string, folder string) error {
	signal.Ignore(os.Interrupt, syscall.SIGHUP) // they are meant for the program, whose group this is in
	var r *recording
	var err error
	if folder != "" {
		var s *spool.Spool
		if s, err = spool.Open(folder); err == nil {
			r, err = adopt(ctx, o, s)
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
