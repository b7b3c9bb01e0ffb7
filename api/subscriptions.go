package api

import (
	"encoding/json"
	"time"
)

// Subscription is an address that is told of what happens in a project, or in the whole service.
type Subscription struct {
	Name      string     `json:"name" example:"build-hall"`
	Project   string     `json:"project" doc:"*: the whole service"`
	URL       string     `json:"url" example:"https://build.harbour.example/kembrel"`
	Kinds     []string   `json:"kinds" doc:"Of events: edition.entered, run.* for all of runs; empty: all"`
	Subject   string     `json:"subject,omitempty" doc:"Only of this, and what is of it: vessel-classifier, vessels/17"`
	Where     string     `json:"where,omitempty" doc:"Only of runs that fulfil this condition when they are told of; it does not bind other events"`
	Mode      string     `json:"mode" enum:"structured,binary" doc:"Of CloudEvents: the whole event as the body, or its attributes as headers"`
	Machine   string     `json:"machine,omitempty" doc:"In whose name the receiver may report back; absent: it may not"`
	Who       string     `json:"who"`
	Created   time.Time  `json:"created"`
	State     string     `json:"state" enum:"telling,failing,paused" doc:"failing: it took nothing the last times; what happens waits"`
	WhyPaused string     `json:"why_paused,omitempty"`
	Paused    *time.Time `json:"paused,omitempty"`
	Waiting   int64      `json:"waiting" doc:"Events that were tried, or wait behind one of the same subject"`
	Parked    int64      `json:"parked" doc:"Events that were given up"`
	Delivered *time.Time `json:"delivered,omitempty" doc:"When it last took one"`
	Says      string     `json:"says" doc:"How it goes"`
	Secret    string     `json:"secret,omitempty" doc:"With which it checks signatures; shown once"`
}

// Delivery is an event that a subscription was told, or is to be told.
type Delivery struct {
	Event    int64           `json:"event"`
	Type     string          `json:"type" example:"internal.kembrel.edition.entered"`
	Subject  string          `json:"subject"`
	At       time.Time       `json:"at" doc:"Of the event"`
	State    string          `json:"state" enum:"waiting,delivered,parked"`
	Attempts int             `json:"attempts"`
	Last     *time.Time      `json:"last,omitempty"`
	Next     *time.Time      `json:"next,omitempty"`
	Status   int             `json:"status,omitempty" doc:"Of the answer; absent: there was none"`
	Trouble  string          `json:"trouble,omitempty" doc:"Why it was not taken"`
	Answer   string          `json:"answer,omitempty" doc:"How the answer begins"`
	Took     int             `json:"took_ms"`
	Request  json.RawMessage `json:"request,omitempty" doc:"What is sent, without the token; absent in lists"`
}

// SubscriptionInput names a subscription.
type SubscriptionInput struct {
	ProjectInput
	Subscription string `path:"subscription" maxLength:"40" example:"build-hall"`
}

// NewSubscription makes one.
type NewSubscription struct {
	ProjectInput
	Body struct {
		Name    string   `json:"name" maxLength:"40"`
		URL     string   `json:"url" minLength:"1" maxLength:"2000"`
		Kinds   []string `json:"kinds,omitempty" maxItems:"50"`
		Subject string   `json:"subject,omitempty" maxLength:"200"`
		Where   string   `json:"where,omitempty" maxLength:"2000"`
		Mode    string   `json:"mode,omitempty" enum:"structured,binary"`
		Machine string   `json:"machine,omitempty" maxLength:"80"`
	}
}

// SubscriptionEdit changes one; what is absent stays.
type SubscriptionEdit struct {
	SubscriptionInput
	Body struct {
		URL     *string  `json:"url,omitempty" minLength:"1" maxLength:"2000"`
		Kinds   []string `json:"kinds,omitempty" maxItems:"50" doc:"*.* alone: all"`
		Subject *string  `json:"subject,omitempty" maxLength:"200"`
		Where   *string  `json:"where,omitempty" maxLength:"2000"`
		Mode    string   `json:"mode,omitempty" enum:"structured,binary"`
		Machine *string  `json:"machine,omitempty" maxLength:"80" doc:"Empty: the receiver may not report back"`
		Paused  *bool    `json:"paused,omitempty" doc:"false: go on, at once with what waits"`
	}
}

