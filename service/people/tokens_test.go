package people

import (
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/store"
)

func TestWithin(t *testing.T) {
	scope := store.Scope{Networks: []string{"10.1.0.0/16", "2001:db8::/32", "192.0.2.7/32"}}
	for from, inside := range map[string]bool{"10.1.255.3": true, "::ffff:10.1.2.3": true, "10.2.0.1": false,
		"2001:db8::5": true, "2001:db9::5": false, "192.0.2.7": true, "": false, "harbour": false} {
		require.Equal(t, inside, within(scope, from) == nil, from)
	}
	require.NoError(t, within(store.Scope{}, "anywhere"))
}

func TestNetworks(t *testing.T) {
	got, err := networks([]string{"10.1.2.3/16", "192.0.2.7", "::1"})
	require.NoError(t, err)
	require.Equal(t, []string{"10.1.0.0/16", "192.0.2.7/32", "::1/128"}, got)
	for _, bad := range []string{"", "harbour", "10.1.0.0/99", "10.1.0.0/"} {
		_, err := networks([]string{bad})
		require.True(t, api.Is(err, api.Invalid), bad)
	}
	_, err = networks(make([]string, 21))
	require.ErrorContains(t, err, "more than 20")
}

func TestPlainName(t *testing.T) {
	for text, want := range map[string]string{"Rolf <Hale>": "Rolf Hale", "": "somebody", "<>": "somebody",
		"a@b.example": "a b.example", "  Ünal  Öz ": "Ünal Öz", "x\x00\n\ty": "x y"} {
		require.Equal(t, want, plainName(text), text)
	}
	require.LessOrEqual(t, len(plainName(string(make([]byte, 5000)))), 80)
}
