package term

import (
	"encoding/json"
	"sort"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/core/filter"
)

// RunTable lists runs: what is usual, or the columns asked for.
func RunTable(runs []api.Run, columns string) Listing {
	if columns == "" {
		l := List("run", "title", "state", "best#", "at", "last#", "epoch#", "verdict", "hyperparameters", "who",
			"started", "took#")
		l.Shorten = "hyperparameters"
		l.Spare = []string{"took", "last", "who", "started", "epoch", "hyperparameters"}
		for _, r := range runs {
			l.Add(r.Address, r.Title, r.State, Figure(r.Best), At(r.Best), Figure(r.Last), Epoch(r.Epoch),
				verdictWord(r.Verdict)+alarmMark(r.Alarms), hyperLine(r.Hyper), r.Who, When(r.Started), TookRun(r))
		}
		return l
	}
	names := append([]string{"run", "title"}, filter.SplitList(columns)...)
	l := List(names...)
	l.Shorten = "title"
	for _, r := range runs {
		cells := []string{r.Address, r.Title}
		for i := range names[2:] {
			var v json.RawMessage
			if i < len(r.Values) {
				v = r.Values[i]
			}
			var f float64
			var list []string
			switch {
			case len(v) == 0 || string(v) == "null":
				cells = append(cells, "")
			case !strings.HasPrefix(names[2+i], "hyper") && json.Unmarshal(v, &list) == nil: // tags, data, alarms
				cells = append(cells, strings.Join(list, ", "))
			case json.Unmarshal(v, &f) == nil:
				cells = append(cells, valueNumber(names[2+i], f))
				l.Numeric[2+i] = true
			default:
				cells = append(cells, valueText(names[2+i], HyperText(v)))
			}
		}
		l.Add(cells...)
	}
	return l
}

// valueNumber is how a table writes a number: as everywhere where it is a field's.
func valueNumber(field string, v float64) string {
	switch field {
	case "took":
		return Seconds(v)
	case "size":
		return api.Bytes(int64(v))
	}
	return Number(v)
}

// valueText is how a table writes what a field says: times as everywhere, commits by their beginning.
func valueText(field, text string) string {
	at, err := time.Parse(time.RFC3339, text)
	switch {
	case (field == "started" || field == "ended") && err == nil:
		return When(at)
	case field == "commit" && len(text) > 12:
		return text[:12]
	}
	return text
}

// alarmMark marks a run whose predictions raise an alarm.
func alarmMark(alarms []string) string {
	if len(alarms) == 0 {
		return ""
	}
	return " !"
}

func verdictWord(v *api.Verdict) string {
	switch {
	case v == nil:
		return ""
	case v.Dispute != nil:
		return v.Kind + " (disputed)"
	}
	return v.Kind
}

func hyperLine(h map[string]json.RawMessage) string {
	names := make([]string, 0, len(h))
	for n := range h {
		names = append(names, n)
	}
	sort.Strings(names)
	parts := make([]string, len(names))
	for i, n := range names {
		parts[i] = n + "=" + HyperText(h[n])
	}
	return strings.Join(parts, " ")
}
