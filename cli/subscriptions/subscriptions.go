package subscriptions

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Subscriptions makes the command subscriptions.
func (a *Commands) Subscriptions() *cobra.Command {
	var of place
	var output string
	cmd := &cobra.Command{Use: "subscriptions (--project PROJECT | --service)", Short: "List who is told of events; look after them",
		Args: term.Arguments(),
		Long: `List the addresses that are told of what happens in a project, with how it goes; with --service those that are told of
what happens in all projects, and of new data.

A subscription is told by HTTP, as CloudEvents 1.0, signed after the Standard Webhooks scheme: docs/subscriptions.md.
What a receiver does not take is sent again, after growing pauses, for three days; then it is parked. Events of one
subject come in order; each comes at least once, and has an id to count it once.`,
		Example: `  kembrel subscriptions --project vessels
  kembrel subscriptions create build-hall https://build.harbour.example/kembrel --project vessels --kind model.entered --kind model.given
  kembrel subscriptions deliveries build-hall --project vessels --state parked
  kembrel subscriptions create archive https://archive.harbour.example/in --service --kind snapshot.made`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			in, err := of.input()
			if err != nil {
				return err
			}
			page, err := client.Call(cmd.Context(), a.Client(), api.ListSubscriptions, &in)
			if err != nil {
				return err
			}
			l := term.List("subscription", "address", "events", "state", "waiting#", "parked#", "last taken")
			l.Empty = "Nobody is told of what happens in " + where(in.Project) + "."
			for _, s := range page.Items {
				l.Add(s.Name, s.URL, kinds(s), s.State, strconv.FormatInt(s.Waiting, 10),
					strconv.FormatInt(s.Parked, 10), moment(s.Delivered))
			}
			return a.Print(output, l, term.OrEmpty(page.Items))
		}}
	a.OutputFlag(cmd, &output)
	f := cmd.PersistentFlags()
	f.StringVar(&of.project, "project", "", "project whose events they are")
	f.BoolVar(&of.service, "service", false, "of all projects, and of new data; for owners of the service")
	cmd.MarkFlagsMutuallyExclusive("project", "service")
	cmd.AddCommand(a.show(&of), a.create(&of), a.change(&of), a.delete(&of), a.secret(&of), a.try(&of),
		a.deliveries(&of), a.delivery(&of), a.again(&of))
	return cmd
}

// place is what subscriptions are of.
type place struct {
	project string
	service bool
}

func (p place) input() (in api.ProjectInput, err error) {
	switch {
	case p.service:
		in.Project = api.Everywhere
	case p.project == "":
		err = term.Usage("say of which project: --project vessels; or --service, of all")
	default:
		in.Project = p.project
	}
	return in, err
}

func where(project string) string {
	if project == api.Everywhere {
		return "the whole service"
	}
	return project
}

func kinds(s api.Subscription) string {
	text := "all"
	if len(s.Kinds) > 0 {
		text = strings.Join(s.Kinds, ", ")
	}
	if s.Subject != "" {
		text += " of " + s.Subject
	}
	if s.Where != "" {
		text += " where " + s.Where
	}
	return text
}

func moment(t *time.Time) string {
	if t == nil {
		return ""
	}
	return term.When(*t)
}

// on is a command on one subscription.
func (a *Commands) on(of *place, use, short, example string,
	do func(cmd *cobra.Command, in api.SubscriptionInput) error) *cobra.Command {
	return &cobra.Command{Use: use + " SUBSCRIPTION (--project PROJECT | --service)", Short: short,
		Args:    term.Arguments("SUBSCRIPTION"),
		Example: "  kembrel subscriptions " + example, ValidArgsFunction: a.complete(of),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := named(of, args[0])
			if err != nil {
				return err
			}
			return do(cmd, in)
		}}
}

func named(of *place, name string) (in api.SubscriptionInput, err error) {
	in.ProjectInput, err = of.input()
	in.Subscription = name
	return in, err
}

