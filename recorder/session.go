package recorder

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"kembrel/api"
	"kembrel/core/dataset"
	"kembrel/recorder/protocol"
	"kembrel/recorder/spool"
)

// maxFigures is how many curves' last values go with a checkpoint.
const maxFigures = 200

// session is what the recorder knows of its program: it answers the protocol and fills the spool.
type session struct {
	spool *spool.Spool
	busy  atomic.Int32 // messages being handled
	heard atomic.Int64 // when the latest was, in ms since 1970
	say   func(format string, args ...any)

	mutex     sync.Mutex
	lastStep  int64
	lastEpoch float64
	readings  int64
	kept      map[int]int64 // last message kept, by rank
	figures   map[string]api.Float
	open      map[string]spool.Manifest // checkpoints begun
	done      map[string]bool           // checkpoints kept
	steps     map[int64]bool            // steps that have a checkpoint
	beginning map[int64]bool            // steps whose checkpoint's folder is being made
	ended     *spool.Ending
	run       string
	leg       int
	programs  map[*outbox]bool // connected; whether it has spoken: what is told unasked comes behind the welcome
	connected int              // ever
	language  string
	stop      stopper
	crossed   chan struct{}      // the stopper has said stop
	stopping  chan string        // the program has been advised, and why
	ending    chan string        // a person wants it ended, and why
	why       string             // of that
	needs     []string           // parts that resuming needs, as the program declared
	told      bool               // the language has been kept
	evaluate  *protocol.Evaluate // what the program is to evaluate; nil: it trains
	classes   bool               // some curve is one of a classifier
	warned    map[string]bool
	cut       string                     // how files without tensors are cut
	coming    func(spool.Manifest)       // hears of a checkpoint before it is durable
	handed    map[string]*dataset.Prints // data being handed over, by what for
	items     grouping
	used      map[string]json.RawMessage // hyperparameters, as the program says
	gap       gap
	held      string          // why nothing can be made durable at the moment; "": it can
	restarted bool            // the program began again although it was to go on
	renamed   map[string]bool // curves of which it was said that they go by another name
	advised   string          // why programs were told to stop; "": they were not
	unkept    map[string]bool // of which it was said that a value is not kept
	order     order
	joins     map[int64][]answer    // ranks that wait for the checkpoint of a step
	gathers   map[string]*gathering // checkpoints of several ranks, as far as their files have come

	keeping atomic.Int64 // what is being made durable or said beside the messages

	counting sync.Mutex     // guards what follows
	refused  map[string]int // messages that were refused, by kind
}

// newSession takes up what the spool already holds, so that a recorder can follow one that died.
func newSession(s *spool.Spool, say func(string, ...any)) (*session, error) {
	n := &session{spool: s, say: say, kept: map[int]int64{}, joins: map[int64][]answer{},
		gathers: map[string]*gathering{}, order: order{there: map[int]int{}}, figures: map[string]api.Float{},
		done: map[string]bool{}, steps: map[int64]bool{}, beginning: map[int64]bool{}, programs: map[*outbox]bool{},
		lastEpoch: math.NaN(), warned: map[string]bool{}, used: map[string]json.RawMessage{}, refused: map[string]int{},
		renamed: map[string]bool{}, unkept: map[string]bool{}, crossed: make(chan struct{}, 1),
		stopping: make(chan string, 1), ending: make(chan string, 1), coming: func(spool.Manifest) {}}
	s.OnRoom(n.room)
	if state := s.State(); state.Objective != (api.Objective{}) {
		n.stop.set(state.Objective, state.Rule)
	}
	if r := s.Leg.Resumed; r != nil {
		n.lastStep, n.lastEpoch = r.Step+1, float64(r.Epoch)
	}
	n.open = s.Begun()
	size, _ := s.Size()
	for r := s.Reader(); ; {
		record, err := r.Next(size)
		if errors.Is(err, io.EOF) {
			for _, m := range n.open {
				n.steps[m.Step] = n.steps[m.Step] || m.Kind() == protocol.Checkpoint
				if m.Items != nil {
					n.itemsBegun()
				}
			}
			return n, nil
		}
		if err != nil {
			return nil, err
		}
		n.noteKept(record.Message)
		switch record.Kind {
		case spool.Readings:
			names, batch, err := decodeReadings(record.Body)
			if err != nil {
				return nil, err
			}
			n.note(names, batch)
		case spool.Training:
			n.items = grouping{}
		case spool.Said:
			n.ended = &spool.Ending{}
			if err := json.Unmarshal(record.Body, n.ended); err != nil {
				return nil, err
			}
		case spool.Checkpoint, spool.Sheet, spool.File, spool.Items:
			var m spool.Manifest
			if err := json.Unmarshal(record.Body, &m); err == nil {
				n.steps[m.Step] = n.steps[m.Step] || m.Kind() == protocol.Checkpoint
				delete(n.open, m.Key)
				n.done[m.Key] = true
				if m.Items != nil {
					n.itemsBegun()
				}
			}
		case spool.Hyper:
			json.Unmarshal(record.Body, &n.used)
		case spool.Program:
			var says api.ProgramSays
			if err := json.Unmarshal(record.Body, &says); err == nil {
				n.needs = says.Needs
			}
		}
	}
}

