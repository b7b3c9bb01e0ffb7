package filter

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

var now = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

var tug = Run{
	Fields: map[string]any{"state": "finished", "title": "Wide net", "who": "ines", "number": 7.0, "took": 90.0,
		"started": now.Add(-48 * time.Hour), "ended": now, "tags": []string{"baseline"}, "epoch": 24.0},
	Hyper: map[string]any{"lr": 0.01, "layers": []any{64.0, 32.0}, "optimiser": "adam", "augment": true,
		"lr-drop.every": 5.0, "net.depth": 2.0},
	Figures: map[string]Figures{"loss.val": {0.25, 0.31, 0.25, 1.2, 0.25}, "accuracy.train": {1, 1, 0, 1, 0.9}},
	Found:   map[string]map[string]float64{"hydrophone#3:test": {"accuracy": 0.93}},
	Texts:   []string{"Wide net", "hydrophone 3"},
}

func TestMatches(t *testing.T) {
	for text, want := range map[string]bool{
		`best("loss.val") < 0.3 && hyper.lr <= 0.01 && "baseline" in tags && started > ago("7d")`: true,
		`hyper.layers == [64, 32]`: true, `hyper.layers == [64]`: false, `hyper.layers != [64]`: true,
		`has(hyper.dropout)`: false, `has(hyper.lr)`: true, `!has(hyper.dropout)`: true,
		`state == "finished"`: true, `state in ["failed", "lost"]`: false,
		`hyper.optimiser in ["adam", "momentum"]`: true, `hyper.lr in [0.1, 0.01]`: true,
		`text("HYDROPHONE")`: true, `text("sonar")`: false,
		`hyper["lr-drop.every"] == 5`: true, `hyper.net.depth >= 2`: true, `hyper.lr > 1e-3 || false`: true,
		`hyper.augment`: true, `!hyper.augment`: false, `hyper.augment == true`: true,
		`last("loss.val") - best("loss.val") > 0.05`: true, `took / 60 < 2`: true, `-hyper.lr < 0`: true,
		`took / 0 > 1`:          false,
		`title.contains("net")`: true, `who.startsWith("in")`: true, `title.endsWith("net!")`: false,
		`hyper.optimiser.startsWith("ad")`: true,
		`took > "1m"`:                      true, `took > "1h"`: false, `"1m" < took`: true, `started < "2026-11-22"`: true,
		`started > "2026-11-22"`: false, `title == "1h"`: false,
		`ended >= started`: true, `started < timestamp("2026-11-22")`: true,
		`highest("loss.val") == 1.2`: true,
		`number == 7`:                true, `at("accuracy.train") == 0.9`: true, `pace < 1`: false,
		// Absent, and of another kind: neither equal nor less nor greater, and ! of it is true.
		`hyper.dropout < 1`: false, `hyper.dropout >= 1`: false, `!(hyper.dropout < 1)`: true,
		`hyper.dropout == 0`: false, `hyper.dropout != 0`: true,
		`hyper.lr == "0.01"`: false, `hyper.lr < "x"`: false, `hyper.optimiser > 3`: false, `hyper.layers < 3`: false,
		`hyper.dropout == hyper.momentum`: false,
		`best("accuracy.val") > 0`:        false, `!(best("accuracy.val") > 0)`: true, `verdict == "converged"`: false,
		`best("accuracy.val") + 1 > 0`:                  false,
		`evaluated("hydrophone#3:test").accuracy > 0.9`: true, `evaluated("hydrophone#3:val").accuracy > 0`: false,
		`evaluated("hydrophone#3:test").accuracy < best("loss.val")`: false,
		`has(evaluated("hydrophone#3:test").accuracy)`:               true, `has(evaluated("hydrophone#3:test").f1)`: false,
		`hyper.lr < hyper.net.depth`: true, `hyper.optimiser < hyper.lr`: false,
	} {
		n, err := Parse(text, now)
		require.NoError(t, err, text)
		require.Equal(t, want, n.Matches(tug), text)
	}
}

