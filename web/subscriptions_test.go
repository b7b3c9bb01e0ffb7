package web_test

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	cloudevents "github.com/cloudevents/sdk-go/v2/event"
	"github.com/google/uuid"
	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/client"
)

// An event is told, signed, in either mode; the receiver reports back with its token: each purpose once, on this
// edition, and nothing else.
func TestReceiversReportBack(t *testing.T) {
	s, ahead := told(t)
	run := s.saved(t, noise(1000, 200), 0.5, 0.3)
	s.machine(t, "buildhall")
	for _, mode := range []string{"structured", "binary"} {
		h := newHall(t, nil)
		sub := s.subscribe(t, mode, h.URL, func(in *api.NewSubscription) {
			in.Body.Kinds, in.Body.Mode, in.Body.Machine = []string{"model.entered"}, mode, "buildhall"
		})
		require.Regexp(t, `^whsec_[A-Za-z0-9+/]{43}=$`, sub.Secret)
		require.Empty(t, call(t, s, api.GetSubscription, &api.SubscriptionInput{ProjectInput: vessels,
			Subscription: mode}).Secret)
		h.secret.Store(&sub.Secret)
		if mode == "structured" {
			s.model(t)
			s.enter(t, "vessels/1@e1")
		} else {
			s.enter(t, "vessels/1@e2")
		}
		h.wait(1)
		e := h.all()[0]
		require.Equal(t, "/projects/vessels", e.Source())
		var says struct {
			Edition struct{ At string }
			Report  struct{ Check, Use, Token string }
		}
		require.NoError(t, json.Unmarshal(e.Data(), &says))
		number := 1
		if mode == "binary" {
			number = 2
		}
		require.Equal(t, fmt.Sprintf("%s/api/v1/models/vessel-classifier/editions/%d", s.URL, number), says.Edition.At)
		bearer := []string{"Authorization", "Bearer " + says.Report.Token, "Content-Type", "application/json"}
		post := func(url, body string, want int) {
			t.Helper()
			r, text := s.raw(t, "POST", url[len(s.URL):], body, bearer...)
			require.Equal(t, want, r.StatusCode, text)
		}
		passed := `{"name":"lowest recall","passed":true,"figures":{"recall":0.84}}`
		post(says.Report.Check, passed, 200)
		post(says.Report.Check, passed, 409)
		post(says.Report.Check, `{"name":"latency","passed":true}`, 200)
		post(says.Report.Use, `{"where":"harbour-north"}`, 204)
		post(says.Report.Use, `{"where":"harbour-north"}`, 409)
		other := fmt.Sprintf("%s/api/v1/models/vessel-classifier/editions/%d/checks", s.URL, 3-number)
		if mode == "binary" {
			post(other, passed, 403)
		}
		for _, path := range []string{"/api/v1/models/vessel-classifier", "/api/v1/projects/vessels",
			"/api/v1/projects/vessels/runs/1", "/api/v1/tokens"} {
			r, _ := s.raw(t, "GET", path, "", bearer...)
			require.Equal(t, 403, r.StatusCode, path)
		}
		r, _ := s.raw(t, "POST", "/api/v1/projects/vessels/runs/1/notes", `{"text":"x"}`, bearer...)
		require.Equal(t, 403, r.StatusCode)
		forged := slices.Clone(bearer)
		forged[1] = forged[1][:len(forged[1])-1] + "A"
		if forged[1] == bearer[1] {
			forged[1] = forged[1][:len(forged[1])-1] + "B"
		}
		r, _ = s.raw(t, "POST", says.Report.Check[len(s.URL):], passed, forged...)
		require.Equal(t, 401, r.StatusCode)
		ahead.Store(int64(73 * time.Hour))
		post(says.Report.Check, `{"name":"late","passed":true}`, 401)
		ahead.Store(0)
	}
	one := call(t, s, api.GetEdition, &api.EditionInput{ModelInput: classifier, Edition: 1})
	require.Len(t, one.Checks, 2)
	require.Equal(t, "buildhall", one.Checks[0].Who)

	// Of runs, a note.
	h := newHall(t, nil)
	s.subscribe(t, "notes", h.URL, func(in *api.NewSubscription) {
		in.Body.Kinds, in.Body.Machine = []string{"run.changed"}, "buildhall"
	})
	edit := &api.RunEdit{RunInput: run}
	title := "a wide one"
	edit.Body.Title = &title
	call(t, s, api.ChangeRun, edit)
	h.wait(1)
	var says struct{ Report struct{ Note, Token string } }
	require.NoError(t, json.Unmarshal(h.all()[0].Data(), &says))
	for _, want := range []int{204, 409} {
		r, text := s.raw(t, "POST", says.Report.Note[len(s.URL):], `{"text":"heard"}`, "Authorization",
			"Bearer "+says.Report.Token, "Content-Type", "application/json")
		require.Equal(t, want, r.StatusCode, text)
	}
	notes := call(t, s, api.GetRun, &run).Notes
	require.Equal(t, "buildhall: heard", notes[len(notes)-1].Text)

	// The delivery is shown without the token.
	page := call(t, s, api.ListDeliveries, &api.DeliveriesInput{SubscriptionInput: subscription("notes"),
		PageInput: api.PageInput{Limit: 10}})
	require.Len(t, page.Items, 1)
	require.Equal(t, "delivered", page.Items[0].State)
	d := call(t, s, api.GetDelivery, &api.DeliveryInput{SubscriptionInput: subscription("notes"),
		Event: page.Items[0].Event})
	require.Contains(t, string(d.Request), `"token":"not shown"`)
	require.NotContains(t, string(d.Request), says.Report.Token)

	late := func(why string) {
		t.Helper()
		r, text := s.raw(t, "POST", says.Report.Note[len(s.URL):], `{"text":"heard"}`, "Authorization",
			"Bearer "+says.Report.Token)
		require.Equal(t, 401, r.StatusCode, text)
		require.Contains(t, text, why)
	}
	role := &api.ProjectRoleInput{ProjectInput: vessels, Body: api.RoleEdit{Person: "buildhall", Role: "reader"}}
	call(t, s, api.SetProjectRole, role)
	late("no role on vessels any more")
	role.Body.Role = "recorder"
	call(t, s, api.SetProjectRole, role)
	closed := &api.PersonEdit{PersonInput: api.PersonInput{Name: "buildhall"}}
	gone := true
	closed.Body.Closed = &gone
	call(t, s, api.ChangePerson, closed)
	late("was closed by an administrator")
}

