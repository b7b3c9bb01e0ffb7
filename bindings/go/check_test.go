package kembrel

import (
	"fmt"
	"reflect"
	"strings"
	"testing"
	"time"
)

// require says what must hold, in the words that the tests elsewhere use. It is our own here, as the module must need
// nothing, its tests included.
var require check

type check struct{}

func (check) True(t *testing.T, ok bool, why ...any) {
	t.Helper()
	if !ok {
		t.Fatal(append([]any{"it does not hold:"}, why...)...)
	}
}

func (c check) False(t *testing.T, ok bool, why ...any) {
	t.Helper()
	c.True(t, !ok, why...)
}

func (c check) Equal(t *testing.T, want, got any, why ...any) {
	t.Helper()
	c.True(t, reflect.DeepEqual(want, got), append(why, fmt.Sprintf("wanted %#v, got %#v", want, got))...)
}

func (c check) Empty(t *testing.T, text string, why ...any) {
	t.Helper()
	c.Equal(t, "", text, why...)
}

func (c check) NoError(t *testing.T, err error) {
	t.Helper()
	c.True(t, err == nil, err)
}

func (c check) ErrorContains(t *testing.T, err error, part string) {
	t.Helper()
	c.True(t, err != nil && strings.Contains(err.Error(), part), fmt.Sprintf("an error with %q, not %v", part, err))
}

func (c check) Eventually(t *testing.T, holds func() bool, within, every time.Duration) {
	t.Helper()
	for until := time.Now().Add(within); !holds(); time.Sleep(every) {
		c.True(t, time.Now().Before(until), "in time")
	}
}
