package people

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// People makes the command on people and machines.
func (a *Commands) People() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "people", Short: "List people and machines; add, change or close one",
		Args: term.Arguments(),
		Long: `List the people and machines of this service. Administrators add them, say what they are, and close those who leave.

A role on the service holds on every open project: reader, recorder, member, approver or owner. docs/access.md says who may what.`,
		Example: `  kembrel people
  kembrel people add "Teo Lind" --role member
  kembrel people add buildhall --machine --team Harbour
  kembrel people change "Teo Lind" --role reader
  kembrel people close "Teo Lind"
  kembrel people close "Teo Lind" --undo`,
		RunE: func(cmd *cobra.Command, _ []string) error {
			page := &api.Page[api.Person]{Items: []api.Person{}}
			in := &api.PageInput{Limit: 500}
			for {
				some, err := client.Call(cmd.Context(), a.Client(), api.ListPeople, in)
				if err != nil {
					return err
				}
				page.Items = append(page.Items, some.Items...)
				if in.Cursor = some.Next; some.Next == "" {
					break
				}
			}
			l := term.List("name", "kind", "role", "teams", "closed")
			for _, p := range page.Items {
				role, teams, closed := string(p.Role), strings.Join(p.Teams, ", "), ""
				if p.Administrator {
					role = "administrator"
				}
				if p.Kind == "machine" {
					teams = p.Team
				}
				if p.Closed != nil {
					closed = term.When(*p.Closed)
				}
				l.Add(p.Name, p.Kind, role, teams, closed)
			}
			return a.Print(output, l, page)
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.personAdd(), a.personChange(), a.personClose(), a.personLink(), a.personToken(),
		a.personCredentials())
	return cmd
}

func (a *Commands) personAdd() *cobra.Command {
	in := &api.NewPerson{}
	var role string
	cmd := &cobra.Command{Use: "add NAME", Short: "Add a person, with a link for their first sign-in, or a machine",
		Args:    term.Arguments("NAME"),
		Example: "  kembrel people add \"Teo Lind\" --role member\n  kembrel people add buildhall --machine --team Harbour",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Body.Name, in.Body.Role = args[0], api.RoleName(role)
			if role == "none" || in.Body.Machine && !cmd.Flags().Changed("role") {
				in.Body.Role = ""
			}
			p, err := client.Call(cmd.Context(), a.Client(), api.AddPerson, in)
			if err != nil {
				return err
			}
			if p.Kind == "machine" {
				fmt.Fprintf(a.Out, "added the machine %s\n", p.Name)
				fmt.Fprintf(a.Err,
					"give it a role with: kembrel roles set PROJECT --person %q --role recorder, and a token with: kembrel people token %q\n", p.Name, p.Name)
				return nil
			}
			fmt.Fprintf(a.Out, "added %s\n", p.Name)
			return a.link(cmd, p.Name)
		}}
	f := cmd.Flags()
	f.StringVar(&role, "role", "member",
		"on the service: reader, recorder, member, approver, owner, or none (they see open projects)")
	f.BoolVar(&in.Body.Administrator, "administrator", false, "they look after the service and may do everything")
	f.BoolVar(&in.Body.Machine, "machine", false, "a machine, which has tokens only")
	f.StringVar(&in.Body.Team, "team", "", "with --machine: the team that it belongs to")
	f.StringVar(&in.Body.Email, "email", "", "address by which a sign-in elsewhere is theirs")
	return cmd
}

func (a *Commands) link(cmd *cobra.Command, name string) error {
	l, err := client.Call(cmd.Context(), a.Client(), api.CreateLinkFor, &api.PersonInput{Name: name})
	if err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "%s%s\n", a.Settings.Get("url"), l.Path)
	fmt.Fprintf(a.Err, "signs %s in once, until %s: to the console, or in a terminal with kembrel sign-in 'LINK'; they set a password there, or with kembrel sign-in --set-password\n", name, term.When(l.Expires))
	return nil
}

