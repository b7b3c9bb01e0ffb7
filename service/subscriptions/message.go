package subscriptions

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"kembrel/api"
	"kembrel/core/catalogue"
	"kembrel/core/notice"
	"kembrel/service/act"
	"kembrel/store"
)

// data is that of every event that others are told of.
type data struct {
	Project string          `json:"project,omitempty"`
	Who     string          `json:"who,omitempty"`
	Data    json.RawMessage `json:"data"`
	Says    string          `json:"says"`
	Page    string          `json:"page,omitempty"`
	Edition *editionOf      `json:"edition,omitempty"`
	Report  *reportTo       `json:"report,omitempty"`
}

// editionOf is the edition that an event is about.
type editionOf struct {
	Model  string `json:"model"`
	Number int    `json:"number"`
	At     string `json:"at,omitempty"` // its address for programs
}

// reportTo is where, and with what, the receiver may report back.
type reportTo struct {
	Check string    `json:"check,omitempty"`
	Use   string    `json:"use,omitempty"`
	Note  string    `json:"note,omitempty"`
	Token string    `json:"token"`
	Until time.Time `json:"until"`
}

// wants reports whether a subscription is to be told of an event.
func (s *Subscriptions) wants(ctx context.Context, row store.Subscription, e store.Told) (bool, error) {
	if !reaches(row, e) || !notice.Kinds(row.Kinds).Has(e.Kind, e.Verb) || !notice.Of(e.Subject, row.Subject) {
		return false, nil
	}
	if row.Filter == "" || e.Run == 0 {
		return true, nil
	}
	found, err := s.projects.ListRuns(ctx, act.Who{},
		&api.RunsInput{ProjectInput: api.ProjectInput{Project: e.Project},
			RunChoice: api.RunChoice{Shown: "all", Where: fmt.Sprintf("(%s) && number == %d", row.Filter, e.Run)},
			PageInput: api.PageInput{Limit: 1}})
	if api.Is(err, api.Invalid) { // it names what is no more
		return false, nil
	}
	return err == nil && len(found.Items) > 0, err
}

// reaches reports whether an event is of what a subscription is of. What is told of people and of subscriptions
// themselves is in the audit alone.
func reaches(row store.Subscription, e store.Told) bool {
	switch {
	case e.Kind == "subscription" || e.Kind == "role":
		return false
	case row.Project == api.Everywhere:
		return e.Project != "" || e.Kind == "snapshot"
	}
	return e.Project == row.Project
}

// message is what a subscription is told of an event, signed.
func (s *Subscriptions) message(row store.Subscription, keys store.SubscriptionKeys, e store.Told,
	now time.Time) (notice.Message, error) {
	n, err := s.notice(row, keys, e)
	if err != nil {
		return notice.Message{}, err
	}
	m := n.Binary()
	if !row.Binary {
		if m, err = n.Structured(); err != nil {
			return m, err
		}
	}
	secrets := [][]byte{keys.Secret}
	if keys.Before != nil {
		secrets = append(secrets, keys.Before)
	}
	return m, m.Sign(now, secrets...)
}

// notice is an event as a subscription is told of it.
func (s *Subscriptions) notice(row store.Subscription, keys store.SubscriptionKeys,
	e store.Told) (notice.Notice, error) {
	d := data{Project: e.Project, Who: e.Who, Data: e.Data, Says: act.SayEvent(e.Verb, e.Data)}
	base := ""
	if public := s.public.Load(); public != nil {
		base = *public
	}
	if e.Run != 0 {
		d.Page = fmt.Sprintf("%s/%s/%d", base, e.Project, e.Run)
	}
	if a, ok := editionIn(e); ok {
		d.Edition = &editionOf{Model: a.Model, Number: a.Edition,
			At: fmt.Sprintf("%s%s/models/%s/editions/%d", base, api.Base, a.Model, a.Edition)}
		d.Page = fmt.Sprintf("%s/catalogue/%s/%d", base, a.Model, a.Edition)
	}
	if row.Machine != nil && (d.Edition != nil || e.Run != 0) {
		d.Report = &reportTo{Token: token(keys.Report, row.ID, e.ID), Until: e.At.Add(reportTime).UTC()}
		if d.Edition != nil {
			d.Report.Check, d.Report.Use = d.Edition.At+"/checks", d.Edition.At+"/uses"
		} else {
			d.Report.Note = fmt.Sprintf("%s%s/projects/%s/runs/%d/notes", base, api.Base, e.Project, e.Run)
		}
	}
	source := "/"
	if e.Project != "" {
		source = "/projects/" + e.Project
	}
	text, err := json.Marshal(d)
	return notice.Notice{ID: identity(e.ID), Source: source, Type: notice.Type(e.Kind, e.Verb),
		Subject: e.Subject, Time: e.At, Data: text}, err
}

// editionIn is the edition that an event is about, by its subject or, where that is a standing, by what it says.
func editionIn(e store.Told) (catalogue.Address, bool) {
	if e.Kind != "model" {
		return catalogue.Address{}, false
	}
	a, err := catalogue.Parse(e.Subject)
	if err != nil {
		return a, false
	}
	if a.Edition == 0 {
		var says struct{ Edition int }
		if json.Unmarshal(e.Data, &says) != nil {
			return a, false
		}
		a = catalogue.Address{Model: a.Model, Edition: says.Edition}
	}
	return a, a.Edition > 0
}