// One event that is not taken holds up those of its subject, in their order, and no others; in the end it is parked,
// shown, and sent again.
func TestOneEventCostsItself(t *testing.T) {
	s, ahead := told(t)
	var odd atomic.Bool
	odd.Store(true)
	h := newHall(t, func(e *cloudevents.Event) int {
		if odd.Load() && e.Subject() == "odd" && e.Type() == "internal.kembrel.dataset.first" {
			return 422
		}
		return 200
	})
	s.subscribe(t, "night-watch", h.URL, func(in *api.NewSubscription) { in.Body.Kinds = []string{"dataset.*"} })
	s.emit(t, "first", "odd", "plain", "other")
	s.emit(t, "second", "odd", "plain")
	require.ElementsMatch(t, []string{"dataset.first plain", "dataset.first other", "dataset.second plain"}, h.wait(3))
	list := func(state string) []api.Delivery {
		return call(t, s, api.ListDeliveries, &api.DeliveriesInput{SubscriptionInput: subscription("night-watch"),
			PageInput: api.PageInput{Limit: 50}, State: state}).Items
	}
	require.Eventually(t, func() bool { return len(list("waiting")) == 2 }, 10*time.Second, 10*time.Millisecond)
	waits := list("waiting")
	require.Equal(t, 422, waits[1].Status)
	require.Equal(t, "it answered 422", waits[1].Trouble)
	require.Zero(t, waits[0].Attempts, "it waits behind the first")

	attempts := 0
	for range 60 { // the time of days
		ahead.Add(int64(8 * time.Hour))
		require.Eventually(t, func() bool {
			if len(list("parked")) == 1 {
				return true
			}
			w := list("waiting")
			if len(w) == 0 {
				return false // it was parked just now
			}
			now := w[len(w)-1].Attempts
			defer func() { attempts = now }()
			return now > attempts
		}, 20*time.Second, 10*time.Millisecond)
		if len(list("parked")) == 1 {
			break
		}
	}
	parked := list("parked")
	require.Len(t, parked, 1)
	require.Greater(t, parked[0].Attempts, 5)
	require.Contains(t, h.wait(4), "dataset.second odd", "what waited behind it goes on")
	require.Eventually(t, func() bool {
		at := subscription("night-watch")
		return call(t, s, api.GetSubscription, &at).Says ==
			"It takes what it is told. 1 event was given up; they can be sent again."
	}, 20*time.Second, 10*time.Millisecond)

	odd.Store(false)
	again := call(t, s, api.SendAgain, &api.DeliveryInput{SubscriptionInput: subscription("night-watch"),
		Event: parked[0].Event})
	require.EqualValues(t, 1, again.Count)
	require.Contains(t, h.wait(5), "dataset.first odd")
}