func (a *Commands) personLink() *cobra.Command {
	return &cobra.Command{Use: "link NAME",
		Short:   "Create a one-time sign-in link for a person, as where a password was forgotten",
		Args:    term.Arguments("NAME"),
		Example: "  kembrel people link \"Teo Lind\"",
		RunE:    func(cmd *cobra.Command, args []string) error { return a.link(cmd, args[0]) }}
}

func (a *Commands) changePerson(cmd *cobra.Command, in *api.PersonEdit) error {
	p, err := client.Call(cmd.Context(), a.Client(), api.ChangePerson, in)
	if err != nil {
		return err
	}
	what := string(p.Role)
	switch {
	case p.Closed != nil:
		what = "closed: all sessions and tokens have ended"
	case p.Administrator:
		what = "administrator"
	case what == "":
		what = "no role on the service"
	}
	fmt.Fprintf(a.Out, "%s: %s\n", p.Name, what)
	return nil
}

func (a *Commands) personChange() *cobra.Command {
	var administrator bool
	var role, email string
	cmd := &cobra.Command{Use: "change NAME", Short: "Change what a person is on the service",
		Args:    term.Arguments("NAME"),
		Example: "  kembrel people change \"Teo Lind\" --role reader\n  kembrel people change \"Teo Lind\" --administrator=false",
		RunE: func(cmd *cobra.Command, args []string) error {
			in := &api.PersonEdit{PersonInput: api.PersonInput{Name: args[0]}}
			if cmd.Flags().Changed("administrator") {
				in.Body.Administrator = &administrator
			}
			if cmd.Flags().Changed("role") {
				r := api.RoleName(role)
				if role == "none" {
					r = ""
				}
				in.Body.Role = &r
			}
			if cmd.Flags().Changed("email") {
				in.Body.Email = &email
			}
			if in.Body.Administrator == nil && in.Body.Role == nil && in.Body.Email == nil {
				return term.Usage("say what to change: --role, --administrator or --email")
			}
			return a.changePerson(cmd, in)
		}}
	cmd.Flags().StringVar(&role, "role", "", "on the service: reader, recorder, member, approver, owner or none")
	cmd.Flags().BoolVar(&administrator, "administrator", false, "they look after the service and may do everything")
	cmd.Flags().StringVar(&email, "email", "", "address by which a sign-in elsewhere is theirs")
	return cmd
}

func (a *Commands) personClose() *cobra.Command {
	var undo bool
	cmd := &cobra.Command{Use: "close NAME",
		Short:   "Close a person who leaves: sessions and tokens end at once, what they made stays",
		Args:    term.Arguments("NAME"),
		Example: "  kembrel people close \"Teo Lind\"\n  kembrel people close \"Teo Lind\" --undo",
		RunE: func(cmd *cobra.Command, args []string) error {
			in := &api.PersonEdit{PersonInput: api.PersonInput{Name: args[0]}}
			closed := !undo
			in.Body.Closed = &closed
			return a.changePerson(cmd, in)
		}}
	cmd.Flags().BoolVar(&undo, "undo", false, "let them in again")
	return cmd
}

func (a *Commands) personToken() *cobra.Command {
	in := &api.NewTokenFor{}
	cmd := &cobra.Command{Use: "token MACHINE", Short: "Create a token for a machine; its secret is shown once",
		Args:    term.Arguments("MACHINE"),
		Example: "  kembrel people token buildhall --name checks --project vessels",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.PersonInput.Name = args[0]
			t, err := client.Call(cmd.Context(), a.Client(), api.CreateTokenFor, in)
			if err != nil {
				return err
			}
			return a.printToken("table", t)
		}}
	cmd.Flags().StringVar(&in.Body.Name, "name", "token", "what it is for")
	tokenFlags(cmd, &in.NewToken)
	return cmd
}