// serve speaks with one program until it hangs up.
func (n *session) serve(conn net.Conn) {
	out := newOutbox(conn)
	n.busy.Add(1)
	n.mutex.Lock()
	n.programs[out] = false
	n.order.there[0]++ // until it says that it is another
	n.connected++
	n.mutex.Unlock()
	n.busy.Add(-1)
	defer func() {
		n.mutex.Lock()
		delete(n.programs, out)
		if n.order.there[out.rank]--; len(n.order.waiting) > 0 {
			n.release(false)
		}
		n.mutex.Unlock()
		out.close()
	}()
	var parser protocol.Parser
	scanner := bufio.NewScanner(conn)
	scanner.Buffer(make([]byte, 64<<10), protocol.MaxLine)
	for scanner.Scan() {
		line := scanner.Bytes()
		if len(line) == 0 {
			continue
		}
		n.busy.Add(1)
		m, err := parser.Parse(line, time.Now())
		if err == nil {
			err = n.handle(m, out)
		}
		if err != nil {
			n.problem(out, m, err)
		}
		n.heard.Store(time.Now().UnixMilli())
		n.busy.Add(-1)
	}
	if err := scanner.Err(); errors.Is(err, bufio.ErrTooLong) {
		n.problem(out, protocol.Message{}, fmt.Errorf("a line is longer than %d bytes; the connection ends here",
			protocol.MaxLine))
	}
}

// quiet is for how long no message has come, or been worked at, since a moment.
func (n *session) quiet(since time.Time) time.Duration {
	if n.busy.Load() > 0 {
		return 0
	}
	if heard := time.UnixMilli(n.heard.Load()); heard.After(since) {
		since = heard
	}
	return time.Since(since)
}

func (n *session) problem(out *outbox, m protocol.Message, err error) {
	what := err.Error()
	if m.Kind != "" {
		what = m.Kind + ": " + what
	}
	var told onTheRun
	if !errors.As(err, &told) {
		n.refuses(m.Kind, what)
	}
	out.put(protocol.Reply{Kind: "problem", ID: m.ID, What: what})
}

// refuses counts what was refused by its kind, and says the first few of each kind and leaves them on the run.
func (n *session) refuses(kind, what string) {
	n.counting.Lock()
	n.refused[kind]++
	few := n.refused[kind] <= fewRefused
	n.counting.Unlock()
	if few {
		n.say("refused a message: %s", what)
		n.remark("Refused: " + what)
	}
}

// fewRefused is how many refusals of a kind of message are told one by one.
const fewRefused = 3

