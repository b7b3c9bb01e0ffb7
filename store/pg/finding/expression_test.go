package finding

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"kembrel/core/filter"
	"kembrel/store/pg/db"
)

// Every field that an expression may name is said in SQL, and nothing else.
func TestEveryFieldIsThere(t *testing.T) {
	require.Len(t, fields, len(filter.Fields))
	for _, f := range filter.Fields {
		require.Contains(t, fields, f.Name)
	}
}

var noon = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

// An expression joins what it reads, once, however deep it stands.
func TestJoins(t *testing.T) {
	b := &builder{args: db.A{}, lower: func(string) bool { return true }}
	read := func(text string) rows {
		n, err := filter.Parse(text, noon)
		require.NoError(t, err)
		return b.truth(n).reads
	}
	require.Zero(t, read(`state == "lost" && hyper.lr < 0.1`))
	require.Equal(t, maker, read(`!(who == "ines" || who.startsWith("in"))`))
	require.Equal(t, maker|newest, read(`step + epoch > 3 && (who == "ines" || title == "x")`))
	n, err := filter.ParseValue("hyper.lr", noon)
	require.NoError(t, err)
	require.Equal(t, sorting, b.sortable(n, false).reads)
	require.Empty(t, rows(0).joins())
	require.Contains(t, (maker | sorting).joins(), "person p")
	require.NotContains(t, (maker | sorting).joins(), "leg")
}
