package api

import (
	"errors"
	"fmt"
)

// Kind is the class of a problem; docs/problems.md explains each. Its type URI is "urn:kembrel:problem:" and the kind.
type Kind string

// The kinds of problem.
const (
	Malformed   Kind = "malformed"   // the request cannot be read
	Invalid     Kind = "invalid"     // it can be read, and a value in it is not acceptable
	SignedOut   Kind = "signed-out"  // no valid token or session
	Denied      Kind = "denied"      // known, but not allowed
	NotFound    Kind = "not-found"   // no such thing
	NotAllowed  Kind = "not-allowed" // no such method here
	Gone        Kind = "gone"        // it was here and has been dropped
	Conflict    Kind = "conflict"    // it contradicts what is there
	BatchGap    Kind = "batch-gap"   // batches before this one are missing
	LegClaimed  Kind = "leg-claimed" // another recorder writes this leg
	Mismatch    Kind = "mismatch"    // bytes do not have the digest or size they were announced with
	TooLarge    Kind = "too-large"   // body or value over its limit
	TooMany     Kind = "too-many"    // too many tries, or too much at once; wait
	Unavailable Kind = "unavailable" // the database or the blob store does not answer; try again
	// the service's disk keeps the rest for the database; readings still go, checkpoints wait
	NoRoom       Kind = "no-room"
	ChunkGone    Kind = "chunk-gone"    // a chunk is not where it was kept; it may come back
	ChunkBad     Kind = "chunk-bad"     // a chunk's bytes are not those it is named by
	Internal     Kind = "internal"      // a fault of the service
	TooCostly    Kind = "too-costly"    // answering would take the service too long; ask for less
	TooSlow      Kind = "too-slow"      // the request did not arrive or finish in time
	TooOld       Kind = "too-old"       // the client is of before what this service still serves
	BadMedia     Kind = "bad-media"     // a content type that is not read or written here
	Unreadable   Kind = "unreadable"    // what is kept is no valid file of its kind
	NoRange      Kind = "no-range"      // none of the ranges asked for is in the content
	TooLong      Kind = "too-long"      // the address is over its limit
	HeadTooLong  Kind = "head-too-long" // the header fields are over their limit
	Precondition Kind = "precondition"  // a condition of the request does not hold
	Expectation  Kind = "expectation"   // the request expects something other than 100-continue
)

var kinds = map[Kind]struct {
	status int
	title  string
}{
	Malformed:    {400, "The request cannot be read"},
	Invalid:      {422, "A value is not acceptable"},
	SignedOut:    {401, "Sign in first"},
	Denied:       {403, "Not allowed"},
	NotFound:     {404, "Not found"},
	NotAllowed:   {405, "Method not allowed here"},
	Gone:         {410, "No longer here"},
	Conflict:     {409, "It contradicts what is there"},
	BatchGap:     {409, "Batches before this one are missing"},
	LegClaimed:   {409, "Another recorder writes this leg"},
	Mismatch:     {422, "The bytes are not those announced"},
	TooLarge:     {413, "Too large"},
	TooMany:      {429, "Too many at once"},
	Unavailable:  {503, "Storage does not answer"},
	NoRoom:       {507, "No room for checkpoints"},
	ChunkGone:    {503, "A chunk is not where it was kept"},
	ChunkBad:     {500, "A chunk is damaged"},
	Internal:     {500, "A fault of the service"},
	TooCostly:    {422, "It would take too long"},
	TooSlow:      {408, "Too slow"},
	TooOld:       {426, "The client is too old"},
	BadMedia:     {415, "Unknown content type"},
	Unreadable:   {422, "The file cannot be read"},
	NoRange:      {416, "No such range"},
	TooLong:      {414, "The address is too long"},
	HeadTooLong:  {431, "The header fields are too long"},
	Precondition: {412, "A condition does not hold"},
	Expectation:  {417, "That cannot be expected"},
}

const problemPrefix = "urn:kembrel:problem:"

// Problem is an error as RFC 9457 writes it.
type Problem struct {
	Type   string   `json:"type" doc:"urn:kembrel:problem: and the kind; docs/problems.md explains each"`
	Title  string   `json:"title" doc:"The kind in words"`
	Status int      `json:"status" doc:"HTTP status"`
	Detail string   `json:"detail,omitempty" doc:"What is wrong and what to do"`
	Errors []Detail `json:"errors,omitempty" doc:"The values that are wrong, one by one"`
	Batch  int64    `json:"batch,omitempty" doc:"batch-gap: the last batch that was counted"`
	Field  string   `json:"field,omitempty" doc:"invalid: which value is wrong, such as where"`
	Column int      `json:"column,omitempty" doc:"invalid: the character of the field at which it is wrong, from 1"`
	Upto   int64    `json:"upto,omitempty" doc:"batch-gap: the last record that was counted"`
}

// Detail is one wrong value of a request.
type Detail struct {
	Location string `json:"location,omitempty" doc:"Where in the request, such as body.title"`
	Message  string `json:"message" doc:"What is wrong"`
}

// Fail makes a problem; format and args say what is wrong and what to do.
func Fail(kind Kind, format string, args ...any) *Problem {
	k := kinds[kind]
	return &Problem{Type: problemPrefix + string(kind), Title: k.title, Status: k.status,
		Detail: fmt.Sprintf(format, args...)}
}

// KindOfStatus is the kind that stands for a bare HTTP status.
func KindOfStatus(status int) Kind {
	for _, k := range []Kind{Malformed, SignedOut, Denied, NotFound, NotAllowed, TooSlow, Conflict, Precondition,
		TooLarge, TooLong, BadMedia, NoRange, Invalid, Expectation, TooMany, HeadTooLong, Unavailable} {
		if kinds[k].status == status {
			return k
		}
	}
	if status >= 400 && status < 500 {
		return Malformed
	}
	return Internal
}

// Error implements error.
func (p *Problem) Error() string {
	text := p.Detail
	if text == "" {
		text = p.Title
	}
	for _, e := range p.Errors {
		text += "; "
		if e.Location != "" {
			text += e.Location + ": "
		}
		text += e.Message
	}
	return text
}

// GetStatus is what the HTTP layer sends.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is what RFC 9457 asks for.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Kind is the problem's kind.
func (p *Problem) Kind() Kind {
	if len(p.Type) > len(problemPrefix) {
		return Kind(p.Type[len(problemPrefix):])
	}
	return Internal
}

// Is reports whether err is a problem of this kind.
func Is(err error, kind Kind) bool {
	var p *Problem
	return errors.As(err, &p) && p.Kind() == kind
}
