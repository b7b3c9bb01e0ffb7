package pages

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/service/act"
)

func sayWentIn(r *api.RunDetail) string {
	var parts []string
	if seed, ok := r.Hyper["seed"]; ok {
		parts = append(parts, fmt.Sprintf("Seed %s.", seed))
	} else {
		parts = append(parts, "No seed was recorded, so nobody can repeat this run exactly.")
	}
	if r.Origin != nil {
		parts = append(parts, sayOrigin(r.Origin))
	}
	if r.Start != nil && r.Start.Says != "" {
		parts = append(parts, r.Start.Says)
	}
	if len(r.Data) > 0 {
		var uses []string
		for _, u := range r.Data {
			uses = append(uses, u.Says)
		}
		parts = append(parts, "Data: "+strings.Join(uses, "; ")+".")
	}
	switch c := r.Recipe; {
	case c.Commit == "":
		parts = append(parts, "The code was under no version control.")
	case c.Clean != nil && !*c.Clean:
		parts = append(parts, "The code had uncommitted changes.")
	default:
		parts = append(parts, "The code was as committed.")
	}
	return strings.Join(parts, " ")
}

func sayCameOut(count, size int64) string {
	switch count {
	case 0:
		return "No checkpoint was saved."
	case 1:
		return "1 checkpoint, " + api.Bytes(size) + "."
	}
	return fmt.Sprintf("%d checkpoints, %s.", count, api.Bytes(size))
}

// sayEvaluated says what the latest evaluation on each data found, the latest first; "" where there is none.
func sayEvaluated(list []api.Evaluation) string {
	var parts []string
	seen, alarmed := map[string]bool{}, 0
	for _, e := range list {
		on := e.Data
		if on == "" {
			on = e.Split
		}
		if seen[on] {
			continue
		}
		seen[on] = true
		for _, s := range e.Sheets {
			if len(s.Alarms) > 0 {
				alarmed++
				break
			}
		}
		if len(parts) < 3 {
			_, at, _ := strings.Cut(e.Checkpoint, "@")
			parts = append(parts, "@"+at+": "+strings.TrimSuffix(e.Says, ".")+".")
		}
	}
	if more := len(seen) - len(parts); more > 0 {
		parts = append(parts, fmt.Sprintf("And on %d more.", more))
	}
	if alarmed > 0 {
		parts = append(parts, act.Many(alarmed, "of these raises an alarm.", "of these raise alarms."))
	}
	return strings.Join(parts, " ")
}

func sayHappened(r *api.RunDetail) string {
	if len(r.Legs) == 0 {
		return "The run was announced; no process has begun it yet."
	}
	last := r.Legs[len(r.Legs)-1]
	text := ""
	switch r.State {
	case "running":
		text = "Running."
	case "lost":
		text = "Lost: no sign of life since " + last.Seen.UTC().Format("2006-01-02 15:04:05 UTC") + "."
	default:
		text = strings.ToUpper(r.State[:1]) + r.State[1:]
		if last.Ended != nil {
			text += " after " + roundly(time.Duration(r.Took*float64(time.Second))).String()
		}
		switch {
		case last.Signal != "":
			text += ", ended by " + last.Signal
		case last.ExitCode != nil && *last.ExitCode != 0:
			text += fmt.Sprintf(", exit code %d", *last.ExitCode)
		}
		text += "."
		if last.Why != "" {
			text += " " + last.Why
		}
	}
	if len(r.Legs) > 1 {
		text += fmt.Sprintf(" %d legs.", len(r.Legs))
		for _, l := range r.Legs {
			if l.Resumed != nil && len(l.Resumed.Lacks) > 0 {
				text += fmt.Sprintf(" Leg %d went on from %s without its %s.", l.Number, l.Resumed.From,
					strings.Join(l.Resumed.Lacks, ", "))
			}
		}
	}
	if r.Repeats != nil {
		text += " " + r.Repeats.Says
	}
	if p := peaks(r.Curves); p != "" {
		text += " At most " + p + "."
	}
	return text
}

// roundly rounds a time to what people want to know of it.
func roundly(d time.Duration) time.Duration {
	if d < 10*time.Second {
		return d.Round(time.Second / 10)
	}
	return d.Round(time.Second)
}

// peaks says what the machine's curves came to at most.
func peaks(curves []api.CurveInfo) string {
	var parts []string
	for _, c := range curves {
		if c.Highest == nil {
			continue
		}
		v := float64(c.Highest.Value)
		percent := func(what string) { parts = append(parts, fmt.Sprintf("%.0f %% of %s", 100*v, what)) }
		switch gpu, part, _ := strings.Cut(strings.TrimPrefix(c.Name, "host.gpu"), "."); {
		case c.Name == "host.cpu":
			percent("the CPU")
		case c.Name == "host.memory.share":
			percent("memory")
		case c.Name == "host.program.memory":
			parts = append(parts, api.Bytes(int64(v))+" by the program")
		case strings.HasPrefix(c.Name, "host.gpu") && part == "use":
			percent("GPU " + gpu)
		}
	}
	return strings.Join(parts, ", ")
}

func sayOrigin(o *api.Origin) string {
	text := "It repeats " + o.From
	if o.Kind == "branch" {
		text = "It branched from " + o.From
		if len(o.Parts) > 0 {
			text += " with its " + strings.Join(o.Parts, ", ")
		}
	}
	names := make([]string, 0, len(o.Asked))
	for name, v := range o.Asked {
		names = append(names, name+" = "+string(v))
	}
	slices.Sort(names)
	if len(names) > 0 {
		text += ", asked for " + strings.Join(names, ", ")
	}
	return text + "."
}
