package main

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"time"

	"github.com/chromedp/chromedp"

	"kembrel/test/browser"
)

func main() { // link base path wait scrollY out
	ctx, end, err := browser.Open(context.Background(), false)
	if err != nil {
		panic(err)
	}
	defer end()
	y, _ := strconv.Atoi(os.Args[5])
	err = chromedp.Do(ctx, chromedp.Navigate(os.Args[1]), chromedp.WaitVisible("tbody tr"), chromedp.Navigate(os.Args[2]+os.Args[3]), chromedp.WaitVisible(os.Args[4]), chromedp.Sleep(900*time.Millisecond),
		chromedp.Evaluate[chromedp.Void](fmt.Sprintf("window.scrollTo(0,%d)", y)), chromedp.Sleep(200*time.Millisecond))
	if err != nil {
		panic(err)
	}
	chromedp.Do(ctx, func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		png, err := chromedp.CaptureScreenshot()(ctx, t)
		os.WriteFile(os.Args[6], png, 0o644)
		return chromedp.Void{}, err
	})
}
