package filter

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestWeight(t *testing.T) {
	for text, want := range map[string]int{
		`number == 3`: 1,
		`hyper.lr <= 0.01 && state == "finished"`:         3,
		`best("loss.val") < 0.3 || last("loss.val") < 1`:  6,
		`evaluated("hydrophone#3:test").accuracy > 0.9`:   6,
		`number in [` + strings.Repeat("7,", 1899) + `8]`: 1 + 1900/25,
	} {
		n, err := Parse(text, time.Now())
		require.NoError(t, err, text)
		require.Equal(t, want, n.Weight(), text)
	}
	require.Zero(t, (*Node)(nil).Weight())
}