// complete completes the names of a project's subscriptions.
func (a *Commands) complete(of *place) func(*cobra.Command, []string, string) ([]string,
	cobra.ShellCompDirective) {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		in, err := of.input()
		if len(args) > 0 || err != nil || a.Settings.Load(cmd.Flags()) != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		page, err := client.Call(cmd.Context(), a.Client(), api.ListSubscriptions, &in)
		if err != nil {
			return nil, cobra.ShellCompDirectiveError
		}
		var out []string
		for _, s := range page.Items {
			out = append(out, cobra.CompletionWithDesc(s.Name, term.Printable(s.URL)))
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func (a *Commands) print(output string, s *api.Subscription) error {
	l := term.List("field", "value")
	for _, row := range [][2]string{{"subscription", s.Name}, {"of", where(s.Project)}, {"address", s.URL},
		{"events", kinds(*s)}, {"mode", s.Mode}, {"reports back as", s.Machine}, {"made by", s.Who},
		{"created", term.When(s.Created)}, {"state", s.State}, {"how it goes", s.Says}, {"last taken",
			moment(s.Delivered)}} {
		if row[1] != "" {
			l.Add(row[0], row[1])
		}
	}
	return a.Print(output, l, s)
}

// sayNew prints a subscription's secret: alone on the output, so that it can be piped into the receiver's store.
func (a *Commands) sayNew(output string, s *api.Subscription, says string) error {
	if output == "json" {
		return a.print(output, s)
	}
	fmt.Fprintf(a.Err, "%s Its secret is shown this once; the receiver checks signatures with it:\n", says)
	fmt.Fprintln(a.Out, s.Secret)
	return nil
}

func (a *Commands) show(of *place) *cobra.Command {
	var output string
	cmd := a.on(of, "show", "Show a subscription and how it goes", "show build-hall --project vessels",
		func(cmd *cobra.Command, in api.SubscriptionInput) error {
			s, err := client.Call(cmd.Context(), a.Client(), api.GetSubscription, &in)
			if err != nil {
				return err
			}
			return a.print(output, s)
		})
	a.OutputFlag(cmd, &output)
	return cmd
}

// wishes are what a subscription is to be.
type wishes struct {
	url, subject, where, mode, machine string
	kinds                              []string
}

func (w *wishes) flags(cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringSliceVar(&w.kinds, "kind", nil,
		"events: model.entered, run.* for all of runs (default all); may be repeated")
	f.StringVar(&w.subject, "subject", "", "only of this and what is of it: vessel-classifier, vessels/17")
	f.StringVar(&w.where, "where", "", "of events of runs, only of runs that fulfil this condition")
	f.StringVar(&w.mode, "mode", "", "of CloudEvents: structured (default) or binary")
	f.StringVar(&w.machine, "report-as", "", "machine in whose name the receiver may report back")
}

func (a *Commands) create(of *place) *cobra.Command {
	var w wishes
	var output string
	cmd := &cobra.Command{Use: "create SUBSCRIPTION URL (--project PROJECT | --service)", Short: "Have an address told of events",
		Args: term.Arguments("SUBSCRIPTION", "URL"),
		Example: `  kembrel subscriptions create build-hall https://build.harbour.example/kembrel --project vessels --kind 'model.*' --report-as buildhall
  kembrel subscriptions create night-watch https://watch.harbour.example/in --project vessels --kind run.failed --kind run.lost --where '"night" in tags'`,
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := named(of, args[0])
			if err != nil {
				return err
			}
			n := &api.NewSubscription{ProjectInput: in.ProjectInput}
			b := &n.Body
			b.Name, b.URL, b.Kinds, b.Subject, b.Where, b.Mode, b.Machine = args[0], args[1], w.kinds, w.subject,
				w.where,
				w.mode, w.machine
			s, err := client.Call(cmd.Context(), a.Client(), api.CreateSubscription, n)
			if err != nil {
				return err
			}
			return a.sayNew(output, s, fmt.Sprintf("%s is told of what happens in %s from now on.", s.URL, where(s.Project)))
		}}
	w.flags(cmd)
	a.OutputFlag(cmd, &output)
	return cmd
}

func (a *Commands) change(of *place) *cobra.Command {
	var w wishes
	var pause, undo bool
	var output string
	cmd := a.on(of, "change", "Change a subscription, pause it, go on",
		"change build-hall --project vessels --kind 'model.*'\n  kembrel subscriptions change build-hall --project vessels --pause\n  kembrel subscriptions change build-hall --project vessels --pause --undo",
		func(cmd *cobra.Command, in api.SubscriptionInput) error {
			e := &api.SubscriptionEdit{SubscriptionInput: in}
			given := func(name string, v *string) *string {
				if cmd.Flags().Changed(name) {
					return v
				}
				return nil
			}
			e.Body.URL, e.Body.Subject, e.Body.Where, e.Body.Machine = given("to", &w.url), given("subject",
				&w.subject),
				given("where", &w.where), given("report-as", &w.machine)
			e.Body.Kinds, e.Body.Mode = w.kinds, w.mode
			if undo && !pause {
				return term.Usage("--undo goes with --pause")
			}
			if pause {
				paused := !undo
				e.Body.Paused = &paused
			}
			s, err := client.Call(cmd.Context(), a.Client(), api.ChangeSubscription, e)
			if err != nil {
				return err
			}
			return a.print(output, s)
		})
	w.flags(cmd)
	f := cmd.Flags()
	f.StringVar(&w.url, "to", "", "another address")
	f.BoolVar(&pause, "pause", false, "tell it nothing until --pause --undo; what happens is told then")
	f.BoolVar(&undo, "undo", false, "with --pause: go on, at once with what waits")
	a.OutputFlag(cmd, &output)
	return cmd
}

func (a *Commands) delete(of *place) *cobra.Command {
	var yes bool
	cmd := a.on(of, "delete", "Delete a subscription, and what is known of what it was told",
		"delete build-hall --project vessels --yes", func(cmd *cobra.Command, in api.SubscriptionInput) error {
			if !yes {
				sure, err := a.Confirm("Delete the subscription " + in.Subscription + "?")
				if err != nil || !sure {
					return err
				}
			}
			_, err := client.Call(cmd.Context(), a.Client(), api.DeleteSubscription, &in)
			if err == nil {
				fmt.Fprintf(a.Out, "%s is told nothing any more.\n", in.Subscription)
			}
			return err
		})
	cmd.Flags().BoolVarP(&yes, "yes", "y", false, "without asking")
	return cmd
}

func (a *Commands) secret(of *place) *cobra.Command {
	var output string
	cmd := a.on(of, "new-secret", "Replace the secret; the one before signs too for a day",
		"new-secret build-hall --project vessels", func(cmd *cobra.Command, in api.SubscriptionInput) error {
			s, err := client.Call(cmd.Context(), a.Client(), api.NewSubscriptionSecret, &in)
			if err != nil {
				return err
			}
			return a.sayNew(output, s, "For a day messages are signed with both.")
		})
	a.OutputFlag(cmd, &output)
	return cmd
}

func (a *Commands) try(of *place) *cobra.Command {
	var output string
	cmd := a.on(of, "try", "Send a message that tells of nothing, and show what is answered",
		"try build-hall --project vessels", func(cmd *cobra.Command, in api.SubscriptionInput) error {
			d, err := client.Call(cmd.Context(), a.Client(), api.TrySubscription, &in)
			if err != nil {
				return err
			}
			if err := a.printDelivery(output, d); err != nil {
				return err
			}
			if d.Trouble != "" {
				return fmt.Errorf("it was not taken: %s", d.Trouble)
			}
			return nil
		})
	a.OutputFlag(cmd, &output)
	return cmd
}

func (a *Commands) printDelivery(output string, d *api.Delivery) error {
	l := term.List("field", "value")
	status := ""
	if d.Status > 0 {
		status = strconv.Itoa(d.Status)
	}
	event := ""
	if d.Event > 0 {
		event = strconv.FormatInt(d.Event, 10)
	}
	for _, row := range [][2]string{{"event", event}, {"type", d.Type}, {"subject", d.Subject}, {"at", term.When(d.At)},
		{"state", d.State}, {"attempts", strconv.Itoa(d.Attempts)}, {"last attempt", moment(d.Last)},
		{"next attempt", moment(d.Next)}, {"trouble", d.Trouble}, {"answered", status}, {"answer", d.Answer},
		{"took", fmt.Sprintf("%d ms", d.Took)}} {
		if row[1] != "" {
			l.Add(row[0], row[1])
		}
	}
	if err := a.Print(output, l, d); err != nil || output != "" && output != "table" || d.Request == nil {
		return err
	}
	var pretty bytes.Buffer
	if json.Indent(&pretty, d.Request, "", "  ") == nil {
		fmt.Fprintf(a.Out, "\nRequest\n%s\n", pretty.String())
	}
	return nil
}

func (a *Commands) deliveries(of *place) *cobra.Command {
	var output, state string
	var limit int
	cmd := a.on(of, "deliveries", "List what a subscription was told, the latest first",
		"deliveries build-hall --project vessels --state parked", func(cmd *cobra.Command,
			in api.SubscriptionInput) error {
			page, err := client.Call(cmd.Context(), a.Client(), api.ListDeliveries, &api.DeliveriesInput{
				SubscriptionInput: in, State: state, PageInput: api.PageInput{Limit: limit}})
			if err != nil {
				return err
			}
			l := term.List("event#", "at", "type", "subject", "state", "attempts#", "answered#", "next attempt",
				"trouble")
			l.Empty = "It was told nothing."
			for _, d := range page.Items {
				status := ""
				if d.Status > 0 {
					status = strconv.Itoa(d.Status)
				}
				l.Add(strconv.FormatInt(d.Event, 10), term.When(d.At), strings.TrimPrefix(d.Type, "internal.kembrel."),
					d.Subject, d.State, strconv.Itoa(d.Attempts), status, moment(d.Next), d.Trouble)
			}
			return a.Print(output, l, term.OrEmpty(page.Items))
		})
	cmd.Flags().StringVar(&state, "state", "", "waiting, delivered or parked")
	cmd.Flags().IntVar(&limit, "limit", 50, "at most so many")
	a.OutputFlag(cmd, &output)
	return cmd
}

// event reads the number of an event.
func event(text string) (int64, error) {
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 1 {
		return 0, term.Usage("%.40q is no number of an event; kembrel subscriptions deliveries lists them", text)
	}
	return n, nil
}

func (a *Commands) delivery(of *place) *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "delivery SUBSCRIPTION EVENT (--project PROJECT | --service)",
		Short: "Show what a subscription was told of an event, and what it answered",
		Args:  term.Arguments("SUBSCRIPTION", "EVENT"), ValidArgsFunction: a.complete(of),
		Example: "  kembrel subscriptions delivery build-hall 731 --project vessels",
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := named(of, args[0])
			if err != nil {
				return err
			}
			n, err := event(args[1])
			if err != nil {
				return err
			}
			d, err := client.Call(cmd.Context(), a.Client(), api.GetDelivery,
				&api.DeliveryInput{SubscriptionInput: in, Event: n})
			if err != nil {
				return err
			}
			return a.printDelivery(output, d)
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

func (a *Commands) again(of *place) *cobra.Command {
	return &cobra.Command{Use: "send-again SUBSCRIPTION [EVENT] (--project PROJECT | --service)",
		Short: "Tell an event again, or all that were given up",
		Args:  cobra.MatchAll(cobra.RangeArgs(1, 2)), ValidArgsFunction: a.complete(of),
		Example: "  kembrel subscriptions send-again build-hall 731 --project vessels\n  kembrel subscriptions send-again build-hall --project vessels",
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := named(of, args[0])
			if err != nil {
				return err
			}
			var out *api.SentAgain
			if len(args) == 2 {
				var n int64
				if n, err = event(args[1]); err != nil {
					return err
				}
				out, err = client.Call(cmd.Context(), a.Client(), api.SendAgain,
					&api.DeliveryInput{SubscriptionInput: in, Event: n})
			} else {
				out, err = client.Call(cmd.Context(), a.Client(), api.SendParked, &in)
			}
			if err == nil {
				fmt.Fprintf(a.Out, "To be told again: %d.\n", out.Count)
			}
			return err
		}}
}