func (a *Commands) personCredentials() *cobra.Command {
	var output string
	var end bool
	cmd := &cobra.Command{Use: "credentials NAME", Short: "List a person's tokens and sessions, or end them all",
		Args:    term.Arguments("NAME"),
		Example: "  kembrel people credentials \"Teo Lind\"\n  kembrel people credentials \"Teo Lind\" --end",
		RunE: func(cmd *cobra.Command, args []string) error {
			in := &api.PersonInput{Name: args[0]}
			if end {
				if _, err := client.Call(cmd.Context(), a.Client(), api.EndCredentials, in); err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "all tokens and sessions of %s have ended\n", args[0])
				return nil
			}
			all, err := client.Call(cmd.Context(), a.Client(), api.ListCredentials, in)
			if err != nil {
				return err
			}
			l := term.List("kind", "id#", "name", "created", "expires", "last used", "from", "narrowed to")
			l.Empty = args[0] + " has no token and no session."
			for _, t := range all.Tokens {
				if t.Revoked == nil {
					l.Add("token", fmt.Sprint(t.ID), t.Name, term.When(t.Created), term.When(t.Expires), usedAt(t),
						t.From, sayScope(t.Scope))
				}
			}
			for _, s := range all.Sessions {
				l.Add("session", fmt.Sprint(s.ID), "", term.When(s.Created), term.When(s.Expires),
					term.When(s.Used), s.From, "")
			}
			return a.Print(output, l, all)
		}}
	cmd.Flags().BoolVar(&end, "end", false, "end them all")
	a.OutputFlag(cmd, &output)
	return cmd
}

// Teams makes the command on teams.
func (a *Commands) Teams() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "teams", Short: "List teams; create one, say who is in it, or delete it",
		Args:    term.Arguments(),
		Example: "  kembrel teams\n  kembrel teams set Harbour ines \"Teo Lind\"\n  kembrel teams delete Harbour",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := client.Call(cmd.Context(), a.Client(), api.ListTeams, &struct{}{})
			if err != nil {
				return err
			}
			l := term.List("name", "people")
			l.Empty = "There is no team. An administrator makes one with: kembrel teams set NAME PERSON..."
			for _, t := range page.Items {
				l.Add(t.Name, strings.Join(t.People, ", "))
			}
			return a.Print(output, l, page)
		}}
	a.OutputFlag(cmd, &output)
	set := &cobra.Command{Use: "set NAME [PERSON...]", Short: "Create a team, or say who is in it: all of them",
		Args:    atLeast("NAME"),
		Example: "  kembrel teams set Harbour ines \"Teo Lind\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			in := &api.TeamEdit{TeamInput: api.TeamInput{Team: args[0]}}
			in.Body.People = append([]string{}, args[1:]...)
			t, err := client.Call(cmd.Context(), a.Client(), api.SetTeam, in)
			if err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "team %s: %s\n", t.Name, strings.Join(t.People, ", "))
			return nil
		}}
	drop := &cobra.Command{Use: "delete NAME", Short: "Delete a team with the roles given to it; its people stay",
		Args: term.Arguments("NAME"), Example: "  kembrel teams delete Harbour",
		RunE: func(cmd *cobra.Command, args []string) error {
			if _, err := client.Call(cmd.Context(), a.Client(), api.DropTeam,
				&api.TeamInput{Team: args[0]}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "team %s is deleted\n", args[0])
			return nil
		}}
	cmd.AddCommand(set, drop)
	return cmd
}

func atLeast(name string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == 0 {
			return term.Usage("%s takes a %s at least; see %s --help", cmd.CommandPath(), name, cmd.CommandPath())
		}
		return nil
	}
}

func atMost(names ...string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) > len(names) {
			return term.Usage("%s takes %d argument(s) at most: %s; see %s --help", cmd.CommandPath(), len(names),
				strings.Join(names, " "), cmd.CommandPath())
		}
		return nil
	}
}

