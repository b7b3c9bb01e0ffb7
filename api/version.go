package api

// Level says what a client and a service can say to each other. It rises when something is added that the other side
// must know to do right; both tell theirs with every request and answer, so that what does not fit can be said in
// words.
const Level = 2

// LowestLevel is the lowest level of a client that this service still serves. Clients of before levels say none, and
// are of level 1.
const LowestLevel = 1

// The headers of every request and answer.
const (
	LevelHeader   = "Kembrel-Level"
	VersionHeader = "Kembrel-Version" // of answers
	TimeHeader    = "Kembrel-Time"    // by the sender's clock, in milliseconds since 1970
)
