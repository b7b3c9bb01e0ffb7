package act

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"kembrel/api"
	"kembrel/store"
)

func TestWhatSomebodyIs(t *testing.T) {
	role := func(r api.Role) *string { text := r.String(); return &text }
	vessels := "vessels"
	given := []store.RoleOn{{Project: "", Role: "member"}, {Project: "quays", Role: "owner"}}
	ines := Who{ID: 1, Name: "Ines"}.With(given)
	narrowed := func(s store.Scope) Who { w := ines; w.Scope = s; return w }
	admin := Who{ID: 2, Administrator: true}.With(nil)
	for _, c := range []struct {
		name    string
		who     Who
		project string
		open    bool
		want    api.Role
	}{
		{"nobody", Who{}, "vessels", true, api.Anyone},
		{"a role on the service holds on an open project", ines, "vessels", true, api.Member},
		{"and on no closed one", ines, "vessels", false, api.SignedIn},
		{"a role of its own holds on a closed one", ines, "quays", false, api.Owner},
		{"and is the higher on an open one", ines, "quays", true, api.Owner},
		{"everybody reads what is open", Who{ID: 3}.With(nil), "vessels", true, api.Reader},
		{"administrators may all", admin, "vessels", false, api.Administrator},
		{"a token is no more than it says", narrowed(store.Scope{Role: role(api.Recorder)}), "quays", true,
			api.Recorder},
		{"nor more than its person", narrowed(store.Scope{Role: role(api.Owner)}), "vessels", true, api.Member},
		{"a token of one project sees no other", narrowed(store.Scope{Project: &vessels}), "quays", true, api.SignedIn},
		{"and there what its person is", narrowed(store.Scope{Project: &vessels}), "vessels", true, api.Member},
	} {
		require.Equal(t, c.want, c.who.On(c.project, c.open), c.name)
	}
	require.Equal(t, api.Member, ines.OnService())
	require.Equal(t, api.SignedIn, narrowed(store.Scope{Project: &vessels}).OnService(), "not its project")
	require.Equal(t, api.Owner, ines.Anywhere())
	require.Equal(t, api.Member, narrowed(store.Scope{Project: &vessels}).Anywhere())
	require.Equal(t, []string{"quays"}, ines.Seen().Keys)
	require.True(t, admin.Seen().All)
}

// places is a storage that knows two projects and who made a run.
type places struct{ Storage }

func (places) ProjectPlace(_ context.Context, key string) (store.Place, error) {
	switch key {
	case "vessels":
		return store.Place{ID: 1, Open: true}, nil
	case "quays":
		return store.Place{ID: 2}, nil
	}
	return store.Place{}, store.ErrNone
}

func (places) RunMaker(_ context.Context, _ string, number int) (int64, error) {
	if number > 9 {
		return 0, store.ErrNone
	}
	return int64(number), nil
}

func TestAllow(t *testing.T) {
	a := &Act{db: places{}}
	recorder := Who{ID: 3, Name: "Teo"}.With([]store.RoleOn{{Project: "vessels", Role: "recorder"}})
	as := func(w Who) context.Context { return As(context.Background(), w, "192.0.2.1") }
	write := api.Spec{Access: api.Member, Own: api.Recorder}
	for _, c := range []struct {
		name            string
		who             Who
		op              api.Spec
		project, number string
		want            api.Kind
		says            string
	}{
		{"one's own run", recorder, write, "vessels", "3", "", ""},
		{"another's", recorder, write, "vessels", "4", api.Denied, "another made it"},
		{"one that is not there is told so later", recorder, write, "vessels", "12", "", ""},
		{"of a project that is closed", recorder, write, "quays", "3", api.NotFound, `there is no project "quays"`},
		{"of one that is not there", recorder, write, "none", "3", api.NotFound, `there is no project "none"`},
		{"of what is no project", recorder, write, "NO", "3", api.Invalid, "project key"},
		{"rules", recorder, api.Spec{Access: api.Owner}, "vessels", "", api.Denied, "needs the role owner"},
		{"the service", recorder, api.Spec{Access: api.Administrator}, "", "", api.Denied, "only an administrator"},
		{"nobody", Who{}, api.Spec{Access: api.SignedIn}, "", "", api.SignedOut, "sign in"},
		{"health", Who{}, api.Spec{Access: api.Anyone}, "", "", "", ""},
		{"chunks", recorder, api.Spec{Access: api.Recorder, Anywhere: true}, "", "", "", ""},
		{"a machine's own tokens", Who{ID: 4, Machine: true}, api.Spec{Access: api.SignedIn, Whole: true}, "", "",
			api.Denied, "machine"},
	} {
		err := a.Allow(as(c.who), c.op, c.project, c.number)
		if c.want == "" {
			require.NoError(t, err, c.name)
			continue
		}
		require.True(t, api.Is(err, c.want), "%s: %v", c.name, err)
		require.ErrorContains(t, err, c.says, c.name)
	}
	require.Equal(t, Hidden, a.Shown(as(recorder), "quays/3@best"))
	require.Equal(t, "vessels/3@best", a.Shown(as(recorder), "vessels/3@best"))
	require.Equal(t, "quays/3", a.Shown(ByItself(context.Background()), "quays/3"), "the service itself sees all")
	require.Equal(t, Hidden, a.Shown(context.Background(), "vessels/3"), "without a caller nothing is allowed")
	require.Equal(t, Hidden, a.Shown(As(ByItself(context.Background()), recorder, ""), "quays/3"),
		"in somebody's name only what they may")
}

func TestSayEvent(t *testing.T) {
	require.Equal(t, "started", SayEvent("started", []byte(`{}`)))
	require.Equal(t, "to be deleted (days 7)", SayEvent("to-be-deleted", []byte(`{"days": 7}`)))
	require.Equal(t, `set (people "Ines", "Teo Lind")`, SayEvent("set", []byte(`{"people": ["Ines", "Teo Lind"]}`)))
	require.Equal(t, "odd", SayEvent("odd", []byte(`no JSON`)))
}
