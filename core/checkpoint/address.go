package checkpoint

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
)

// At says which checkpoint of a run is meant:
//
//	e12           that of epoch 12 in the run's present course
//	s4800         that at step 4800 in the present course
//	s4800.leg1    the one that leg 1 saved at step 4800, also where a later leg began before it
//	best, last    the one nearest at or before the objective's best reading, and the latest
type At struct {
	Kind  AtKind
	Epoch float64
	Step  int64
	Leg   int // of AtStep; 0: the present course
}

// AtKind is the way in which At names a checkpoint.
type AtKind int

// The ways to name a checkpoint.
const (
	AtNone AtKind = iota
	AtEpoch
	AtStep
	AtBest
	AtLast
)

// ParseAt reads the part of an address behind the "@".
func ParseAt(text string) (At, error) {
	switch {
	case text == "best":
		return At{Kind: AtBest}, nil
	case text == "last":
		return At{Kind: AtLast}, nil
	case strings.HasPrefix(text, "e"):
		epoch, err := strconv.ParseFloat(text[1:], 64)
		if err == nil && epoch >= 0 && !math.IsInf(epoch, 0) && strings.Trim(text[1:], "0123456789.") == "" {
			return At{Kind: AtEpoch, Epoch: epoch}, nil
		}
	case strings.HasPrefix(text, "s"):
		number, leg, ofLeg := strings.Cut(text[1:], ".leg")
		step, err := strconv.ParseInt(number, 10, 64)
		at := At{Kind: AtStep, Step: step}
		if ofLeg && err == nil {
			if at.Leg, err = strconv.Atoi(leg); err == nil && (at.Leg < 1 || strconv.Itoa(at.Leg) != leg) {
				err = strconv.ErrRange
			}
		}
		if err == nil && step >= 0 && number[0] != '+' {
			return at, nil
		}
	}
	return At{}, fmt.Errorf("%.40q names no checkpoint", "@"+text)
}

// String writes the part behind the "@", or "".
func (a At) String() string {
	switch a.Kind {
	case AtEpoch:
		return "e" + strconv.FormatFloat(a.Epoch, 'f', -1, 64)
	case AtStep:
		text := "s" + strconv.FormatInt(a.Step, 10)
		if a.Leg > 0 {
			text += ".leg" + strconv.Itoa(a.Leg)
		}
		return text
	case AtBest:
		return "best"
	case AtLast:
		return "last"
	}
	return ""
}

// Stand is where a checkpoint stands in its run. A replaced one is not of the run's present course: a later leg began
// before it.
type Stand struct {
	Leg        int
	Step       int64
	Epoch      float64 // NaN where it is not known
	Replaced   bool
	Best, Last bool
}

// Own is the address that means this checkpoint and no other. shared says that a later one of the present course has
// its epoch.
func (s Stand) Own(shared bool) At {
	switch {
	case s.Replaced:
		return At{Kind: AtStep, Step: s.Step, Leg: s.Leg}
	case math.IsNaN(s.Epoch) || shared:
		return At{Kind: AtStep, Step: s.Step}
	}
	return At{Kind: AtEpoch, Epoch: s.Epoch}
}

// Addresses gives each of a run's checkpoints, latest first, its own address. Find with it finds that one again.
func Addresses(stands []Stand) []At {
	out, epochs := make([]At, len(stands)), map[float64]bool{}
	for i, s := range stands {
		out[i] = s.Own(epochs[s.Epoch])
		epochs[s.Epoch] = epochs[s.Epoch] || !s.Replaced
	}
	return out
}

// Find returns the index of the checkpoint that is meant, or -1, among a run's, latest first.
func Find(stands []Stand, at At) int {
	return slices.IndexFunc(stands, func(s Stand) bool {
		switch at.Kind {
		case AtBest:
			return s.Best
		case AtLast:
			return s.Last
		case AtEpoch:
			return s.Epoch == at.Epoch && !s.Replaced
		case AtStep:
			return s.Step == at.Step && (at.Leg == s.Leg || at.Leg == 0 && !s.Replaced)
		}
		return false
	})
}
