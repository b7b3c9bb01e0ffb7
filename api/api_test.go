package api

import (
	"encoding/json"
	"math"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAddresses(t *testing.T) {
	for text, want := range map[string]Address{
		"vessels":          {Project: "vessels"},
		"vessels/17":       {Project: "vessels", Run: 17},
		"vessels/17@e12":   {Project: "vessels", Run: 17, At: At{Kind: AtEpoch, Epoch: 12}},
		"vessels/17@e2.5":  {Project: "vessels", Run: 17, At: At{Kind: AtEpoch, Epoch: 2.5}},
		"vessels/17@s4800": {Project: "vessels", Run: 17, At: At{Kind: AtStep, Step: 4800}},
		"vessels/17@best":  {Project: "vessels", Run: 17, At: At{Kind: AtBest}},
		"a-1/1@last":       {Project: "a-1", Run: 1, At: At{Kind: AtLast}},
	} {
		got, err := ParseAddress(text)
		require.NoError(t, err, text)
		require.Equal(t, want, got)
		require.Equal(t, text, got.String())
	}
	for _, bad := range []string{"", "/", "Vessels", "vessels/", "vessels/0", "vessels/-1", "vessels/01", "vessels/+1",
		"vessels/1x", "vessels/99999999999",
		"vessels@best", "vessels/1@", "vessels/1@e", "vessels/1@eNaN", "vessels/1@e-1", "vessels/1@e1e5", "vessels/1@s",
		"vessels/1@s1.5", "vessels/1@s-1",
		"vessels/1@s+1", "vessels/1@first", "vessels/1@best@best", "1vessels/1", "ves sels",
		"vessels/1/2", "vessels\n/1"} {
		_, err := ParseAddress(bad)
		require.Error(t, err, "%q", bad)
	}
}

func FuzzParseAddress(f *testing.F) {
	for _, s := range []string{"vessels/17@e12", "vessels/17@s4800", "a/1@best", "a@b/1"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		a, err := ParseAddress(text)
		if err != nil {
			return
		}
		again, err := ParseAddress(a.String())
		if err != nil || again != a {
			t.Fatalf("%q is %v, which is written %q and read as %v, %v", text, a, a, again, err)
		}
	})
}

func TestFloatsInJSON(t *testing.T) {
	in := Floats{1, math.NaN(), math.Inf(1), math.Inf(-1), math.Copysign(0, -1), 5e-324, 0.1}
	text, err := json.Marshal(in)
	require.NoError(t, err)
	require.Equal(t, `[1,"NaN","Infinity","-Infinity",-0,5e-324,0.1]`, string(text))
	var out Floats
	require.NoError(t, json.Unmarshal(text, &out))
	for i := range in {
		if math.IsNaN(in[i]) {
			require.True(t, math.IsNaN(out[i]))
		} else {
			require.Equal(t, math.Float64bits(in[i]), math.Float64bits(out[i]))
		}
	}
	for _, bad := range []string{`"0.5"`, `"nan"`, `null`, `true`, `1e999`, `{}`, `"Infinity "`} {
		var f Float
		require.Error(t, json.Unmarshal([]byte(bad), &f), bad)
	}
	require.ErrorContains(t, json.Unmarshal([]byte(`[1,"x"]`), &out), "value 1")
	for text, want := range map[string]Floats{`[]`: {}, ` [ ] `: {}, "[ 1 ,\n -2e3 ]": {1, -2000}, `null`: nil} {
		require.NoError(t, json.Unmarshal([]byte(text), &out), text)
		require.Equal(t, want, out)
	}
	for _, bad := range []string{`[1,]`, `[,1]`, `[[1]]`, `[1,[2]]`, `{"a":1}`, `"NaN"`, `[null]`, `[true]`,
		`["a,b"]`, `[1 2]`} {
		require.Error(t, json.Unmarshal([]byte(bad), &out), bad)
	}
}

func TestBytes(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 999: "999 B", 1000: "1.00 kB", 9_994: "9.99 kB", 9_999: "10.0 kB",
		99_950: "100 kB", 999_499: "999 kB", 999_500: "1.00 MB", 31_400_000: "31.4 MB"} {
		require.Equal(t, want, Bytes(n))
	}
}

func TestEveryKindHasStatusAndTitle(t *testing.T) {
	for kind, k := range kinds {
		require.NotZero(t, k.status, kind)
		p := Fail(kind, "x")
		require.Equal(t, kind, p.Kind())
		require.True(t, Is(p, kind))
		require.NotEmpty(t, p.Title)
	}
	require.Equal(t, Internal, KindOfStatus(599))
	require.Equal(t, Malformed, KindOfStatus(418))
}

func TestThousands(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 999: "999", 1000: "1,000", 1234567: "1,234,567"} {
		require.Equal(t, want, Thousands(n))
	}
}
