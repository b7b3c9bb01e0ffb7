package notice

import "time"

// A message that is not taken is sent again after FirstPause, then after pauses that grow twofold up to LongestPause,
// until Patience is over: about two dozen times in three days.
const (
	FirstPause   = 5 * time.Second
	LongestPause = 6 * time.Hour
	Patience     = 72 * time.Hour
)

// Pause is how long to wait behind the nth attempt that failed, from 1. chance, in [0, 1), spreads it by a fifth to
// either side, so that many who wait do not come at once. asked is what the receiver asked for, 0: nothing; it counts
// where it is longer, up to a day.
func Pause(attempt int, asked time.Duration, chance float64) time.Duration {
	pause := FirstPause
	for range min(attempt, 20) - 1 {
		pause = min(2*pause, LongestPause)
	}
	pause = max(pause, min(asked, 24*time.Hour))
	return time.Duration(float64(pause) * (0.8 + 0.4*chance))
}

// Hopeless reports whether what was first tried at a time is given up now.
func Hopeless(first, now time.Time) bool { return now.Sub(first) >= Patience }
