package main

import (
	"context"
	"fmt"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/chromedp"

	"kembrel/api"
	"kembrel/client"
	"kembrel/test/browser"
)

// crowd is 50 runs that send 10 batches a second each, of 5 curves. The step of a reading is the time at which it was
// sent, in milliseconds since the crowd began, so that a page can tell how old it is.
type crowd struct {
	began time.Time
	first int // number of a run
	stop  context.CancelFunc
	wait  sync.WaitGroup
}

const (
	crowdRuns  = 50
	crowdPause = 100 * time.Millisecond
)

func (w *world) gather() (*crowd, error) {
	ctx, stop := context.WithCancel(context.Background())
	c := &crowd{began: time.Now(), stop: stop}
	names := []string{"loss.train", "loss.val", "accuracy.train", "accuracy.val", "gradient"}
	for range crowdRuns {
		leg, numbers, err := w.begin(names)
		if err != nil {
			return c, err
		}
		c.first = leg.Number
		c.wait.Go(func() {
			ticker := time.NewTicker(crowdPause)
			defer ticker.Stop()
			for n := int64(1); ; n++ {
				select {
				case <-ctx.Done():
					return
				case <-ticker.C:
				}
				step := time.Since(c.began).Milliseconds()
				b := &api.BatchInput{LegInput: leg, Body: api.Batch{Number: n, Upto: n,
					Axis: api.Axis{Step: api.Ints{step}, Epoch: api.Floats{float64(step) / 1000},
						Time: api.Ints{time.Now().UnixMilli()}}}}
				for i := range names {
					b.Body.Curves = append(b.Body.Curves, api.Column{Curve: numbers[i],
						Values: api.Floats{value(int(n), i, i)}})
				}
				if _, err := client.Call(ctx, w.client, api.SendBatch, b); err != nil {
					return
				}
			}
		})
	}
	return c, nil
}

// page opens the console signed in, at a path, and waits for a chart.
func (w *world) page(path, wait string) (context.Context, func(), error) {
	ctx, end, err := browser.Open(context.Background(), false)
	if err != nil {
		return nil, nil, err
	}
	link, err := client.Call(ctx, w.client, api.CreateLink, &struct{}{})
	if err == nil {
		err = chromedp.Do(ctx, chromedp.Navigate(w.client.URL+link.Path), chromedp.WaitVisible("main"),
			chromedp.Sleep(500*time.Millisecond),
			chromedp.Navigate(w.client.URL+path), chromedp.WaitVisible(wait))
	}
	if err != nil {
		end()
		return nil, nil, err
	}
	return ctx, end, nil
}

const countFrames = `new Promise(done => {
	let frames = 0
	const began = performance.now()
	const next = now => { frames++; now - began < 6000 ? requestAnimationFrame(next) : done(1000 * frames / (now - began)) }
	requestAnimationFrame(next)
})`

func (w *world) framesOf(path, wait string) (float64, error) {
	ctx, end, err := w.page(path, wait)
	if err != nil {
		return 0, err
	}
	defer end()
	return chromedp.Run(ctx, chromedp.Evaluate[float64](countFrames, chromedp.EvalAwaitPromise))
}

// frames measures how often the browser draws while a run's page follows it and 50 runs are written, against a page
// that stands still.
func (w *world) frames(what, path, wait string) row {
	return row{what: "frames a second, 50 runs written 10 times a second, " + what,
		reference: "the sign-in page, nothing written", unit: "frames/s", want: ">= 30", more: true, rounds: 2,
		theirs: func() (float64, error) { return w.framesOf("/sign-in", "main") },
		ours: func() (float64, error) {
			c, err := w.gather()
			if err != nil {
				return 0, err
			}
			defer c.end()
			time.Sleep(2 * time.Second)
			if strings.Contains(path, "%d") {
				return w.framesOf(fmt.Sprintf(path, c.first), wait)
			}
			return w.framesOf(path, wait)
		}}
}

func (c *crowd) end() { c.stop(); c.wait.Wait() }

// delay measures how old readings are when the page shows them: the 95th percentile, with 50 runs writing.
func (w *world) delay() row {
	measure := func() (float64, error) {
		c, err := w.gather()
		if err != nil {
			return 0, err
		}
		defer c.end()
		time.Sleep(2 * time.Second)
		ctx, end, err := w.page(fmt.Sprintf("/vessels/%d?axis=step", c.first), ".u-over")
		if err != nil {
			return 0, err
		}
		defer end()
		if err := chromedp.Do(ctx, chromedp.Click("figure figcaption button[aria-expanded]"),
			chromedp.WaitVisible("figure .readings tbody tr")); err != nil {
			return 0, err
		}
		// The table's last row is drawn in the same frame as the chart's last point.
		ages, err := chromedp.Run(ctx, chromedp.Evaluate[[]float64](fmt.Sprintf(`new Promise(done => {
			const ages = [], began = performance.now()
			let seen = 0
			const next = now => {
				const rows = document.querySelectorAll('figure .readings tbody tr')
				const last = Number(rows[rows.length - 1].cells[1].innerText)
				for (let i = rows.length - 1; seen && i >= 0; i--) {
					const step = Number(rows[i].cells[1].innerText)
					if (step <= seen) break
					ages.push(Date.now() - %d - step)
				}
				seen = last
				now - began < 8000 ? requestAnimationFrame(next) : done(ages)
			}
			requestAnimationFrame(next)
		})`, c.began.UnixMilli()), chromedp.EvalAwaitPromise))
		if err != nil || len(ages) < 10 {
			return 0, fmt.Errorf("%d changes seen: %w", len(ages), err)
		}
		sort.Float64s(ages)
		return ages[len(ages)*95/100] / 1000, nil
	}
	return row{what: "from a reading sent to the drawn point, 95th percentile, 50 runs writing", reference: "(itself)",
		unit: "s", want: "<= 1 s (0.5)", rounds: 2, theirs: measure, ours: measure}
}

// opens measures how long the long run's page takes until its chart is drawn, and then a zoom of it.
func (w *world) opens(zoom bool) row {
	measure := func() (float64, error) {
		if _, _, err := w.longRun(); err != nil {
			return 0, err
		}
		ctx, end, err := w.page("/vessels", "tbody tr")
		if err != nil {
			return 0, err
		}
		defer end()
		began := time.Now()
		if err := chromedp.Do(ctx,
			chromedp.Navigate(fmt.Sprintf("%s/vessels/%d?axis=step", w.client.URL, w.longNumber)),
			chromedp.WaitVisible(".u-over")); err != nil {
			return 0, err
		}
		took := time.Since(began)
		if !zoom {
			return took.Seconds(), nil
		}
		took2, err := chromedp.Run(ctx, chromedp.Evaluate[float64](`(async () => {
			const host = document.querySelector('figure .host')
			const label = () => performance.getEntriesByType('resource').filter(e => e.name.includes('/curves?')).length
			await new Promise(done => setTimeout(done, 800))
			const before = label(), began = performance.now()
			host.dispatchEvent(new KeyboardEvent('keydown', {key: '+', bubbles: true}))
			while (label() === before) await new Promise(requestAnimationFrame)
			await new Promise(requestAnimationFrame)
			return (performance.now() - began) / 1000
		})()`, chromedp.EvalAwaitPromise))
		return took2, err
	}
	what := "a run of 10M readings: its page opened, first chart drawn"
	if zoom {
		what = "a run of 10M readings: zoomed by key, finer readings there"
	}
	return row{what: what, reference: "(itself)", unit: "s", want: "without waiting", rounds: 2,
		theirs: measure, ours: measure}
}
