package recorder

import (
	"kembrel/recorder/protocol"
)

// What programs are told, and whether they hear it.

// greet notes that a program has spoken, and tells it what the others were told before. The mutex is held.
func (n *session) greet(out *outbox) {
	if spoken, there := n.programs[out]; spoken || !there {
		return
	}
	n.programs[out] = true
	if n.held != "" {
		out.put(protocol.Reply{Kind: "held", What: n.held})
	}
	if n.advised != "" {
		out.put(protocol.Reply{Kind: "advice", Stop: true, What: n.advised})
	}
}

// tell tells all programs that have spoken. The mutex is held.
func (n *session) tell(r protocol.Reply) {
	for out, spoken := range n.programs {
		if spoken {
			out.put(r)
		}
	}
}

// advise tells all programs to stop.
func (n *session) advise(why string) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	n.advised = why
	n.tell(protocol.Reply{Kind: "advice", Stop: true, What: why})
}

// named remembers the run's address once the service has given it, and tells the programs that said they hear it.
func (n *session) named(run string, leg int) {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	if n.run == run && n.leg == leg {
		return
	}
	n.run, n.leg = run, leg
	for out := range n.programs {
		if out.hearsNamed {
			out.put(protocol.Reply{Kind: "named", Run: run, Leg: leg})
		}
	}
}

// silent reports whether no readings have come.
func (n *session) silent() bool {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return n.readings == 0
}

// knows reports whether a program has ever spoken with the recorder, and so may hear its advice.
func (n *session) knows() bool {
	n.mutex.Lock()
	defer n.mutex.Unlock()
	return n.connected > 0
}
