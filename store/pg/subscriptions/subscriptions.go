package subscriptions

import (
	"context"
	"strconv"
	"strings"
	"time"

	"kembrel/store"
	"kembrel/store/pg/db"
)

// ListSubscriptions lists those of a project by name; name: that one alone.
func (q Queries) ListSubscriptions(ctx context.Context, project, name string) ([]store.Subscription, error) {
	return db.List[store.Subscription](ctx, q, "subscription_list", db.A{"project": project, "name": name})
}

// HeldSubscription is one that a process holds; store.ErrNone: it does no more, or it is paused.
func (q Queries) HeldSubscription(ctx context.Context, id int64, holder string) (store.Subscription, error) {
	return db.One[store.Subscription](ctx, q, "subscription_held", db.A{"id": id, "holder": holder})
}

// SubscriptionKeys are what one signs with.
func (q Queries) SubscriptionKeys(ctx context.Context, id int64) (store.SubscriptionKeys, error) {
	return db.One[store.SubscriptionKeys](ctx, q, "subscription_keys", db.A{"id": id})
}

// CountSubscriptions counts those of a project.
func (q Queries) CountSubscriptions(ctx context.Context, project string) (int64, error) {
	return db.Value[int64](ctx, q, "subscription_count", db.A{"project": project})
}

// AddSubscription adds one; store.ErrNone where its project has one of its name.
func (q Queries) AddSubscription(ctx context.Context, s store.Subscription, keys store.SubscriptionKeys,
	person int64) (int64, error) {
	return db.Value[int64](ctx, q, "subscription_add", db.A{"project": s.Project, "name": s.Name, "url": s.URL,
		"kinds": append([]string{}, s.Kinds...), "subject": s.Subject, "filter": s.Filter, "binary": s.Binary,
		"secret": keys.Secret, "machine": s.Machine, "report": keys.Report, "person": person})
}

// ChangeSubscription changes what is given.
func (q Queries) ChangeSubscription(ctx context.Context, id int64, c store.SubscriptionChange) error {
	_, err := q.Exec(ctx, "subscription_change", db.A{"id": id, "url": c.URL, "subject": c.Subject,
		"filter": c.Filter, "kinds": c.Kinds, "binary": c.Binary, "machine": c.Machine})
	return err
}

// NewSecret replaces the secret; the one before still signs for a day.
func (q Queries) NewSecret(ctx context.Context, id int64, secret []byte) error {
	_, err := q.Exec(ctx, "subscription_secret", db.A{"id": id, "secret": secret})
	return err
}

// PauseSubscription has nothing sent any more, or again.
func (q Queries) PauseSubscription(ctx context.Context, id int64, paused bool, why string) error {
	_, err := q.Exec(ctx, "subscription_pause", db.A{"id": id, "paused": paused, "why": why})
	if err == nil && !paused {
		_, err = q.Exec(ctx, "subscription_due", db.A{"id": id})
	}
	return err
}

// DropSubscription deletes one with all that it was told.
func (q Queries) DropSubscription(ctx context.Context, id int64) error {
	_, err := q.Exec(ctx, "subscription_drop", db.A{"id": id})
	return err
}

// HoldSubscriptions has a process serve those that no other does, for so long, and lists all that it serves.
func (q Queries) HoldSubscriptions(ctx context.Context, holder string, long time.Duration) ([]int64, error) {
	return db.Values[int64](ctx, q, "subscription_hold", db.A{"holder": holder, "long": long})
}

// ReleaseSubscriptions lets other processes serve those that one did.
func (q Queries) ReleaseSubscriptions(ctx context.Context, holder string) error {
	_, err := q.Exec(ctx, "subscription_release", db.A{"holder": holder})
	return err
}

// TellUpTo notes how far a subscription was told, and how often in a row it took nothing. It reports whether the
// process still holds it.
func (q Queries) TellUpTo(ctx context.Context, id int64, holder, mark string, fails int) (bool, error) {
	xact, number, _ := strings.Cut(mark, "-")
	event, err := strconv.ParseInt(number, 10, 64)
	if err != nil {
		return false, err
	}
	n, err := q.Exec(ctx, "subscription_tell", db.A{"id": id, "holder": holder, "xact": xact, "event": event,
		"fails": fails})
	return n > 0, err
}