// sayRefused leaves on the run how many more were refused.
func (n *session) sayRefused() {
	n.counting.Lock()
	defer n.counting.Unlock()
	for kind, times := range n.refused {
		if more := times - fewRefused; more > 0 {
			n.say("refused %d more messages (%s)", more, kind)
			n.remark(fmt.Sprintf("Refused: %d more messages (%s).", more, kind))
		}
	}
}

// handle takes one message; a nil error means that it is answered, now or when it is durable.
func (n *session) handle(m protocol.Message, out *outbox) error {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if m.Kind == protocol.Hello {
		err := n.hello(m, out)
		out.hearsNamed = slices.Contains(m.Hears, "named")
		n.greet(out)
		return err
	}
	n.greet(out)
	if err := speaks(out.rank, m); err != nil {
		return err
	}
	switch m.Kind {
	case protocol.Start:
		return n.start(m, out)
	case protocol.Hyper:
		if n.readings > 0 || n.order.waits(0) {
			return fmt.Errorf("hyperparameters are fixed before training, and readings have come already")
		}
		n.withoutBad(m, "hyperparameter", out)
		maps.Copy(n.used, m.Hyper)
		return n.keepJSON(spool.Hyper, m, m.Hyper, out)
	case protocol.Taken:
		return n.behind(m, out)
	case protocol.Readings:
		n.withoutBad(m, "curve", out)
		n.rename(m.Renamed)
		if out.rank > 0 || n.order.reached != nil || n.order.ranks > 1 {
			return n.ordered(m, out)
		}
		return n.keepReadings(m, out)
	case protocol.Data:
		return n.data(m, out)
	case protocol.Sheet, protocol.FileKind, protocol.Items:
		return n.hand(m, out)
	case protocol.NoteKind:
		if out.rank > 0 {
			m.Text = fmt.Sprintf("Rank %d: %s", out.rank, m.Text)
		}
		return n.behind(m, out)
	case protocol.Checkpoint:
		if n.evaluate != nil {
			return errors.New("an evaluation saves no checkpoints")
		}
		switch m.Do {
		case "begin":
			if err := n.begin(m, out); err != nil {
				n.miss(m.Step, err)
				return onTheRun{err}
			}
			return nil
		case "join":
			return n.join(m, out)
		case "abandon":
			return n.abandon(m, out)
		}
		return n.commit(m, out)
	case protocol.End:
		n.release(true)
		n.ended = &spool.Ending{State: m.State, Why: m.Why}
		return n.keepJSON(spool.Said, m, n.ended, out)
	}
	return nil
}

// beside does what must not hold up the messages, and is waited for at the end.
func (n *session) beside(do func()) {
	n.keeping.Add(1)
	go func() {
		defer n.keeping.Add(-1)
		do()
	}()
}

// behind keeps what a process says of itself behind the readings that it said before. The mutex is held.
func (n *session) behind(m protocol.Message, out *outbox) error {
	if n.order.waits(out.rank) {
		n.wait(m, out, n.order.reached[out.rank])
		return nil
	}
	return n.keepSaid(m, out)
}

func (n *session) keepSaid(m protocol.Message, out *outbox) error {
	if m.Kind == protocol.Taken {
		return n.take(m, out)
	}
	return n.keepJSON(spool.Note, m, api.NewNote{At: time.Now(), Text: m.Text}, out)
}

func (n *session) keepJSON(kind spool.Kind, m protocol.Message, v any, out *outbox) error {
	body, err := json.Marshal(v)
	if err == nil {
		n.keep(kind, m, body, out)
	}
	return err
}

// keep spools a record and answers kept once it is durable.
func (n *session) keep(kind spool.Kind, m protocol.Message, body []byte, out *outbox) {
	message := numbered(out.rank, m.ID)
	n.noteKept(message)
	n.spool.Append(kind, message, body, func(err error) {
		switch {
		case err != nil:
			n.lose(kind, m, err)
			out.put(protocol.Reply{Kind: "problem", ID: m.ID, What: m.Kind + ": it could not be kept: " + err.Error()})
		case m.ID != 0:
			out.keptUpTo(m.ID)
		}
	})
}
