// Package notice makes what other systems are told: an event as a CloudEvent 1.0 in either HTTP mode, with a signature
// after the Standard Webhooks scheme, when to try again, and which addresses may be told anything. It sends nothing.
//
//	n := Notice{ID: "7", Source: "/projects/vessels", Type: Type("model", "entered")}
//	m, err := n.Structured()
//	m.Sign(secret, time.Now())
package notice
