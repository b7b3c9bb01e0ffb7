package stories

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/stretchr/testify/require"
)

// Every step in the browser waits for what it reads: a page draws when it has its answers, on a slow machine later.
// None of these reads once; what throws, as where an element is not there yet, is tried again.

// pageTime is how long a step waits.
const pageTime = 60 * time.Second

// do runs actions in the browser with a time limit; when they fail, the page is kept for a look.
func do(t *testing.T, ctx context.Context, what string, actions ...chromedp.Action[chromedp.Void]) {
	t.Helper()
	limited, cancel := context.WithTimeout(ctx, pageTime)
	defer cancel()
	if err := chromedp.Do(limited, actions...); err != nil {
		require.NoError(t, err, "%s; the page shows:\n%s", what, pageText(ctx))
	}
}

func pageText(ctx context.Context) string {
	limited, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	text, _ := chromedp.Run(limited, chromedp.Evaluate[string]("location.href + '\\n' + document.body.innerText"))
	return text
}

// act does something in the page as soon as it can be done.
func act(script string) chromedp.Action[chromedp.Void] {
	return again(chromedp.Evaluate[chromedp.Void]("(() => { " + script + " })()"))
}

// until waits for a condition.
func until(condition string) chromedp.Action[chromedp.Void] {
	return again(chromedp.Evaluate[chromedp.Void](`(() => { if (!(` + condition + `)) throw new Error('not yet') })()`))
}

func again(action chromedp.Action[chromedp.Void]) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, target *chromedp.Target) (v chromedp.Void, err error) {
		for {
			if v, err = action(ctx, target); err == nil {
				return v, nil
			}
			select {
			case <-ctx.Done():
				return v, fmt.Errorf("%w: %w", ctx.Err(), err)
			case <-time.After(50 * time.Millisecond):
			}
		}
	}
}

// await reads an expression until it can be read and ok takes it; nil takes anything.
func await[T any](t *testing.T, ctx context.Context, expression string, ok func(T) bool, why ...any) (v T) {
	t.Helper()
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		var err error
		v, err = chromedp.Run(ctx, chromedp.Evaluate[T](expression, chromedp.EvalAwaitPromise))
		if err == nil && (ok == nil || ok(v)) {
			return v
		}
		if time.Since(began) > pageTime || ctx.Err() != nil {
			require.Fail(t, "the page does not come to what was awaited", "%s: %v (%v)\n%s\nthe page shows:\n%s",
				expression, v, err, fmt.Sprint(why...), pageText(ctx))
		}
	}
}

// shows waits until a text in the page has a part.
func shows(t *testing.T, ctx context.Context, expression, part string, why ...any) {
	t.Helper()
	await(t, ctx, expression, func(text string) bool { return strings.Contains(text, part) },
		append([]any{"wanted: ", part, " "}, why...)...)
}

// is waits until an expression has a value.
func is[T comparable](t *testing.T, ctx context.Context, expression string, want T, why ...any) {
	t.Helper()
	await(t, ctx, expression, func(v T) bool { return v == want }, append([]any{"wanted: ", want, " "}, why...)...)
}