func TestErrorsPointAtTheColumn(t *testing.T) {
	for text, want := range map[string]Error{
		`state = "finished"`:         {7, ""},
		`lr > 0.01`:                  {1, `a hyperparameter is hyper.lr, a figure of a curve best("lr")`},
		`loss.val < 0.3`:             {5, `a figure of a curve is best("loss.val") or last("loss.val"), a hyperparameter hyper["loss.val"]`},
		`number > 3 and took > 1`:    {12, "and is written && here"},
		`not alarmed`:                {1, "not is written ! here"},
		`title like "and"`:           {7, "like is written contains"},
		`title == "and" && (`:        {20, "something is missing"},
		`took > "soon"`:              {6, "cannot be compared"},
		`hyper.lr <`:                 {11, ""},
		`stat == "failed"`:           {1, `there is no "stat"`},
		`tags == "baseline"`:         {6, `tags is a list: write "baseline" in tags`},
		`state == 3`:                 {7, "a text cannot be compared with a number"},
		`tags < 3`:                   {6, ""},
		`evaluated("test") > 1`:      {10, "which measure"},
		`evaluated(test).f1 > 1`:     {16, "hyper"},
		`bset("loss.val") < 1`:       {5, "there is no function bset()"},
		`best(loss.val) < 1`:         {5, "takes one text in quotes"},
		`started > ago("seven")`:     {15, "is no length of time"},
		`hyper`:                      {1, "say which hyperparameter"},
		`state && true`:              {1, "a condition is wanted here, not a text"},
		`number`:                     {1, "this is a number; a condition is wanted"},
		`"a" + "b" == "ab"`:          {5, "only numbers can be added"},
		`tags.all(t, t == "x")`:      {9, ""},
		`started == timestamp("x")`:  {22, "is no time"},
		`title.matches("x")`:         {14, "there is no matches()"},
		`took > 1 && state == "ok"`:  {22, `there is no state "ok"; there are running, finished`},
		`"good" != verdict`:          {1, `there is no verdict "good"; there are too short to tell`},
		`state == finished`:          {10, `there is no "finished"; a text is written in quotes: "finished"`},
		`adam == hyper.optimiser`:    {1, `a text is written in quotes: "adam"`},
		`started > 2026-11-01`:       {9, `a time is written in quotes`},
		`took > 1h`:                  {8, `a length of time is written in quotes: "1h"`},
		`title == "1h" && took > 2d`: {25, `in quotes: "2d"`},
		`started > ago(7d)`:          {15, `in quotes: "7d"`},
		`state in ("a", "b")`:        {7, `in brackets`},
		`tags contains "x"`:          {6, `"baseline" in tags`},
		`hyper.layers == 64,32`:      {19, "a comma stands only in a list"},
		`number > 3 title`:           {12, `"title" does not belong here`},
		`state in ["lost", "dead"]`:  {10, `there is no state "dead"`},
	} {
		_, err := Parse(text, now)
		var e *Error
		require.ErrorAs(t, err, &e, text)
		require.Equal(t, want.Column, e.Column, "%s: %v", text, e)
		require.Contains(t, e.What, want.What, text)
	}
	_, err := ParseValue(`"x"`, now)
	require.Error(t, err)
	_, err = ParseValue("tags", now)
	require.ErrorContains(t, err, "a list is nothing to sort by")
	n, err := ParseColumn("data", now)
	require.NoError(t, err)
	require.Equal(t, List, n.Kind)
	n, err = ParseValue(`last("loss.val") - best("loss.val")`, now)
	require.NoError(t, err)
	require.Equal(t, Number, n.Kind)
}

func FuzzParse(f *testing.F) {
	f.Add(`best("loss.val") < 0.3 && hyper.lr in [1, 2] || !has(hyper["a.b"])`)
	f.Add(`((((((((1`)
	f.Fuzz(func(t *testing.T, text string) {
		n, err := Parse(text, now)
		if err == nil {
			n.Matches(tug)
		}
	})
}

func TestComplete(t *testing.T) {
	words := Words{Hyper: []string{"lr", "layers", "lr-drop.every", "net.depth"},
		Curves: []string{"loss.train", "loss.val"}, Values: map[string][]string{"state": {"failed", "finished"},
			"tags": {"baseline"}}}
	for text, want := range map[string][]string{
		`hyper.l`:                {`hyper.lr`, `hyper.layers`, `hyper["lr-drop.every"]`},
		`true && best("loss.v`:   {`true && best("loss.val")`},
		`state == "fi`:           {`state == "finished"`},
		`state in ["failed", "f`: {`state in ["failed", "failed"`, `state in ["failed", "finished"`},
		`"ba`:                    {`"baseline" in tags`},
		`sta`:                    {`started`, `state`},
		`hyper.lr < 1 && be`:     {`hyper.lr < 1 && best("`},
		`hyper.net.`:             {`hyper.net.depth`},
		`who == "`:               {},
	} {
		got := []string{}
		for _, s := range Complete(text, words) {
			got = append(got, s.Text)
		}
		require.Equal(t, want, got, text)
	}
	require.NotEmpty(t, Complete("", words))
}

// A dataset, a snapshot and a split are in the data of a run that used the split; also where values stand in the place
// of fields.
func TestDataOfARun(t *testing.T) {
	run := Run{Fields: map[string]any{"data": []string{"hydrophone#3:val", "quays#1"}},
		Data: map[string]string{"val": "hydrophone#3:val"}}
	for text, want := range map[string]bool{`"hydrophone" in data`: true, `"hydrophone#3" in data`: true,
		`"hydrophone#3:val" in data`: true, `"hydrophone#31" in data`: false, `"hydro" in data`: false,
		`"quays#1" in data`: true, `data.val == "hydrophone#3:val"`: true, `data.test == "x"`: false,
		`data.val.startsWith("hydrophone")`: true} {
		n, err := Parse(text, time.Now())
		require.NoError(t, err, text)
		require.Equal(t, want, n.Matches(run), text)
		values := map[*Node]any{}
		for _, leaf := range n.Leaves() {
			values[leaf] = leaf.Value(run)
		}
		require.Equal(t, want, n.Put(values).Matches(Run{}), text)
	}
}
