package subscriptions

import "fmt"

// trouble is why an event was not taken.
type trouble string

// The kinds of trouble.
const (
	none        trouble = ""
	refused     trouble = "refused"      // it answered with a status that is none of 2xx
	elsewhere   trouble = "elsewhere"    // it sends elsewhere
	cutOff      trouble = "cut-off"      // its answer was
	tooSlow     trouble = "too-slow"     // it did not answer in time
	nobody      trouble = "nobody"       // listens there
	unknownName trouble = "unknown-name" // its host has no address
	inside      trouble = "inside"       // its address is one of the inside
	unsent      trouble = "unsent"       // for another reason
	waitsBehind trouble = "behind"       // it was not tried: others of its subject wait before it
	tookNothing trouble = "took-nothing" // it was not tried: the receiver takes nothing
)

// say is the trouble in words. status is what was answered; text what went wrong where nothing was.
func (t trouble) say(status int, text string) string {
	switch t {
	case refused:
		return fmt.Sprintf("it answered %d", status)
	case elsewhere:
		return fmt.Sprintf("it answered %d and sends elsewhere, where nobody follows", status)
	case cutOff:
		return "its answer was cut off"
	case tooSlow:
		return fmt.Sprintf("it did not answer within %s", answerTime)
	case nobody:
		return "nobody listens there"
	case unknownName:
		return "its name is not known"
	case inside:
		return "its address is one of the inside, which whoever runs the service has not let in (--allow-receivers)"
	case unsent:
		return "it could not be sent: " + text
	case waitsBehind:
		return "it waits behind what came before it of its subject"
	case tookNothing:
		return "the receiver took nothing at the moment"
	}
	return string(t)
}

// pausedGone is why a subscription is paused whose receiver answered 410.
const pausedGone = "gone"

// sayPaused says why one is paused.
func sayPaused(why string) string {
	if why == pausedGone {
		return "It answered 410: it wants to be told no more."
	}
	return why
}