// DeliveriesInput lists what a subscription was told.
type DeliveriesInput struct {
	SubscriptionInput
	PageInput
	State string `query:"state" enum:"waiting,delivered,parked"`
}

// DeliveryInput names a delivery.
type DeliveryInput struct {
	SubscriptionInput
	Event int64 `path:"event" minimum:"1"`
}

// SentAgain says how many are told again.
type SentAgain struct {
	Count int64 `json:"count"`
}

// The operations on subscriptions.
var (
	ListSubscriptions = declare[ProjectInput, Page[Subscription]](Spec{ID: "subscriptions", Method: "GET",
		Path: "/projects/{project}/subscriptions", Summary: "List who is told of what happens in a project, or (*) in the whole service",
		Access: Owner, Everywhere: true})
	CreateSubscription = declare[NewSubscription, Subscription](Spec{ID: "create-subscription", Method: "POST",
		Path: "/projects/{project}/subscriptions", Summary: "Have an address told of what happens in a project, or (*) in the whole service",
		Access: Owner, Everywhere: true, Status: 201})
	GetSubscription = declare[SubscriptionInput, Subscription](Spec{ID: "subscription", Method: "GET",
		Path: "/projects/{project}/subscriptions/{subscription}", Summary: "Show a subscription", Access: Owner, Everywhere: true})
	ChangeSubscription = declare[SubscriptionEdit, Subscription](Spec{ID: "change-subscription", Method: "PATCH",
		Path: "/projects/{project}/subscriptions/{subscription}", Summary: "Change a subscription, pause it or go on",
		Access: Owner, Everywhere: true})
	DeleteSubscription = declare[SubscriptionInput, None](Spec{ID: "delete-subscription", Method: "DELETE",
		Path: "/projects/{project}/subscriptions/{subscription}", Summary: "Delete a subscription", Access: Owner, Everywhere: true})
	NewSubscriptionSecret = declare[SubscriptionInput, Subscription](Spec{ID: "new-subscription-secret", Method: "POST",
		Path:    "/projects/{project}/subscriptions/{subscription}/secret",
		Summary: "Replace the secret; the one before signs too for a day", Access: Owner, Everywhere: true})
	TrySubscription = declare[SubscriptionInput, Delivery](Spec{ID: "try-subscription", Method: "POST",
		Path: "/projects/{project}/subscriptions/{subscription}/try", Summary: "Send a message that tells of nothing",
		Access: Owner, Everywhere: true, Status: 200})
	ListDeliveries = declare[DeliveriesInput, Page[Delivery]](Spec{ID: "deliveries", Method: "GET",
		Path:    "/projects/{project}/subscriptions/{subscription}/deliveries",
		Summary: "List what a subscription was told, the latest first", Access: Owner, Everywhere: true})
	GetDelivery = declare[DeliveryInput, Delivery](Spec{ID: "delivery", Method: "GET",
		Path:    "/projects/{project}/subscriptions/{subscription}/deliveries/{event}",
		Summary: "Show what a subscription was told, and what it answered", Access: Owner, Everywhere: true})
	SendAgain = declare[DeliveryInput, SentAgain](Spec{ID: "send-again", Method: "POST",
		Path:    "/projects/{project}/subscriptions/{subscription}/deliveries/{event}/again",
		Summary: "Tell it again", Access: Owner, Everywhere: true, Status: 200})
	SendParked = declare[SubscriptionInput, SentAgain](Spec{ID: "send-parked", Method: "POST",
		Path:    "/projects/{project}/subscriptions/{subscription}/parked/again",
		Summary: "Tell again all that was given up", Access: Owner, Everywhere: true, Status: 200})
)
