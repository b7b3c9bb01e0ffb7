package subscriptions

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/filter"
	"kembrel/core/notice"
	"kembrel/service/act"
	"kembrel/store"
)

// most bounds how many subscriptions a project, or the whole service, has.
const most = 200

// find finds a subscription of a project, or of the whole service.
func (s *Subscriptions) find(ctx context.Context, in api.SubscriptionInput) (store.Subscription, error) {
	rows, err := s.db.ListSubscriptions(ctx, in.Project, in.Subscription)
	if err == nil && len(rows) == 0 {
		err = api.Fail(api.NotFound, "%s has no subscription %.40q; kembrel subscriptions list shows them",
			whole(in.Project), in.Subscription)
	}
	if err != nil {
		return store.Subscription{}, err
	}
	return rows[0], nil
}

func toSubscription(row store.Subscription) api.Subscription {
	out := api.Subscription{Name: row.Name, Project: row.Project, URL: row.URL, Kinds: row.Kinds, Subject: row.Subject,
		Where: row.Filter, Mode: "structured", Machine: row.MachineName, Who: row.Who, Created: row.Created,
		State: "telling", WhyPaused: sayPaused(row.WhyPaused), Paused: row.Paused, Waiting: row.Waiting,
		Parked:    row.Parked,
		Delivered: row.Delivered}
	if row.Binary {
		out.Mode = "binary"
	}
	switch {
	case row.Paused != nil:
		out.State = "paused"
	case row.Fails >= mostFails:
		out.State = "failing"
	}
	out.Says = says(out)
	return out
}

// says is how a subscription goes.
func says(s api.Subscription) string {
	var parts []string
	switch {
	case s.State == "paused" && s.WhyPaused != "":
		parts = append(parts, "Paused. "+s.WhyPaused)
	case s.State == "paused":
		parts = append(parts, "Paused; what happens is told when it goes on.")
	case s.State == "failing":
		parts = append(parts, "It takes nothing at the moment; what happens waits, and it is tried now and then.")
	case s.Delivered == nil:
		parts = append(parts, "It has been told nothing yet.")
	default:
		parts = append(parts, "It takes what it is told.")
	}
	if s.Waiting > 0 && s.State != "failing" {
		parts = append(parts, act.Many(int(s.Waiting), "event waits", "events wait")+" to be told again.")
	}
	if s.Parked > 0 {
		parts = append(parts, act.Many(int(s.Parked), "event was", "events were")+" given up; they can be sent again.")
	}
	return strings.Join(parts, " ")
}

// ListSubscriptions lists those of a project, or of the whole service.
func (s *Subscriptions) ListSubscriptions(ctx context.Context, _ act.Who,
	in *api.ProjectInput) (*api.Page[api.Subscription], error) {
	rows, err := s.db.ListSubscriptions(ctx, in.Project, "")
	if err != nil {
		return nil, err
	}
	return act.Page(rows, most, toSubscription, func(store.Subscription) string { return "" }), nil
}

// GetSubscription shows one.
func (s *Subscriptions) GetSubscription(ctx context.Context, _ act.Who,
	in *api.SubscriptionInput) (*api.Subscription, error) {
	row, err := s.find(ctx, *in)
	if err != nil {
		return nil, err
	}
	out := toSubscription(row)
	return &out, nil
}

