// Package recorder is the small process beside a training program: it takes its messages, keeps them in a spool, and
// sends them on in the background. Training never waits for the service and never fails because of it.
//
// It imports protocol, spool, client, api and core.
package recorder
