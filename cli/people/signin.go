package people

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	tty "golang.org/x/term"

	"kembrel/api"
	"kembrel/cli/term"
	"kembrel/client"
)

// SignIn makes the command sign-in.
func (a *Commands) SignIn() *cobra.Command {
	var name string
	var link, setPassword, revoke bool
	var days int
	cmd := &cobra.Command{Use: "sign-in [LINK]",
		Short: "Sign in from this terminal, or create a link that signs in to the console",
		Args:  atMost("LINK"),
		Long: `Sign in with name and password, or with a one-time link that an administrator gave you; a personal token is made and kept for this user. The password is asked
for, or read from the input's first line. With --link, print a one-time link to the console instead; with --set-password, set one's own password.`,
		Example: "  kembrel sign-in --name ines\n  kembrel sign-in 'http://127.0.0.1:7420/enter#4GZ...'\n  kembrel sign-in --link\n  kembrel sign-in --set-password",
		RunE: func(cmd *cobra.Command, args []string) error {
			service := a.Settings.Get("url")
			switch {
			case link:
				l, err := client.Call(cmd.Context(), a.Client(), api.CreateLink, &struct{}{})
				if err != nil {
					return err
				}
				fmt.Fprintf(a.Out, "%s%s\n", service, l.Path)
				fmt.Fprintf(a.Err, "good once, until %s\n", term.When(l.Expires))
				return nil
			case setPassword:
				return a.setPassword(cmd, revoke)
			case len(args) == 1:
				return a.signInByLink(cmd.Context(), args[0], days)
			case name == "":
				return term.Usage("say who you are: kembrel sign-in --name NAME, or give the link that you were given")
			}
			password, err := a.askSecret("password of " + name)
			if err != nil {
				return err
			}
			c, err := consoleClient(service)
			if err != nil {
				return err
			}
			if _, err := client.Call(cmd.Context(), c, api.SignInWithPassword,
				&api.SignInInput{Body: api.SignIn{Name: name, Password: password}}); err != nil {
				return err
			}
			return a.keepSignIn(cmd.Context(), c, name, days)
		}}
	cmd.Flags().StringVar(&name, "name", "", "your name at the service")
	cmd.Flags().BoolVar(&link, "link", false, "print a one-time link that signs in to the console")
	cmd.Flags().BoolVar(&setPassword, "set-password", false, "set your own password")
	cmd.Flags().BoolVar(&revoke, "revoke-tokens", false, "with --set-password: end all your other tokens")
	cmd.Flags().IntVar(&days, "days", 90, "days until the sign-in expires")
	return cmd
}

// signInByLink signs in to the service of a one-time link.
func (a *Commands) signInByLink(ctx context.Context, link string, days int) error {
	at, err := url.Parse(link)
	if err != nil || at.Host == "" || at.Path != "/enter" || at.Fragment == "" {
		return term.Usage("%.100q is no sign-in link: one reads http://HOST/enter#CODE, and stands in quotes", link)
	}
	c, err := consoleClient(at.Scheme + "://" + at.Host)
	if err != nil {
		return err
	}
	in := &api.LinkInput{}
	in.Body.Code = at.Fragment
	me, err := client.Call(ctx, c, api.SignInWithLink, in)
	if err != nil {
		return err
	}
	if err := a.keepSignIn(ctx, c, me.Name, days); err != nil {
		return err
	}
	if !me.HasPassword {
		fmt.Fprintln(a.Out, "kembrel sign-in --set-password sets a password, by which you sign in elsewhere and to the console")
	}
	return nil
}

// consoleClient is a client with a session, as the console has one.
func consoleClient(service string) (*client.Client, error) {
	c := client.New(service, "")
	var err error
	c.HTTP.Jar, err = cookiejar.New(nil)
	c.HTTP.Transport = fromConsole{c.HTTP.Transport, service}
	return c, err
}

// keepSignIn makes a token of a session, keeps it for this user, and ends the session.
func (a *Commands) keepSignIn(ctx context.Context, c *client.Client, name string, days int) error {
	host, _ := os.Hostname()
	in := &api.NewToken{}
	in.Body.Name, in.Body.Days = "kembrel sign-in on "+host, days
	token, err := client.Call(ctx, c, api.CreateToken, in)
	if err != nil {
		return err
	}
	client.Call(ctx, c, api.SignOut, &struct{}{})
	if err := client.SaveCredential(c.URL, client.Credential{Token: token.Secret, Name: name,
		Default: true}); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "signed in to %s as %s, until %s; commands ask it where no other address is named\n", c.URL, name,
		term.When(token.Expires))
	return nil
}

// fromConsole sends the Origin that the service wants to see beside a session.
type fromConsole struct {
	next   http.RoundTripper
	origin string
}

func (f fromConsole) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("Origin", f.origin)
	return f.next.RoundTrip(r)
}

