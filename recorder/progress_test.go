package recorder

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestSayProgress(t *testing.T) {
	require.Equal(t, "sending; 12 readings, 1 checkpoints and 300 MB of chunks so far",
		sayProgress(12, 1, 300e6, 0, time.Second, 300e6))
	require.Equal(t,
		"sending; 12 readings, 1 checkpoints and 300 MB of chunks so far; 600 MB at most to go, at 150 MB a second in about 4s", sayProgress(12, 1, 300e6, 600e6, 2*time.Second, 300e6))
	require.Equal(t, "sending; 0 readings, 0 checkpoints and 0 B of chunks so far; 600 MB at most to go",
		sayProgress(0, 0, 0, 600e6, 2*time.Second, 0))
}