// A receiver that is down is tried now and then, with no more rows than it takes; when it is back all that happened
// comes, in the order of each subject.
func TestAReceiverComesBack(t *testing.T) {
	s, ahead := told(t)
	var down atomic.Bool
	down.Store(true)
	var tries atomic.Int64
	h := newHall(t, func(*cloudevents.Event) int {
		if down.Load() {
			tries.Add(1)
			return 503
		}
		return 200
	})
	s.subscribe(t, "night-watch", h.URL, func(in *api.NewSubscription) { in.Body.Kinds = []string{"dataset.*"} })
	state := func() *api.Subscription {
		return call(t, s, api.GetSubscription, &api.SubscriptionInput{ProjectInput: vessels,
			Subscription: "night-watch"})
	}
	var want []string
	for i := range 30 {
		s.emit(t, "first", fmt.Sprint("a", i), fmt.Sprint("b", i))
		s.emit(t, "second", fmt.Sprint("a", i))
		want = append(want, fmt.Sprint("dataset.first a", i), fmt.Sprint("dataset.second a", i),
			fmt.Sprint("dataset.first b", i))
	}
	require.Eventually(t, func() bool { return state().State == "failing" }, 20*time.Second, 10*time.Millisecond)
	for range 3 {
		before := tries.Load()
		require.Eventually(t, func() bool { // whatever was on its way while the clock went
			ahead.Add(int64(10 * time.Minute))
			return tries.Load() > before
		}, 30*time.Second, 300*time.Millisecond)
	}
	require.Less(t, tries.Load(), int64(60))
	down.Store(false)
	ahead.Add(int64(8 * time.Hour))
	require.Eventually(t, func() bool {
		ahead.Add(int64(10 * time.Minute))
		return len(h.heard()) >= len(want)
	}, 60*time.Second, 300*time.Millisecond)
	got := h.heard()
	require.ElementsMatch(t, want, got, "each once here, as nothing was killed")
	for i := range 30 {
		require.Less(t, slices.Index(got, fmt.Sprint("dataset.first a", i)),
			slices.Index(got, fmt.Sprint("dataset.second a", i)))
	}
	require.Eventually(t, func() bool { return state().State == "telling" && state().Waiting == 0 }, 10*time.Second,
		10*time.Millisecond)
}