func (a *Commands) setPassword(cmd *cobra.Command, revoke bool) error {
	me, err := client.Call(cmd.Context(), a.Client(), api.GetMe, &struct{}{})
	if err != nil {
		return err
	}
	in := &api.PasswordInput{}
	in.Body.RevokeTokens = revoke
	if me.HasPassword {
		if in.Body.Old, err = a.askSecret("present password"); err != nil {
			return err
		}
	}
	if in.Body.Password, err = a.askSecret("new password (10 characters at least)"); err != nil {
		return err
	}
	if _, err := client.Call(cmd.Context(), a.Client(), api.SetPassword, in); err != nil {
		return err
	}
	fmt.Fprintf(a.Out, "the password of %s is set; other sessions in the console have ended\n", me.Name)
	if revoke {
		fmt.Fprintln(a.Out, "your other tokens have ended too; this sign-in stays")
	} else {
		fmt.Fprintln(a.Out, "your tokens are still good: if one may have leaked, kembrel sign-in --set-password --revoke-tokens ends all but this sign-in, and kembrel tokens lists them")
	}
	return nil
}

// askSecret asks on a terminal, or reads the next line of the input.
func (a *Commands) askSecret(what string) (string, error) {
	if f, ok := a.In.(*os.File); ok && tty.IsTerminal(int(f.Fd())) {
		fmt.Fprintf(a.Err, "%s: ", what)
		secret, err := tty.ReadPassword(int(f.Fd()))
		fmt.Fprintln(a.Err)
		return string(secret), err
	}
	if _, buffered := a.In.(*bufio.Reader); !buffered {
		a.In = bufio.NewReader(a.In)
	}
	line, err := a.In.(*bufio.Reader).ReadString('\n')
	if line == "" && err != nil {
		return "", term.Usage("no %s on the input", what)
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// Tokens makes the command tokens.
func (a *Commands) Tokens() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "tokens", Short: "List your personal tokens; create or revoke one", Args: term.Arguments(),
		Example: "  kembrel tokens\n  kembrel tokens create nightly --days 30\n  kembrel tokens revoke 4",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := client.Call(cmd.Context(), a.Client(), api.ListTokens, &struct{}{})
			if err != nil {
				return err
			}
			l := term.List("id#", "name", "created", "created with#", "expires", "last used", "from",
				"narrowed to", "revoked")
			for _, t := range page.Items {
				revoked, parent := "", ""
				if t.Parent != nil {
					parent = strconv.FormatInt(*t.Parent, 10)
				}
				if t.Revoked != nil {
					revoked = term.When(*t.Revoked)
				}
				l.Add(strconv.FormatInt(t.ID, 10), t.Name, term.When(t.Created), parent, term.When(t.Expires),
					usedAt(t), t.From, sayScope(t.Scope), revoked)
			}
			return a.Print(output, l, page)
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(a.tokenMake(), &cobra.Command{Use: "revoke ID", Short: "Revoke a token, and what was created with it",
		Args: term.Arguments("ID"), Example: "  kembrel tokens revoke 4", ValidArgsFunction: a.completeTokens,
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return term.Usage("%q is not the id of a token; kembrel tokens lists them", args[0])
			}
			if _, err := client.Call(cmd.Context(), a.Client(), api.RevokeToken, &api.TokenInput{ID: id}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "token %d is revoked, and the tokens, sessions and links that were created with it\n", id)
			return nil
		}})
	return cmd
}

