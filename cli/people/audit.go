package people

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// Audit makes the command on what was done.
func (a *Commands) Audit() *cobra.Command {
	var output, since, until string
	limit := 50
	in := &api.ServiceAuditInput{}
	cmd := &cobra.Command{Use: "audit [PROJECT]", Short: "List what was done, by whom and from where, the latest first",
		Args: atMost("PROJECT"),
		Long: `List the events of the service, or of a project: every change of state, sign-ins and failed ones. Events are written once; the database refuses to
change them, and each has a digest over itself and the one before (kembrel audit check). Administrators see all, owners those of their project.

-o jsonl writes one event a line, from the latest back, for other systems to keep.`,
		Example: `  kembrel audit --since 24h
  kembrel audit vessels --who "Teo Lind"
  kembrel audit --kind session --verb sign-in-failed
  kembrel audit --subject vessels/3 -o jsonl --limit 0 > events.jsonl
  kembrel audit check`,
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if in.Since, err = moment(since); err != nil {
				return err
			}
			if in.Until, err = moment(until); err != nil {
				return err
			}
			var found []api.Event
			for {
				in.Limit = 500
				if limit > 0 {
					in.Limit = min(500, limit-len(found))
				}
				page, err := a.events(cmd, args, in)
				if err != nil {
					return err
				}
				if output == "jsonl" {
					for _, e := range page.Items {
						if err := json.NewEncoder(a.Out).Encode(e); err != nil {
							return err
						}
					}
				}
				found = append(found, page.Items...)
				if in.Cursor = page.Next; page.Next == "" || limit > 0 && len(found) >= limit {
					break
				}
			}
			if output == "jsonl" {
				return nil
			}
			l := term.List("id#", "when", "who", "what", "of what", "from")
			l.Empty = "Nothing of that was done."
			l.Spare = []string{"from"}
			for _, e := range found {
				at, _ := time.Parse(time.RFC3339Nano, e.At)
				who := e.Who
				switch {
				case e.Verb == "sign-in-failed":
					who = "not signed in"
				case who == "":
					who = "the service"
				}
				l.Add(fmt.Sprint(e.ID), term.When(at), who, e.Kind+" "+e.Subject, e.Says, e.From)
			}
			return a.Print(output, l, found)
		}}
	f := cmd.Flags()
	f.StringVarP(&output, "output", "o", "table", "table, json, csv, or jsonl: one event a line")
	f.StringVar(&in.Who, "who", "", "by this person")
	f.StringVar(&in.Kind, "kind", "",
		"of this kind: session, person, team, role, project, search, run, leg, checkpoint, snapshot, model, service")
	f.StringVar(&in.Verb, "verb", "", "such as sign-in-failed")
	f.StringVar(&in.Subject, "subject", "", "of this thing, such as vessels/3")
	f.StringVar(&since, "since", "", "from then: a moment (2026-11-01, 2026-11-01T08:00), or so long ago (24h)")
	f.StringVar(&until, "until", "", "before then")
	f.IntVar(&limit, "limit", limit, "how many; 0: all")
	check := &cobra.Command{Use: "check", Short: "Check that no event was changed, taken out or put in",
		Args: term.Arguments(), Example: "  kembrel audit check",
		RunE: func(cmd *cobra.Command, _ []string) error {
			out, err := client.Call(cmd.Context(), a.Client(), api.CheckAudit, &struct{}{})
			if err != nil {
				return err
			}
			if !out.Whole {
				return term.Differs(fmt.Errorf("%s", out.Says))
			}
			fmt.Fprintf(a.Out, "%s Digest of the last: %s\n", out.Says, out.Digest)
			return nil
		}}
	cmd.AddCommand(check)
	return cmd
}

func (a *Commands) events(cmd *cobra.Command, args []string, in *api.ServiceAuditInput) (*api.Page[api.Event], error) {
	if len(args) == 0 {
		return client.Call(cmd.Context(), a.Client(), api.GetAudit, in)
	}
	p, err := term.Address(args[0], false, false)
	if err != nil {
		return nil, err
	}
	return client.Call(cmd.Context(), a.Client(), api.GetProjectAudit,
		&api.ProjectAuditInput{ProjectInput: term.ProjectOf(p), AuditInput: in.AuditInput})
}

// moment reads a day, a time, or how long ago; "" is none.
func moment(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if ago, err := time.ParseDuration(text); err == nil {
		return time.Now().Add(-ago), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return time.Time{}, term.Usage("%q is no time; write 2026-11-01, 2026-11-01T08:00, or 24h for a day ago", text)
}
