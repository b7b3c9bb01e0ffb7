package compare

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Long values are cut to where they differ, and only where that tells them apart.
func TestBrief(t *testing.T) {
	long := strings.Repeat("station,", 6)
	for _, c := range []struct{ values, want []string }{
		{[]string{"0.1", "0.2", ""}, []string{"0.1", "0.2", ""}},
		{[]string{long + "mole", long + "quay", ""}, []string{"…ation,mole", "…ation,quay", ""}},
		{[]string{"mole," + long, "quay," + long},
			[]string{"mole,station,station,station,st…", "quay,station,station,station,st…"}},
		{[]string{"a" + long + "1", "a" + long + "2", "b" + long + "3"}, // two would be alike
			[]string{"a" + long + "1", "a" + long + "2", "b" + long + "3"}},
		{[]string{long, long}, []string{"…ation,", "…ation,"}},
		{[]string{long, "quay"}, []string{"station,station,station,station…", "quay"}},
		{[]string{strings.Repeat("ü", 40) + "a", strings.Repeat("ü", 40) + "b"}, []string{"…üüüüüüa", "…üüüüüüb"}},
	} {
		require.Equal(t, c.want, brief(c.values), c.values)
	}
}