// Paused, changed, with a new secret, gone with 410, and what is wrong with what one asks for.
func TestSubscriptionsAreLookedAfter(t *testing.T) {
	s, _ := told(t)
	h := newHall(t, nil)
	sub := s.subscribe(t, "night-watch", h.URL, func(in *api.NewSubscription) { in.Body.Kinds = []string{"dataset.*"} })
	h.secret.Store(&sub.Secret)
	at := subscription("night-watch")
	edit := func(do func(*api.SubscriptionEdit)) *api.Subscription {
		in := &api.SubscriptionEdit{SubscriptionInput: at}
		do(in)
		return call(t, s, api.ChangeSubscription, in)
	}
	yes, no := true, false
	require.Equal(t, "paused", edit(func(in *api.SubscriptionEdit) { in.Body.Paused = &yes }).State)
	s.emit(t, "first", "while-paused")
	second := call(t, s, api.NewSubscriptionSecret, &at)
	require.NotEqual(t, sub.Secret, second.Secret)
	edit(func(in *api.SubscriptionEdit) { in.Body.Paused = &no })
	h.wait(1) // by the old secret
	h.secret.Store(&second.Secret)
	s.emit(t, "first", "by-the-new")
	h.wait(2)

	tried := call(t, s, api.TrySubscription, &at)
	require.Equal(t, "delivered", tried.State)
	require.Equal(t, "subscription.tried vessels night-watch", h.wait(3)[2])

	subject := "vessels"
	edit(func(in *api.SubscriptionEdit) { in.Body.Subject = &subject })
	s.emit(t, "first", "vessels-two", "vessels/1")
	require.Equal(t, "dataset.first vessels/1", h.wait(4)[3])

	gone := newHall(t, func(*cloudevents.Event) int { return 410 })
	edit(func(in *api.SubscriptionEdit) { in.Body.URL = &gone.URL })
	s.emit(t, "first", "vessels/2")
	require.Eventually(t, func() bool {
		now := call(t, s, api.GetSubscription, &at)
		return now.State == "paused" && strings.HasPrefix(now.Says,
			"Paused. It answered 410: it wants to be told no more.")
	}, 20*time.Second, 10*time.Millisecond)

	bad := func(says string, do func(*api.NewSubscription)) {
		t.Helper()
		in := &api.NewSubscription{ProjectInput: vessels}
		in.Body.Name, in.Body.URL = "another", "https://build.harbour.example/"
		do(in)
		_, err := client.Call(ctx, s.Client, api.CreateSubscription, in)
		require.ErrorContains(t, err, says)
	}
	for _, url := range []string{"build", "ftp://build.example/", "http:///x", "//x", "https://build.example/#x"} {
		bad("no address that can be told", func(in *api.NewSubscription) { in.Body.URL = url })
	}
	bad("no password", func(in *api.NewSubscription) { in.Body.URL = "https://a:b@build.example/" })
	bad("names no events", func(in *api.NewSubscription) { in.Body.Kinds = []string{"everything"} })
	bad("cannot be called", func(in *api.NewSubscription) { in.Body.Name = "Build Hall" })
	bad("already", func(in *api.NewSubscription) { in.Body.Name = "night-watch" })
	in := &api.NewPerson{}
	in.Body.Name, in.Body.Machine = "idle", true
	call(t, s, api.AddPerson, in)
	bad("has no role on project vessels", func(in *api.NewSubscription) { in.Body.Machine = "idle" })
	bad("is no machine", func(in *api.NewSubscription) { in.Body.Machine = "Ines" })
	bad("where", func(in *api.NewSubscription) { in.Body.Where = "loss <" })
	call(t, s, api.DeleteSubscription, &at)
	refuse(t, s, api.GetSubscription, &at, api.NotFound, "has no subscription")
	member := s.as(t, "Mats", map[string]string{"vessels": "member"})
	refuse(t, member, api.ListSubscriptions, &vessels, api.Denied, "owner")
}