// FailsOf notes how often in a row a subscription took nothing, and reports whether the process still holds it.
func (q Queries) FailsOf(ctx context.Context, id int64, holder string, fails int) (bool, error) {
	n, err := q.Exec(ctx, "subscription_fails", db.A{"id": id, "holder": holder, "fails": fails})
	return n > 0, err
}

// Event finds one.
func (q Queries) Event(ctx context.Context, id int64) (store.Told, error) {
	return db.One[store.Told](ctx, q, "event_one", db.A{"id": id})
}

// PutDeliveries adds deliveries, or changes those that are there.
func (q Queries) PutDeliveries(ctx context.Context, subscription int64, all []store.Delivery) error {
	if len(all) == 0 {
		return nil
	}
	n := len(all)
	events, subjects, states := make([]int64, n), make([]string, n), make([]string, n)
	attempts, statuses, tooks := make([]int, n), make([]int, n), make([]int, n)
	firsts, lasts, nexts := make([]*time.Time, n), make([]*time.Time, n), make([]*time.Time, n)
	troubles, answers := make([]string, n), make([]string, n)
	for i, d := range all {
		events[i], subjects[i], states[i], attempts[i], statuses[i], tooks[i] = d.Event, d.Subject, d.State, d.Attempts,
			d.Status, d.Took
		firsts[i], lasts[i], nexts[i], troubles[i], answers[i] = d.First, d.Last, d.Next, d.Trouble, d.Answer
	}
	_, err := q.Exec(ctx, "delivery_put", db.A{"subscription": subscription, "events": events, "subjects": subjects,
		"states": states, "attempts": attempts, "firsts": firsts, "lasts": lasts, "nexts": nexts, "statuses": statuses,
		"troubles": troubles, "answers": answers, "tooks": tooks})
	return err
}

// DueDeliveries are the first that wait of each subject, where their time has come.
func (q Queries) DueDeliveries(ctx context.Context, subscription int64, now time.Time,
	limit int) ([]store.DeliveryOf, error) {
	return db.List[store.DeliveryOf](ctx, q, "delivery_due", db.A{"subscription": subscription, "now": now,
		"limit": limit})
}

// WaitingSubjects are those of which something waits.
func (q Queries) WaitingSubjects(ctx context.Context, subscription int64) ([]string, error) {
	return db.Values[string](ctx, q, "delivery_subjects", db.A{"subscription": subscription})
}

// ListDeliveries lists deliveries, the latest event first, behind one (0: from the latest), in a state ("": in all).
func (q Queries) ListDeliveries(ctx context.Context, subscription int64, state string, below int64,
	limit int) ([]store.DeliveryOf, error) {
	return db.List[store.DeliveryOf](ctx, q, "delivery_list", db.A{"subscription": subscription, "state": state,
		"event": 0, "below": below, "limit": limit})
}

// Delivery finds one.
func (q Queries) Delivery(ctx context.Context, subscription, event int64) (store.DeliveryOf, error) {
	return db.One[store.DeliveryOf](ctx, q, "delivery_list", db.A{"subscription": subscription, "state": "",
		"event": event, "below": 0, "limit": 1})
}

// SendAgain has one told again, or all that are parked; it reports how many.
func (q Queries) SendAgain(ctx context.Context, subscription, event int64) (int64, error) {
	return q.Exec(ctx, "delivery_again", db.A{"subscription": subscription, "event": event})
}

// ClearDeliveries forgets what was taken long ago.
func (q Queries) ClearDeliveries(ctx context.Context) error {
	_, err := q.Exec(ctx, "delivery_clear", db.A{})
	return err
}

// ReporterOn is who may report back on an event.
func (q Queries) ReporterOn(ctx context.Context, subscription, event int64) (store.Reporter, error) {
	return db.One[store.Reporter](ctx, q, "report_by", db.A{"subscription": subscription, "event": event})
}

// ReportOnce notes that something was reported back, and reports whether it had not been before.
func (q Queries) ReportOnce(ctx context.Context, subscription, event int64, purpose string) (bool, error) {
	n, err := q.Exec(ctx, "report_once", db.A{"subscription": subscription, "event": event, "purpose": purpose,
		"most": store.MostReports})
	return n > 0, err
}