// CreateSubscription makes one, and answers with its secret, once.
func (s *Subscriptions) CreateSubscription(ctx context.Context, who act.Who,
	in *api.NewSubscription) (*api.Subscription, error) {
	b := &in.Body
	if err := catalogue.CheckName("a subscription", b.Name); err != nil {
		return nil, api.Fail(api.Invalid, "%v", err)
	}
	row := store.Subscription{Project: in.Project, Name: b.Name, URL: b.URL, Kinds: kindsOf(b.Kinds),
		Subject: act.Clean(b.Subject), Filter: b.Where, Binary: b.Mode == "binary"}
	if err := s.check(ctx, in.Project, &row.URL, row.Kinds, &row.Filter); err != nil {
		return nil, err
	}
	var err error
	if row.Machine, err = s.machine(ctx, in.Project, b.Machine); err != nil {
		return nil, err
	}
	project := store.Project{}
	if in.Project != api.Everywhere {
		if project, err = s.projects.Project(ctx, in.Project); err != nil {
			return nil, err
		}
	}
	keys := store.SubscriptionKeys{Secret: random(), Report: random()}
	err = s.db.InTx(ctx, func(q Tx) error {
		n, err := q.CountSubscriptions(ctx, in.Project)
		if err == nil && n >= most {
			err = api.Fail(api.Conflict, "%s has %d subscriptions, and may have no more", whole(in.Project), n)
		}
		if err != nil {
			return err
		}
		if _, err = q.AddSubscription(ctx, row, keys, who.ID); errors.Is(err, store.ErrNone) {
			return api.Fail(api.Conflict, "%s has a subscription %s already", whole(in.Project), b.Name)
		}
		if err != nil {
			return err
		}
		return s.did(ctx, q, who, project, b.Name, "created")
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	s.Wake()
	return s.shown(ctx, api.SubscriptionInput{ProjectInput: in.ProjectInput, Subscription: b.Name}, keys.Secret)
}

// shown is a subscription with its secret.
func (s *Subscriptions) shown(ctx context.Context, in api.SubscriptionInput, secret []byte) (*api.Subscription, error) {
	row, err := s.find(ctx, in)
	if err != nil {
		return nil, err
	}
	out := toSubscription(row)
	out.Secret = "whsec_" + base64.StdEncoding.EncodeToString(secret)
	return &out, nil
}

func random() []byte {
	out := make([]byte, notice.SecretBytes)
	rand.Read(out)
	return out
}

// did writes an event of a subscription.
func (s *Subscriptions) did(ctx context.Context, q Tx, who act.Who, project store.Project, name, verb string) error {
	return s.Event(ctx, q, store.Event{Kind: "subscription", Verb: verb, Subject: subject(project.Key, name),
		Project: project.ID, Person: who.ID})
}

// subject is a subscription as events name it.
func subject(project, name string) string {
	if project == "" || project == api.Everywhere {
		return name
	}
	return project + " " + name
}

// whole is what a subscription is of, for people.
func whole(project string) string {
	if project == api.Everywhere {
		return "the service"
	}
	return "project " + project
}

// kindsOf are kinds of events; *.* alone stands for all.
func kindsOf(in []string) []string {
	if len(in) == 1 && in[0] == "*.*" {
		return []string{}
	}
	return in
}

// check says what is wrong with what a subscription is to be; nil fields are not looked at.
func (s *Subscriptions) check(ctx context.Context, project string, address *string, kinds []string,
	where *string) error {
	if address != nil {
		to, err := url.Parse(*address)
		if err != nil || to.Scheme != "https" && to.Scheme != "http" || to.Hostname() == "" || to.Fragment != "" {
			return api.Fail(api.Invalid,
				"%.100q is no address that can be told; write such as https://build.example/kembrel",
				*address)
		}
		if to.User != nil {
			return api.Fail(api.Invalid, "the address must hold no password: the receiver checks the signature")
		}
	}
	if err := notice.Kinds(kinds).Check(); err != nil {
		return api.Fail(api.Invalid, "%v", err)
	}
	if where == nil || *where == "" {
		return nil
	}
	if project == api.Everywhere { // what it names may be of any project
		_, err := filter.Parse(*where, s.options.Clock())
		if err != nil {
			err = api.Fail(api.Invalid, "%v", err)
		}
		return err
	}
	_, err := s.projects.ListRuns(ctx, act.Who{}, &api.RunsInput{ProjectInput: api.ProjectInput{Project: project},
		RunChoice: api.RunChoice{Shown: "all", Where: *where}, PageInput: api.PageInput{Limit: 1}})
	return err
}

// machine is the machine of a name; nil: "". It reports in its own name, so it must be one that may, there.
func (s *Subscriptions) machine(ctx context.Context, project, name string) (*int64, error) {
	if name == "" {
		return nil, nil
	}
	p, err := s.db.PersonByName(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return nil, err
	}
	if err != nil || p.Kind != "machine" {
		return nil, api.Fail(api.Invalid,
			"%.80q is no machine; an administrator makes them: kembrel people add --machine", name)
	}
	may, err := s.mayReport(ctx, p.ID, project)
	if err == nil && !may {
		err = api.Fail(api.Invalid,
			"%s has no role on %s by which it may report; give it one: kembrel roles set %s--person %s --role recorder",
			name, whole(project), strings.TrimPrefix(project+" ", api.Everywhere+" "), name)
	}
	return &p.ID, err
}

// mayReport reports whether a machine may report in a project, or in all, at the moment.
func (s *Subscriptions) mayReport(ctx context.Context, machine int64, project string) (bool, error) {
	roles, err := s.db.PersonRoles(ctx, machine)
	if err != nil {
		return false, err
	}
	who := act.Who{ID: machine, Machine: true}.With(roles)
	if project == api.Everywhere {
		return who.OnService() >= api.Recorder, nil
	}
	role, err := s.RoleOn(act.As(ctx, who, ""), project)
	return role >= api.Recorder, err
}

// ChangeSubscription changes one.
func (s *Subscriptions) ChangeSubscription(ctx context.Context, who act.Who,
	in *api.SubscriptionEdit) (*api.Subscription, error) {
	row, err := s.find(ctx, in.SubscriptionInput)
	if err != nil {
		return nil, err
	}
	b := &in.Body
	kinds := kindsOf(b.Kinds)
	if err := s.check(ctx, in.Project, b.URL, kinds, b.Where); err != nil {
		return nil, err
	}
	change := store.SubscriptionChange{URL: b.URL, Subject: b.Subject, Filter: b.Where, Kinds: kinds}
	if b.Mode != "" {
		binary := b.Mode == "binary"
		change.Binary = &binary
	}
	if b.Machine != nil {
		if change.Machine, err = s.machine(ctx, in.Project, *b.Machine); err != nil {
			return nil, err
		}
		if change.Machine == nil {
			change.Machine = new(int64)
		}
	}
	return s.change(ctx, who, row, in.SubscriptionInput, "changed", func(q Tx) error {
		if err := q.ChangeSubscription(ctx, row.ID, change); err != nil || b.Paused == nil {
			return err
		}
		return q.PauseSubscription(ctx, row.ID, *b.Paused, "")
	})
}

// change does something to a subscription in a transaction, with its event, and shows it.
func (s *Subscriptions) change(ctx context.Context, who act.Who, row store.Subscription, in api.SubscriptionInput,
	verb string, do func(q Tx) error) (*api.Subscription, error) {
	err := s.db.InTx(ctx, func(q Tx) error {
		if err := do(q); err != nil {
			return err
		}
		return s.did(ctx, q, who, store.Project{ID: row.ProjectID, Key: row.Project}, row.Name, verb)
	})
	if err != nil {
		return nil, err
	}
	s.Live.News()
	s.Wake()
	return s.GetSubscription(ctx, who, &in)
}

// DeleteSubscription deletes one.
func (s *Subscriptions) DeleteSubscription(ctx context.Context, who act.Who,
	in *api.SubscriptionInput) (*api.None, error) {
	row, err := s.find(ctx, *in)
	if err != nil {
		return nil, err
	}
	_, err = s.change(ctx, who, row, *in, "deleted", func(q Tx) error { return q.DropSubscription(ctx, row.ID) })
	if api.Is(err, api.NotFound) {
		err = nil
	}
	return nil, err
}

// NewSubscriptionSecret replaces the secret.
func (s *Subscriptions) NewSubscriptionSecret(ctx context.Context, who act.Who,
	in *api.SubscriptionInput) (*api.Subscription, error) {
	row, err := s.find(ctx, *in)
	if err != nil {
		return nil, err
	}
	secret := random()
	if _, err = s.change(ctx, who, row, *in, "secret-replaced", func(q Tx) error {
		return q.NewSecret(ctx, row.ID, secret)
	}); err != nil {
		return nil, err
	}
	return s.shown(ctx, *in, secret)
}

// TrySubscription sends a message that tells of nothing.
func (s *Subscriptions) TrySubscription(ctx context.Context, who act.Who,
	in *api.SubscriptionInput) (*api.Delivery, error) {
	row, err := s.find(ctx, *in)
	if err != nil {
		return nil, err
	}
	keys, err := s.db.SubscriptionKeys(ctx, row.ID)
	if err != nil {
		return nil, err
	}
	row.Machine = nil
	now := s.options.Clock()
	e := store.Told{Kind: "subscription", Verb: "tried", Subject: subject(row.Project, row.Name), Who: who.Name,
		At: now, Data: json.RawMessage("{}")}
	if row.Project != api.Everywhere {
		e.Project = row.Project
	}
	m, err := s.message(row, keys, e, now)
	if err != nil {
		return nil, err
	}
	a := s.send.post(ctx, row.URL, m)
	out := toDelivery(store.DeliveryOf{Kind: e.Kind, Verb: e.Verb, At: now, Delivery: store.Delivery{Subject: e.Subject,
		State: "parked", Attempts: 1, Last: &now, Status: a.status, Trouble: string(a.trouble), Answer: a.text,
		Took: int(a.took.Milliseconds())}})
	if a.taken() {
		out.State = "delivered"
	}
	out.Request = shownRequest(m)
	return &out, nil
}

func toDelivery(d store.DeliveryOf) api.Delivery {
	return api.Delivery{Event: d.Event, Type: notice.Type(d.Kind, d.Verb), Subject: d.Subject, At: d.At, State: d.State,
		Attempts: d.Attempts, Last: d.Last, Next: d.Next, Status: d.Status, Answer: d.Answer, Took: d.Took,
		Trouble: trouble(d.Trouble).say(d.Status, d.Answer)}
}

// ListDeliveries lists what a subscription was told.
func (s *Subscriptions) ListDeliveries(ctx context.Context, _ act.Who,
	in *api.DeliveriesInput) (*api.Page[api.Delivery], error) {
	row, err := s.find(ctx, in.SubscriptionInput)
	if err != nil {
		return nil, err
	}
	below, err := act.CursorNumber(in.Cursor, 0)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.ListDeliveries(ctx, row.ID, in.State, below, in.Limit+1)
	if err != nil {
		return nil, err
	}
	return act.Page(rows, in.Limit, toDelivery, func(d store.DeliveryOf) string { return fmt.Sprint(d.Event) }), nil
}

// delivery finds one.
func (s *Subscriptions) delivery(ctx context.Context, in *api.DeliveryInput) (store.Subscription, store.DeliveryOf,
	error) {
	row, err := s.find(ctx, in.SubscriptionInput)
	if err != nil {
		return row, store.DeliveryOf{}, err
	}
	d, err := s.db.Delivery(ctx, row.ID, in.Event)
	return row, d, act.OrNotFound(err, "subscription %s was not told of event %d", row.Name, in.Event)
}

// GetDelivery shows what was told, and what was answered.
func (s *Subscriptions) GetDelivery(ctx context.Context, _ act.Who, in *api.DeliveryInput) (*api.Delivery, error) {
	row, d, err := s.delivery(ctx, in)
	if err != nil {
		return nil, err
	}
	out := toDelivery(d)
	n, err := s.notice(row, store.SubscriptionKeys{}, d.Told())
	if err != nil {
		return nil, err
	}
	m, err := n.Structured()
	if err != nil {
		return nil, err
	}
	out.Request = shownRequest(m)
	return &out, nil
}

// shownRequest is the body of a message without the token to report back with.
func shownRequest(m notice.Message) json.RawMessage {
	var event map[string]any
	if json.Unmarshal(m.Body, &event) != nil {
		return nil
	}
	told, _ := event["data"].(map[string]any)
	if told == nil {
		told = event // binary mode
	}
	if report, ok := told["report"].(map[string]any); ok {
		report["token"] = "not shown"
	}
	out, err := json.Marshal(event)
	if err != nil {
		return nil
	}
	return out
}

// SendAgain has an event told again.
func (s *Subscriptions) SendAgain(ctx context.Context, who act.Who, in *api.DeliveryInput) (*api.SentAgain, error) {
	row, d, err := s.delivery(ctx, in)
	if err != nil {
		return nil, err
	}
	return s.again(ctx, who, row, in.SubscriptionInput, d.Event)
}

// SendParked has all that was given up told again.
func (s *Subscriptions) SendParked(ctx context.Context, who act.Who, in *api.SubscriptionInput) (*api.SentAgain,
	error) {
	row, err := s.find(ctx, *in)
	if err != nil {
		return nil, err
	}
	return s.again(ctx, who, row, *in, 0)
}

func (s *Subscriptions) again(ctx context.Context, who act.Who, row store.Subscription, in api.SubscriptionInput,
	event int64) (*api.SentAgain, error) {
	out := &api.SentAgain{}
	_, err := s.change(ctx, who, row, in, "sent-again", func(q Tx) (err error) {
		out.Count, err = q.SendAgain(ctx, row.ID, event)
		return err
	})
	return out, err
}

// ClearDeliveries forgets what was taken long ago.
func (s *Subscriptions) ClearDeliveries(ctx context.Context) error { return s.db.ClearDeliveries(ctx) }