// Events of runs are told where the run fulfils the condition at the moment.
func TestEventsAreChosenByTheRun(t *testing.T) {
	s, _ := told(t)
	h := newHall(t, nil)
	s.subscribe(t, "failures", h.URL, func(in *api.NewSubscription) {
		in.Body.Kinds, in.Body.Where = []string{"run.failed", "run.changed"}, `"odd" in tags`
	})
	for _, tag := range []string{"plain", "odd"} {
		leg := s.leg(t)
		edit := &api.RunEdit{RunInput: leg.RunInput}
		edit.Body.Tags = &[]string{tag}
		call(t, s, api.ChangeRun, edit)
	}
	require.Equal(t, []string{"run.changed vessels/2"}, h.wait(1))
	time.Sleep(300 * time.Millisecond)
	require.Len(t, h.heard(), 1)
}

// A process that is killed in the middle loses nothing: another tells what was not noted, in order, perhaps twice.
func TestNothingIsLostWhenATellerIsKilled(t *testing.T) {
	s, _ := told(t)
	rnd := rand.New(rand.NewPCG(7, 11))
	h := newHall(t, func(*cloudevents.Event) int { time.Sleep(time.Millisecond); return 200 })
	s.subscribe(t, "night-watch", h.URL, func(in *api.NewSubscription) { in.Body.Kinds = []string{"dataset.*"} })
	want := map[string]bool{}
	for round := range 8 {
		for i := range 40 {
			subject := fmt.Sprintf("s%d", i%7)
			verb := "v" + string(rune('a'+round)) + string(rune('a'+i/7))
			s.emit(t, verb, subject)
			want["dataset."+verb+" "+subject] = true
		}
		time.Sleep(time.Duration(rnd.IntN(60)) * time.Millisecond)
		// the process that holds it is as good as dead: it is taken from it
		_, err := s.db.Pool.Exec(ctx,
			"update subscription set holder = gen_random_uuid(), held = now() + interval '1 second'")
		require.NoError(t, err)
	}
	require.Eventually(t, func() bool {
		got := map[string]bool{}
		for _, e := range h.heard() {
			got[e] = true
		}
		return len(got) == len(want)
	}, 60*time.Second, 20*time.Millisecond)
	last := map[string]string{}
	seen := map[string]bool{}
	for _, e := range h.all() {
		if key := e.Type() + e.Subject(); !seen[key] { // the first time, in order
			require.Less(t, last[e.Subject()], e.Type())
			last[e.Subject()], seen[key] = e.Type(), true
		}
	}
}

// A database that was restored into another cluster, which numbers its transactions from the beginning: the chain of
// the audit goes on, and subscriptions are told of what they were not told yet, and of what comes.
func TestARestoredDatabaseGoesOn(t *testing.T) {
	s, _ := told(t)
	h := newHall(t, nil)
	s.subscribe(t, "night-watch", h.URL, func(in *api.NewSubscription) { in.Body.Kinds = []string{"dataset.*"} })
	s.emit(t, "first", "a", "b")
	h.wait(2)
	audit := func() *api.AuditCheck { return call(t, s, api.CheckAudit, &struct{}{}) }
	in := &api.SubscriptionEdit{SubscriptionInput: subscription("night-watch")}
	paused := true
	in.Body.Paused = &paused
	call(t, s, api.ChangeSubscription, in)
	s.emit(t, "second", "a")
	require.Eventually(t, func() bool { return audit().Events >= 4 }, 20*time.Second, 50*time.Millisecond)
	before := audit().Events
	_, err := s.db.Pool.Exec(ctx, `begin; alter table event disable trigger event_stays;
		alter table event_chain disable trigger event_chain_stays;
		update event set xact = (xact::text::bigint + 1000000000)::text::xid8;
		update event_chain set xact = (xact::text::bigint + 1000000000)::text::xid8;
		update subscription set xact = (xact::text::bigint + 1000000000)::text::xid8;
		alter table event enable trigger event_stays; alter table event_chain enable trigger event_chain_stays; commit`)
	require.NoError(t, err)
	require.NoError(t, s.db.Migrate(ctx, ""))
	s.emit(t, "third", "a")
	paused = false
	call(t, s, api.ChangeSubscription, in)
	got := h.wait(4)
	require.Contains(t, got, "dataset.second a")
	require.Equal(t, "dataset.third a", got[len(got)-1])
	require.Eventually(t, func() bool { now := audit(); return now.Whole && now.Events >= before+2 }, 20*time.Second,
		50*time.Millisecond)
	_, err = s.db.Pool.Exec(ctx, "update event set verb = 'nothing'")
	require.ErrorContains(t, err, "never changed", "the database refuses again")
}

