// Command bench measures Kembrel against references in the same run, interleaved, and prints the ratio's median, lowest
// and highest. It needs KEMBREL_TEST_DATABASE (test/withdatabase) and KEMBREL_BINARY; make bench sets both.
//
//	bench --out bench/results.md    also appends the table there
package main

import (
	"flag"
	"fmt"
	"log"
	"os"
	"runtime"
	"runtime/pprof"
	"slices"
	"strings"
	"time"

	"github.com/shirou/gopsutil/v4/cpu"
)

// row is one measurement: a reference and ours, in turn, several times. Both return how much they did per second, or
// what they took, as unit says.
type row struct {
	what, reference, unit string
	want                  string
	more                  bool // more is better
	rounds                int
	theirs, ours          func() (float64, error)
	both                  func() (theirs, ours float64, err error) // where one process measures both
}

func main() {
	if len(os.Args) > 1 && os.Args[1] == "save" {
		save(os.Args[2])
		return
	}
	if len(os.Args) > 1 && os.Args[1] == "save-all" {
		saveAll(os.Args[2])
		return
	}
	out := flag.String("out", "", "file to append the results to")
	only := flag.String("only", "", "only rows whose name contains one of these, separated by commas")
	profile := flag.String("profile", "", "file for a CPU profile of this process")
	flag.Parse()
	if *profile != "" {
		f, err := os.Create(*profile)
		if err != nil {
			log.Fatal(err)
		}
		if err := pprof.StartCPUProfile(f); err != nil {
			log.Fatal(err)
		}
		defer pprof.StopCPUProfile()
	}
	rows, end, err := measurements()
	if err != nil {
		log.Fatal(err)
	}
	defer end()
	var b strings.Builder
	name := "unknown processor"
	if info, err := cpu.Info(); err == nil && len(info) > 0 {
		name = info[0].ModelName
	}
	fmt.Fprintf(&b, "\n## %s, %d x %s, %s\n\n", time.Now().Format("2006-01-02 15:04"), runtime.NumCPU(), name,
		runtime.Version())
	fmt.Fprintf(&b, "| what | reference (median) | ours (median) | ratio: median (lowest, highest) | wanted |\n|---|---|---|---|---|\n")
	for _, r := range rows {
		if !slices.ContainsFunc(strings.Split(*only, ","),
			func(part string) bool { return strings.Contains(r.what, part) }) {
			continue
		}
		line, err := r.measure()
		if err != nil {
			log.Fatalf("%s: %v", r.what, err)
		}
		fmt.Println(line)
		b.WriteString(line + "\n")
	}
	if *out != "" {
		f, err := os.OpenFile(*out, os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o644)
		if err != nil {
			log.Fatal(err)
		}
		defer f.Close()
		if _, err := f.WriteString(b.String()); err != nil {
			log.Fatal(err)
		}
	}
}

func (r row) measure() (string, error) {
	var theirs, ours, ratios []float64
	for i := range r.rounds + 1 {
		var t, o float64
		var err error
		if r.both != nil {
			t, o, err = r.both()
		} else if t, err = r.theirs(); err == nil {
			o, err = r.ours()
		}
		if err != nil {
			return "", err
		}
		if i == 0 {
			continue // the first warms up
		}
		theirs, ours, ratios = append(theirs, t), append(ours, o), append(ratios, o/t)
	}
	for _, l := range [][]float64{theirs, ours, ratios} {
		slices.Sort(l)
	}
	middle := func(l []float64) float64 { return l[len(l)/2] }
	return fmt.Sprintf("| %s | %s: %s %s | %s %s | %.2f (%.2f, %.2f) | %s |", r.what, r.reference,
		short(middle(theirs)), r.unit, short(middle(ours)), r.unit,
		middle(ratios), ratios[0], ratios[len(ratios)-1], r.want), nil
}

func short(v float64) string {
	switch {
	case v >= 1e6:
		return fmt.Sprintf("%.2fM", v/1e6)
	case v >= 1e4:
		return fmt.Sprintf("%.0fk", v/1e3)
	}
	return fmt.Sprintf("%.3g", v)
}
