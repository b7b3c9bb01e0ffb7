package subscriptions

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"kembrel/api"
	"kembrel/service/act"
	"kembrel/store"
)

// A receiver reports back with the token of its event. It is nowhere kept: it names subscription and event, and an
// HMAC-SHA256 over both by a key of the subscription shows that it is genuine.

const (
	reportPrefix = "kembrelreport_"
	reportTime   = 72 * time.Hour // behind the event
)

// IsReport reports whether a token is one to report back with.
func IsReport(token string) bool { return strings.HasPrefix(token, reportPrefix) }

func token(key []byte, subscription, event int64) string {
	return fmt.Sprintf("%s%d_%d_%s", reportPrefix, subscription, event, seal(key, subscription, event))
}

func seal(key []byte, subscription, event int64) string {
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%d %d", subscription, event)
	return base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(mac.Sum(nil))
}

// WhoReports is in whose name a token reports back, and on what.
func (s *Subscriptions) WhoReports(ctx context.Context, text string) (act.Who, error) {
	unknown := api.Fail(api.SignedOut, "this token to report back with is not known here")
	parts := strings.Split(strings.TrimPrefix(text, reportPrefix), "_")
	if len(parts) != 3 {
		return act.Who{}, unknown
	}
	subscription, err := strconv.ParseInt(parts[0], 10, 64)
	event, wrong := strconv.ParseInt(parts[1], 10, 64)
	if err != nil || wrong != nil {
		return act.Who{}, unknown
	}
	r, err := s.db.ReporterOn(ctx, subscription, event)
	switch {
	case errors.Is(err, store.ErrNone):
		return act.Who{}, unknown
	case err != nil:
		return act.Who{}, err
	case !hmac.Equal([]byte(parts[2]), []byte(seal(r.Key, subscription, event))):
		return act.Who{}, unknown
	case s.options.Clock().After(r.At.Add(reportTime)):
		return act.Who{}, api.Fail(api.SignedOut, "the time to report back on this event is over")
	case r.Closed != nil:
		return act.Who{}, api.Fail(api.SignedOut, "%s was closed by an administrator", r.Name)
	}
	may, err := s.mayReport(ctx, r.Machine, r.Project)
	if err == nil && !may {
		err = api.Fail(api.SignedOut, "%s has no role on %s any more by which it may report", r.Name, r.Project)
	}
	if err != nil {
		return act.Who{}, err
	}
	e, err := s.db.Event(ctx, event)
	if err != nil {
		return act.Who{}, err
	}
	member := "member"
	who := act.Who{ID: r.Machine, Name: r.Name, Machine: true, Scope: store.Scope{Role: &member, Project: &r.Project},
		Report: &act.Report{Subscription: subscription, Event: event}}
	if a, ok := editionIn(e); ok {
		who.Report.On = a.String()
	} else if e.Run != 0 {
		who.Report.On = api.Address{Project: r.Project, Run: e.Run}.String()
	}
	return who.With([]store.RoleOn{{Project: r.Project, Role: member}}), nil
}