// completeTokens completes the ids of one's tokens.
func (a *Commands) completeTokens(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 || a.Settings.Load(cmd.Flags()) != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	page, err := client.Call(cmd.Context(), a.Client(), api.ListTokens, &struct{}{})
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	var out []string
	for _, t := range page.Items {
		if t.Revoked == nil {
			out = append(out, cobra.CompletionWithDesc(strconv.FormatInt(t.ID, 10), term.Printable(t.Name)))
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

func usedAt(t api.Token) string {
	if t.Used == nil {
		return ""
	}
	return term.When(*t.Used)
}

// sayScope is what a token is narrowed to, in a few words.
func sayScope(s *api.Scope) string {
	if s == nil {
		return ""
	}
	var parts []string
	if s.Role != "" {
		parts = append(parts, string(s.Role))
	}
	if s.Project != "" {
		parts = append(parts, "on "+s.Project)
	}
	if len(s.Networks) > 0 {
		parts = append(parts, "from "+strings.Join(s.Networks, ", "))
	}
	return strings.Join(parts, " ")
}

// tokenFlags are what says how wide a token is.
func tokenFlags(cmd *cobra.Command, in *api.NewToken) {
	f := cmd.Flags()
	f.IntVar(&in.Body.Days, "days", 90, "days until it expires")
	f.StringVar((*string)(&in.Body.Scope.Role), "role", "",
		"no more than this role: reader, recorder, member, approver or owner")
	f.StringVar(&in.Body.Scope.Project, "project", "", "only on this project")
	f.StringSliceVar(&in.Body.Scope.Networks, "from", nil, "only from these addresses, such as 10.1.0.0/16")
}

func (a *Commands) tokenMake() *cobra.Command {
	in := &api.NewToken{}
	var output string
	cmd := &cobra.Command{Use: "create NAME", Short: "Create a personal token; its secret is shown once",
		Args:    term.Arguments("NAME"),
		Long:    "Create a personal token. It may what you may, or less: a machine that trains needs no more than --role recorder --project PROJECT.",
		Example: "  kembrel tokens create nightly --days 30\n  kembrel tokens create ship --role recorder --project vessels --from 10.1.0.0/16",
		RunE: func(cmd *cobra.Command, args []string) error {
			in.Body.Name = args[0]
			t, err := client.Call(cmd.Context(), a.Client(), api.CreateToken, in)
			if err != nil {
				return err
			}
			return a.printToken(output, t)
		}}
	tokenFlags(cmd, in)
	a.OutputFlag(cmd, &output)
	return cmd
}

func (a *Commands) printToken(output string, t *api.CreatedToken) error {
	if output == "json" {
		return term.WriteJSON(a.Out, t)
	}
	fmt.Fprintln(a.Out, t.Secret)
	narrowed := ""
	if text := sayScope(t.Scope); text != "" {
		narrowed = ", narrowed to " + text
	}
	fmt.Fprintf(a.Err, "shown this once; good until %s%s; use it as KEMBREL_TOKEN\n", term.When(t.Expires), narrowed)
	return nil
}

// Sessions makes the command on one's console sessions.
func (a *Commands) Sessions() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "sessions", Short: "List your sessions in the console; end one", Args: term.Arguments(),
		Example: "  kembrel sessions\n  kembrel sessions end 4",
		RunE: func(cmd *cobra.Command, _ []string) error {
			page, err := client.Call(cmd.Context(), a.Client(), api.ListSessions, &struct{}{})
			if err != nil {
				return err
			}
			l := term.List("id#", "opened", "last used", "expires", "from")
			l.Empty = "You have no open session."
			for _, s := range page.Items {
				l.Add(strconv.FormatInt(s.ID, 10), term.When(s.Created), term.When(s.Used),
					term.When(s.Expires), s.From)
			}
			return a.Print(output, l, page)
		}}
	a.OutputFlag(cmd, &output)
	cmd.AddCommand(&cobra.Command{Use: "end ID", Short: "End a session", Args: term.Arguments("ID"),
		Example: "  kembrel sessions end 4",
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return term.Usage("%q is not the id of a session; kembrel sessions lists them", args[0])
			}
			if _, err := client.Call(cmd.Context(), a.Client(), api.EndSession, &api.SessionInput{ID: id}); err != nil {
				return err
			}
			fmt.Fprintf(a.Out, "session %d has ended\n", id)
			return nil
		}})
	return cmd
}

// WhoAmI makes the command that says as whom one is signed in.
func (a *Commands) WhoAmI() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "whoami", Short: "Say as whom this terminal is signed in, and what they are",
		Args: term.Arguments(), Example: "  kembrel whoami",
		RunE: func(cmd *cobra.Command, _ []string) error {
			me, err := client.Call(cmd.Context(), a.Client(), api.GetMe, &struct{}{})
			if err != nil {
				return err
			}
			if output == "json" {
				return term.WriteJSON(a.Out, me)
			}
			what := string(me.Role)
			switch {
			case me.Administrator:
				what = "administrator"
			case what == "":
				what = "no role on the service"
			}
			fmt.Fprintf(a.Out, "%s at %s: %s", me.Name, a.Settings.Get("url"), what)
			if text := sayScope(me.Scope); text != "" {
				fmt.Fprintf(a.Out, "; the token used is narrowed to %s", text)
			}
			fmt.Fprintln(a.Out)
			return nil
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}

// SignOut makes the command that forgets this user's credential.
func (a *Commands) SignOut() *cobra.Command {
	return &cobra.Command{Use: "sign-out", Short: "Forget this terminal's sign-in at the service",
		Args: term.Arguments(), Example: "  kembrel sign-out",
		RunE: func(*cobra.Command, []string) error {
			service := a.Settings.Get("url")
			had, err := client.LoadCredential(service)
			if err != nil {
				return err
			}
			if err := client.SaveCredential(service, client.Credential{}); err != nil {
				return err
			}
			if had.Token == "" {
				fmt.Fprintf(a.Out, "nobody was signed in to %s from here\n", service)
				return nil
			}
			fmt.Fprintf(a.Out, "signed out of %s; the token that was used is good until it expires, or: kembrel tokens revoke ID\n", service)
			return nil
		}}
}