// Roles makes the command on roles, of the service or a project.
func (a *Commands) Roles() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "roles [PROJECT]",
		Short: "List the roles given on a project, or on the service; give or take one", Args: atMost("PROJECT"),
		Long: `List the roles given to people and teams on a project or, without one, on the service.

  reader    sees
  recorder  also records runs, and changes those that they made
  member    also changes, compares, archives, keeps and searches
  approver  also signs off
  owner     also gives roles, sets rules and deletes

A role on the service holds on every open project. A closed project (kembrel projects change PROJECT --closed) is seen only by those with a role on it, and by administrators.`,
		Example:           "  kembrel roles vessels\n  kembrel roles set vessels --person \"Teo Lind\" --role member\n  kembrel roles set vessels --team Harbour --role reader\n  kembrel roles set vessels --team Harbour --undo\n  kembrel roles set --person ines --role owner",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			page, where, err := a.listRoles(cmd, args)
			if err != nil {
				return err
			}
			l := term.List("who", "kind", "role", "given")
			l.Empty = "Nobody has a role on " + where + "."
			for _, r := range page.Items {
				kind := "person"
				if r.Team != "" {
					kind = "team"
				}
				l.Add(r.Person+r.Team, kind, string(r.Role), term.When(r.Given))
			}
			return a.Print(output, l, page)
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.roleSet())
	return cmd
}

func (a *Commands) listRoles(cmd *cobra.Command, args []string) (*api.Page[api.GivenRole], string, error) {
	if len(args) == 0 {
		page, err := client.Call(cmd.Context(), a.Client(), api.ListRoles, &struct{}{})
		return page, "the service", err
	}
	p, err := term.Address(args[0], false, false)
	if err != nil {
		return nil, "", err
	}
	in := term.ProjectOf(p)
	page, err := client.Call(cmd.Context(), a.Client(), api.ListProjectRoles, &in)
	return page, p.Project, err
}

func (a *Commands) roleSet() *cobra.Command {
	var holder api.RoleHolder
	var role string
	var undo bool
	cmd := &cobra.Command{Use: "set [PROJECT]", Short: "Give a role to a person or a team, or take it away",
		Args:              atMost("PROJECT"),
		Example:           "  kembrel roles set vessels --person \"Teo Lind\" --role member\n  kembrel roles set vessels --person \"Teo Lind\" --undo",
		ValidArgsFunction: a.Complete(false, false),
		RunE: func(cmd *cobra.Command, args []string) error {
			switch {
			case (holder.Person == "") == (holder.Team == ""):
				return term.Usage("say whose role: --person NAME or --team NAME")
			case undo == (role != ""):
				return term.Usage("say which role (--role), or --undo to take it away")
			}
			where := "the service"
			edit := api.RoleEdit{Person: holder.Person, Team: holder.Team, Role: api.RoleName(role)}
			var err error
			if len(args) == 0 {
				if undo {
					_, err = client.Call(cmd.Context(), a.Client(), api.DropRole, &holder)
				} else {
					_, err = client.Call(cmd.Context(), a.Client(), api.SetRole, &api.RoleInput{Body: edit})
				}
			} else {
				var p api.Address
				if p, err = term.Address(args[0], false, false); err != nil {
					return err
				}
				where = p.Project
				if undo {
					_, err = client.Call(cmd.Context(), a.Client(), api.DropProjectRole,
						&api.ProjectRoleHolder{ProjectInput: term.ProjectOf(p), RoleHolder: holder})
				} else {
					_, err = client.Call(cmd.Context(), a.Client(), api.SetProjectRole,
						&api.ProjectRoleInput{ProjectInput: term.ProjectOf(p), Body: edit})
				}
			}
			if err != nil {
				return err
			}
			if undo {
				role = "nothing of their own"
			}
			fmt.Fprintf(a.Out, "%s%s is %s on %s\n", holder.Person, holder.Team, role, where)
			return nil
		}}
	f := cmd.Flags()
	f.StringVar(&holder.Person, "person", "", "whose role")
	f.StringVar(&holder.Team, "team", "", "or which team's")
	f.StringVar(&role, "role", "", "reader, recorder, member, approver or owner")
	f.BoolVar(&undo, "undo", false, "take the role away")
	cmd.RegisterFlagCompletionFunc("role",
		cobra.FixedCompletions([]string{"reader", "recorder", "member", "approver", "owner"},
			cobra.ShellCompDirectiveNoFileComp))
	return cmd
}
