package web_test

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
	"kembrel/core/catalogue"
)

// replayed is what the audit says of the catalogue: nothing else is asked.
type replayed struct {
	editions map[string]string          // origin, by address
	standing map[string]int             // edition, by address of the standing
	waiting  map[string]int             // the same, of what waits
	signed   map[string][]string        // by address of the standing that is asked for: who
	checks   map[string]map[string]bool // by address of the edition and name
	uses     map[string]string          // edition, by place
}

// replay reads events in the order in which they happened.
func replay(t *testing.T, events []api.Event) replayed {
	r := replayed{map[string]string{}, map[string]int{}, map[string]int{}, map[string][]string{},
		map[string]map[string]bool{}, map[string]string{}}
	for _, e := range events {
		var says struct {
			Origin, Check, Outcome, Where, Standing string
			Edition                                 int
		}
		require.NoError(t, json.Unmarshal(e.Data, &says))
		a, err := catalogue.Parse(e.Subject)
		require.NoError(t, err)
		asked := catalogue.Address{Model: a.Model, Standing: says.Standing}.String()
		switch e.Verb {
		case "entered":
			r.editions[e.Subject] = says.Origin
		case "checked":
			if r.checks[e.Subject] == nil {
				r.checks[e.Subject] = map[string]bool{}
			}
			r.checks[e.Subject][says.Check] = says.Outcome == "passed"
		case "asked":
			r.waiting[e.Subject], r.signed[e.Subject] = says.Edition, nil
		case "given":
			r.standing[e.Subject] = says.Edition
			delete(r.waiting, e.Subject)
		case "withdrawn":
			delete(r.waiting, asked)
		case "signed-off":
			r.signed[asked] = append(r.signed[asked], e.Who)
		case "sign-off-withdrawn":
			r.signed[asked] = slices.DeleteFunc(r.signed[asked], func(who string) bool { return who == e.Who })
		case "used":
			r.uses[says.Where] = e.Subject
		case "no-longer-used":
			delete(r.uses, says.Where)
		case "created", "changed":
		default:
			require.Fail(t, "an act that nobody replays", e.Verb)
		}
	}
	return r
}

// Every act in the catalogue is in the audit: whoever replays it knows what is in use, what waits and who signed.
func TestTheAuditTellsTheStateOfTheCatalogue(t *testing.T) {
	s, _ := catalogued(t, catalogue.Rule{Name: "in-use", Approvers: 2, Checks: []string{"every class"}},
		catalogue.Rule{Name: "fallback"})
	maud := s.as(t, "Maud", map[string]string{"vessels": "approver"})
	teo := s.as(t, "Teo", map[string]string{"vessels": "approver"})
	for _, edition := range []int{1, 2} {
		call(t, s, api.ReportCheck, outcome(edition, "every class", true))
		id := call(t, s, api.AskFor, askFor("in-use", edition)).Asking.ID
		call(t, maud, api.AddSignOff, signOff(id, edition))
		call(t, teo, api.AddSignOff, signOff(id, edition))
	}
	call(t, s, api.AskFor, askFor("fallback", 1))
	back := &api.GoBackInput{ModelInput: classifier, Standing: "in-use"}
	back.Body.Why = "takes tugs for ferries"
	call(t, maud, api.GoBack, back)
	again := call(t, s, api.AskFor, askFor("in-use", 2)).Asking.ID
	call(t, maud, api.AddSignOff, signOff(again, 2))
	call(t, maud, api.WithdrawSignOff, &api.AskingInput{ModelInput: classifier, Asking: again})
	for _, place := range []string{"harbour-north", "harbour-south"} {
		in := &api.NewUse{EditionInput: api.EditionInput{ModelInput: classifier, Edition: 1}}
		in.Body.Where = place
		call(t, s, api.ReportUse, in)
		if in.Body.Ended = place == "harbour-south"; in.Body.Ended {
			call(t, s, api.ReportUse, in)
		}
	}
	call(t, s, api.ReportCheck, outcome(2, "every class", false))

	read := func() replayed {
		in := &api.ServiceAuditInput{}
		in.Kind, in.Limit = "model", 500
		events, err := client.All(ctx, s.Client, api.GetAudit, in,
			func(in *api.ServiceAuditInput, cursor string) { in.Cursor = cursor })
		require.NoError(t, err)
		slices.Reverse(events)
		return replay(t, events)
	}
	same := func() {
		t.Helper()
		r, m := read(), call(t, s, api.GetModel, &classifier)
		require.Len(t, r.editions, m.Editions)
		for _, e := range m.Latest {
			require.Equal(t, e.Origin, r.editions[e.Address])
			require.Len(t, e.Checks, len(r.checks[e.Address]))
			for _, c := range e.Checks {
				require.Equal(t, c.Passed, r.checks[e.Address][c.Name])
			}
		}
		for _, st := range m.Standings {
			require.Equal(t, st.Edition, r.standing[st.Address], st.Address)
		}
		require.Len(t, m.Waiting, len(r.waiting))
		for _, w := range m.Waiting {
			asked := catalogue.Address{Model: m.Name, Standing: w.Standing}.String()
			require.Equal(t, w.Edition, r.waiting[asked])
			var signed []string
			for _, sign := range w.SignOffs {
				if sign.Withdrawn == nil {
					signed = append(signed, sign.Who)
				}
			}
			require.ElementsMatch(t, signed, r.signed[asked])
		}
		uses := map[string]string{}
		for _, c := range m.Consumers {
			uses[c.Where] = catalogue.Address{Model: m.Name, Edition: c.Edition}.String()
		}
		require.Equal(t, uses, r.uses)
	}
	same()
	require.Empty(t, read().signed["vessel-classifier/in-use"], "the one taken back does not count")
	call(t, s, api.EndAsking, &api.EndAskingInput{AskingInput: api.AskingInput{ModelInput: classifier, Asking: again}})
	same()
	clear := askFor("fallback", 0)
	call(t, s, api.AskFor, clear)
	same()
}

// Lineage tells of an edition what it is and where it is used.
func TestLineageKnowsWhereEditionsAreUsed(t *testing.T) {
	s, _ := catalogued(t, catalogue.Rule{Name: "fallback"})
	call(t, s, api.AskFor, askFor("fallback", 1))
	ask := func() (*api.Lineage, []string) {
		got := call(t, s, api.GetLineage, &api.LineageInput{Of: "vessel-classifier#1", Depth: 1, Limit: 10})
		require.Equal(t, "fallback", got.Nodes[got.Of].Title)
		return got, got.Nodes[got.Of].Places
	}
	got, places := ask()
	require.Empty(t, places)
	require.Contains(t, got.After, "Nothing that is known here uses it.")
	for _, place := range []string{"harbour-north", "harbour-south", "quay", "tower"} {
		in := &api.NewUse{EditionInput: api.EditionInput{ModelInput: classifier, Edition: 1}}
		in.Body.Where = place
		call(t, s, api.ReportUse, in)
	}
	got, places = ask()
	require.Equal(t, []string{"harbour-north", "harbour-south", "quay", "tower"}, places)
	require.Equal(t, "It is used at harbour-north, harbour-south, quay and 1 more.", got.After)
}
