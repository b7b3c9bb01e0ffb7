// Command screenshots takes pictures of the running demo for the docs: pages in a headless browser, commands in a
// terminal window.
//
//	screenshots --out docs/screenshots --link http://127.0.0.1:7420/enter#... --kembrel build/kembrel
package main

import (
	"context"
	"flag"
	"fmt"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"kembrel/test/browser"
)

type page struct{ name, path, wait string }

func main() {
	out := flag.String("out", "docs/screenshots", "folder for the pictures")
	link := flag.String("link", "", "one-time sign-in link")
	kembrel := flag.String("kembrel", "build/kembrel", "binary")
	only := flag.String("only", "", "only pictures whose name contains this")
	flag.Parse()
	if err := os.MkdirAll(*out, 0o755); err != nil {
		log.Fatal(err)
	}
	base := strings.SplitN(*link, "/enter", 2)[0]
	pages := []page{
		{"projects", "/", "tbody tr"},
		{"runs", "/vessels?sort=best&where=hyper.lr%20%3C=%200.05&tray=3,12,13", "tbody tr svg"},
		{"compare", "/vessels/compare?runs=10,11,12,13,14,15,16,17,18", "figure .u-over"},
		{"compare-mattered-dark", "/vessels/compare?runs=10,11,12,13,14,15,16,17,18",
			"section.q:nth-of-type(5) figure"},
		{"run", "/vessels/3", ".u-over"},
		{"storage", "/vessels/storage", ".keep circle"},
		{"access", "/vessels/access", "tbody tr"},
		{"data", "/data/hydrophone/1", "tbody tr"},
		{"lineage", "/lineage?of=hydrophone%232", "g.node"},
		{"predictions-dark", "/vessels/21/predictions", "svg[role=application]"},
		{"checkpoint", "/vessels/3/checkpoints/best", ".tensors"},
		{"model", "/catalogue/vessel-classifier", ".waits button"},
		{"run-evidence", "/vessels/19?file=0:report/report.txt#evaluations", "#files pre"},
	}
	if err := takePages(*out, *link, base, pages, *only); err != nil {
		log.Fatal(err)
	}
	commands := [][2]string{
		{"terminal-runs", "runs vessels --limit 14"},
		{"terminal-compare", "compare 10 11 12 13 14 15 16 17 18 --project vessels --groups"},
		{"terminal-curves", "curves vessels/3 --names loss.train,loss.val"},
		{"terminal-follow", "follow vessels/5"},
		{"terminal-show", "show vessels/3"},
		{"terminal-confusion", "confusion vessels/21"},
	}
	for _, c := range commands {
		if strings.Contains(c[0], *only) {
			if err := terminal(filepath.Join(*out, c[0]+".png"), *kembrel, c[1]); err != nil {
				log.Fatalf("%s: %v", c[0], err)
			}
		}
	}
}

func takePages(out, link, base string, pages []page, only string) error {
	ctx, end, err := browser.Open(context.Background(), false)
	if err != nil {
		return err
	}
	defer end()
	if err := chromedp.Do(ctx, chromedp.Navigate(link), chromedp.WaitVisible("tbody tr")); err != nil {
		return fmt.Errorf("enter: %w", err)
	}
	for _, p := range pages {
		if !strings.Contains(p.name, only) {
			continue
		}
		theme := "light"
		if strings.HasSuffix(p.name, "dark") {
			theme = "dark"
		}
		err := chromedp.Do(ctx,
			chromedp.Evaluate[chromedp.Void](fmt.Sprintf("localStorage.setItem('kembrel-theme', %q)", theme)),
			chromedp.Navigate(base+"/sign-in"), chromedp.Navigate(base+p.path), chromedp.WaitVisible(p.wait),
			chromedp.Sleep(800*time.Millisecond))
		if err == nil && strings.Contains(p.path, "#") {
			err = chromedp.Do(ctx,
				chromedp.Evaluate[chromedp.Void]("document.getElementById('what-came-out').scrollIntoView()"),
				chromedp.Sleep(200*time.Millisecond))
		}
		if err == nil && p.name == "checkpoint" { // how its weights are distributed
			err = chromedp.Do(ctx,
				chromedp.Evaluate[chromedp.Void]("window.scrollBy(0, document.querySelector('svg[aria-label^=distribution]').getBoundingClientRect().top - 340)"), chromedp.Sleep(300*time.Millisecond))
		}
		if err == nil && p.name == "compare-mattered-dark" {
			err = chromedp.Do(ctx,
				chromedp.Evaluate[chromedp.Void]("document.querySelectorAll('section.q')[3].scrollIntoView()"),
				chromedp.Sleep(300*time.Millisecond))
		}
		if err == nil && p.name == "run" { // the cursor, shared by the charts
			err = chromedp.Do(ctx, chromedp.Evaluate[chromedp.Void](`{const o = document.querySelector('.u-over'), r = o.getBoundingClientRect();
				for (const t of ['mouseenter', 'mousemove']) o.dispatchEvent(new MouseEvent(t, {clientX: r.left + r.width * 0.62, clientY: r.top + 60, bubbles: true}))}`),
				chromedp.Sleep(200*time.Millisecond))
		}
		if err == nil {
			err = chromedp.Do(ctx, shot(out, p.name, only))
		}
		if err != nil {
			return fmt.Errorf("%s: %w", p.name, err)
		}
	}
	return nil
}

func shot(out, name, only string) chromedp.Action[chromedp.Void] {
	return func(ctx context.Context, t *chromedp.Target) (chromedp.Void, error) {
		if !strings.Contains(name, only) {
			return chromedp.Void{}, nil
		}
		png, err := chromedp.CaptureScreenshot()(ctx, t)
		if err == nil {
			err = os.WriteFile(filepath.Join(out, name+".png"), png, 0o644)
		}
		return chromedp.Void{}, err
	}
}

// terminal shows a command and what it prints in a terminal window on a display of its own, and takes its picture.
func terminal(file, kembrel, command string) error {
	binary, err := filepath.Abs(kembrel)
	if err != nil {
		return err
	}
	display := fmt.Sprintf(":%d", 90+time.Now().UnixNano()/1e6%400)
	screen := exec.Command("Xvfb", display, "-screen", "0", "1280x800x24")
	if err := screen.Start(); err != nil {
		return err
	}
	defer func() { screen.Process.Kill(); screen.Wait() }()
	time.Sleep(700 * time.Millisecond)
	script := fmt.Sprintf("PATH=%s:$PATH; echo '$ kembrel %s'; kembrel %s; sleep 60",
		filepath.Dir(binary), command, command)
	window := exec.Command("xterm", "-geometry", "158x50+0+0", "-fa", "DejaVu Sans Mono", "-fs", "9", "-bg", "#fdfcfa",
		"-fg", "#22282b", "+sb", "-e", "sh", "-c", script)
	window.Env = append(os.Environ(), "DISPLAY="+display, "LC_ALL=C.UTF-8")
	if err := window.Start(); err != nil {
		return err
	}
	defer func() { window.Process.Kill(); window.Wait() }()
	time.Sleep(2500 * time.Millisecond)
	return exec.Command("import", "-display", display, "-window", "root", file).Run()
}
