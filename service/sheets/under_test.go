package sheets

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
)

// A sheet is assessed once, however often it is sent, and whether or not whoever sent it waits.
func TestASheetIsAssessedOnce(t *testing.T) {
	var u under
	key, open, times := uuid.NewString(), make(chan struct{}), 0
	do := func(ctx context.Context) (*api.Sheet, error) {
		times++
		select {
		case <-open:
			return &api.Sheet{Number: 7}, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	ctx, leave := context.WithCancel(t.Context())
	first, err := u.begin(ctx, key, do)
	require.NoError(t, err)
	leave()
	second, err := u.begin(t.Context(), key, do)
	require.NoError(t, err)
	require.Same(t, first, second)
	close(open)
	<-second.done
	require.NoError(t, second.err)
	require.Equal(t, 7, second.sheet.Number)
	require.Equal(t, 1, times)
}

func TestSheetsThatWaitAreBounded(t *testing.T) {
	var u under
	open := make(chan struct{})
	wait := func(context.Context) (*api.Sheet, error) { <-open; return nil, errors.New("bad") }
	for range mostUnder {
		_, err := u.begin(t.Context(), uuid.NewString(), wait)
		require.NoError(t, err)
	}
	_, err := u.begin(t.Context(), uuid.NewString(), wait)
	require.True(t, api.Is(err, api.TooMany), err)
	close(open)
	require.Eventually(t, func() bool {
		u.mutex.Lock()
		defer u.mutex.Unlock()
		return len(u.jobs) == 0
	}, 10*time.Second, time.Millisecond)
}