// A subscription of the service is told of what happens in all projects, and of new data; not of people. Only owners of
// the service look after it, and a machine reports back on a run of whichever project it was.
func TestTheWholeServiceIsTold(t *testing.T) {
	s, _ := told(t)
	quays := &api.NewProject{}
	quays.Body.Key = "quays"
	quays.Body.Objective = api.Objective{Curve: "loss.val", Direction: "lower"}
	call(t, s, api.CreateProject, quays)
	h := newHall(t, nil)
	all := api.ProjectInput{Project: api.Everywhere}
	one := api.SubscriptionInput{ProjectInput: all, Subscription: "watch"}
	in := &api.NewSubscription{ProjectInput: all}
	in.Body.Name, in.Body.URL, in.Body.Machine = "watch", h.URL, "night"
	in.Body.Where = `title != "quiet"`

	owns := s.as(t, "owner of a project", map[string]string{"vessels": "owner"})
	refuse(t, owns, api.CreateSubscription, in, api.Denied, "role owner on the service")
	refuse(t, owns, api.ListSubscriptions, &all, api.Denied, "role owner on the service")
	refuse(t, owns, api.GetSubscription, &one, api.Denied, "role owner on the service")
	s.machine(t, "night")
	o := s.as(t, "keeper", map[string]string{"": "owner"})
	refuse(t, o, api.CreateSubscription, in, api.Invalid, "no role on the service by which it may report")
	call(t, s, api.SetRole, &api.RoleInput{Body: api.RoleEdit{Person: "night", Role: "recorder"}})
	in.Body.Where = "loss <"
	refuse(t, o, api.CreateSubscription, in, api.Invalid, "")
	in.Body.Where = `title != "quiet"`
	made := call(t, o, api.CreateSubscription, in)
	require.Equal(t, api.Everywhere, made.Project)
	refuse(t, o, api.CreateSubscription, in, api.Conflict, "the service has a subscription watch already")
	h.secret.Store(&made.Secret)
	s.subscribe(t, "watch", newHall(t, nil).URL) // of a project it is another
	require.Len(t, call(t, o, api.ListSubscriptions, &all).Items, 1)

	for _, project := range []string{"vessels", "quays"} {
		for _, title := range []string{"quiet", "loud"} {
			run := &api.NewRun{ProjectInput: api.ProjectInput{Project: project}, Key: uuid.NewString()}
			run.Body.Title = title
			call(t, s, api.BeginRun, run)
		}
	}
	s.as(t, "somebody new", map[string]string{"quays": "reader"})
	s.snapshot(t, clipItem(1, "train"))
	require.ElementsMatch(t, []string{"run.started vessels/2", "run.started quays/2", "snapshot.made hydrophone#1",
		"snapshot.looked-at hydrophone#1"}, h.wait(4))
	for _, e := range h.all() {
		var says struct {
			Project string
			Report  *struct{ Note, Token string }
		}
		require.NoError(t, json.Unmarshal(e.Data(), &says))
		if says.Project == "" {
			require.Equal(t, "/", e.Source())
			require.Nil(t, says.Report)
			continue
		}
		require.Equal(t, "/projects/"+says.Project, e.Source())
		r, text := s.raw(t, "POST", says.Report.Note[len(s.URL):], `{"text":"heard"}`, "Authorization",
			"Bearer "+says.Report.Token, "Content-Type", "application/json")
		require.Equal(t, 204, r.StatusCode, text)
	}
	call(t, o, api.DeleteSubscription, &one)
	require.Empty(t, call(t, o, api.ListSubscriptions, &all).Items)
	require.Len(t, call(t, s, api.ListSubscriptions, &vessels).Items, 1)
}
