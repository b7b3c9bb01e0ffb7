package notice

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
)

// TypePrefix begins the type of every event.
const TypePrefix = "internal.kembrel."

// Type is the CloudEvents type of a kind of event and its verb: internal.kembrel.edition.entered.
func Type(kind, verb string) string { return TypePrefix + kind + "." + verb }

// Notice is an event as others are told of it: the attributes of CloudEvents 1.0, and its data.
type Notice struct {
	ID      string // unique within Source; the same whenever it is told again
	Source  string // a URI reference
	Type    string
	Subject string // "": none
	Time    time.Time
	Data    json.RawMessage
}

// Message is a notice as it goes over HTTP.
type Message struct {
	ID      string
	Headers map[string]string
	Body    []byte
}

// attributes are those of CloudEvents 1.0, section 3, by name.
func (n Notice) attributes() map[string]string {
	out := map[string]string{"specversion": "1.0", "id": n.ID, "source": n.Source, "type": n.Type,
		"time": n.Time.UTC().Format(time.RFC3339Nano), "datacontenttype": "application/json"}
	if n.Subject != "" {
		out["subject"] = n.Subject
	}
	return out
}

// Structured is the message whose body is the whole event in JSON (HTTP protocol binding, section 3.2).
func (n Notice) Structured() (Message, error) {
	event := map[string]any{"data": n.Data}
	for name, value := range n.attributes() {
		event[name] = value
	}
	body, err := json.Marshal(event)
	if err != nil {
		return Message{}, fmt.Errorf("write the event: %w", err)
	}
	return Message{n.ID, map[string]string{"Content-Type": "application/cloudevents+json; charset=utf-8"}, body}, nil
}

// Binary is the message whose body is the data alone, with the attributes as headers (HTTP protocol binding, section
// 3.1).
func (n Notice) Binary() Message {
	headers := map[string]string{"Content-Type": "application/json"}
	for name, value := range n.attributes() {
		if name != "datacontenttype" {
			headers["ce-"+name] = headerValue(value)
		}
	}
	return Message{n.ID, headers, n.Data}
}

// headerValue is a value with what headers do not bear percent-encoded (HTTP protocol binding, section 3.1.3.2).
func headerValue(s string) string {
	var b strings.Builder
	var bytes [utf8.UTFMax]byte
	for _, r := range s {
		if r > ' ' && r < 0x7f && r != '"' && r != '%' {
			b.WriteRune(r)
			continue
		}
		for _, c := range bytes[:utf8.EncodeRune(bytes[:], r)] {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

// SecretBytes is how many random bytes a secret has.
const SecretBytes = 32

// Sign adds the headers of the Standard Webhooks scheme: identity, time in seconds, and a signature by each secret over
// both and the body.
func (m *Message) Sign(at time.Time, secrets ...[]byte) error {
	var signatures []string
	for _, secret := range secrets {
		hook, err := standardwebhooks.NewWebhookRaw(secret)
		if err != nil {
			return fmt.Errorf("sign: %w", err)
		}
		s, err := hook.Sign(m.ID, at, m.Body)
		if err != nil {
			return fmt.Errorf("sign: %w", err)
		}
		signatures = append(signatures, s)
	}
	m.Headers[standardwebhooks.HeaderWebhookID] = m.ID
	m.Headers[standardwebhooks.HeaderWebhookTimestamp] = fmt.Sprint(at.Unix())
	m.Headers[standardwebhooks.HeaderWebhookSignature] = strings.Join(signatures, " ")
	return nil
}

// Kinds chooses events: "edition.entered", "edition.*" for all of a kind; none: all.
type Kinds []string

// Check says what is wrong with them; nil: nothing.
func (k Kinds) Check() error {
	for _, p := range k {
		kind, verb, ok := strings.Cut(p, ".")
		if !ok || !word(kind) || verb != "*" && !word(verb) {
			return fmt.Errorf("%.60q names no events; write such as edition.entered, run.* for all of runs", p)
		}
	}
	return nil
}

// Has reports whether events of a kind and verb are among them.
func (k Kinds) Has(kind, verb string) bool {
	return len(k) == 0 || slices.Contains(k, kind+"."+verb) || slices.Contains(k, kind+".*")
}

func word(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(r rune) bool { return (r < 'a' || r > 'z') && r != '-' })
}

// Of reports whether a subject is another or under it: vessel-classifier#3 is of vessel-classifier, and vessels/17@best
// of vessels/17. Every subject is of "".
func Of(subject, other string) bool {
	rest, ok := strings.CutPrefix(subject, other)
	return ok && (other == "" || rest == "" || strings.ContainsAny(rest[:1], "#/@:"))
}
