package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"insegna.example/client"
)

// setUpLink is a one-time link; what follows # is not sent when it is opened.
func setUpLink(console, code string) string { return console + "/set-up#" + code }

// signInDays is how long the command line stays signed in.
const signInDays = 30

// passphrase asks for one on the terminal, or reads the first line of a file.
func (a *app) passphrase(file, prompt string) (string, error) {
	switch in := int(os.Stdin.Fd()); {
	case file == "-":
		return firstLine(os.Stdin)
	case file != "":
		f, err := os.Open(file)
		if err != nil {
			return "", fmt.Errorf("cannot read --passphrase-file: %w", err)
		}
		defer func() { _ = f.Close() }()
		return firstLine(f)
	case term.IsTerminal(in):
		fmt.Fprint(a.err, prompt+": ")
		p, err := term.ReadPassword(in)
		fmt.Fprintln(a.err)
		return string(p), err
	}
	return "", usage{
		errors.New("there is no terminal to ask for the passphrase; give it with --passphrase-file FILE, or - for the " +
			"standard input")}
}

// firstLine reads a passphrase or credential from a file or pipe. Blanks at its
// ends belong to it.
func firstLine(r io.Reader) (string, error) {
	line, err := bufio.NewReader(io.LimitReader(r, 4096)).ReadString('\n')
	if err != nil && err != io.EOF {
		return "", err
	}
	return strings.TrimRight(line, "\r\n"), nil
}

// entering gives calls that hold a session for the time of signing in.
func (a *app) entering() (*client.ClientWithResponses, error) {
	c, err := a.plain()
	if err != nil {
		return nil, err
	}
	if c.Jar, err = cookiejar.New(nil); err != nil {
		return nil, err
	}
	return client.NewClientWithResponses(a.calls(), client.WithHTTPClient(c))
}

// enter turns a session into a token, keeps that, and ends the session.
func (a *app) enter(ctx context.Context, cl *client.ClientWithResponses, who *client.SignedIn) error {
	host, err := os.Hostname()
	if err != nil {
		host = "unknown machine"
	}
	resp, err := cl.MakeToken(ctx, client.TokenRequest{Name: "command line on " + host, Scope: who.Role, Days: signInDays})
	t, err := document[client.NewToken](a, resp, err)
	if err != nil {
		return err
	}
	if err := a.keep(&signedIn{who.Person, t.Secret, t.Token.ExpiresAt}); err != nil {
		return err
	}
	if resp, err := cl.SignOut(ctx); err == nil {
		_ = resp.Body.Close()
	}
	a.say("Signed in to %s as %s (%s), until %s.", a.service(), who.Person, who.Role, moment(t.Token.ExpiresAt))
	if os.Getenv(TokenVariable) != "" {
		fmt.Fprintf(a.err, "The token in %s goes before this sign-in as long as it is set.\n", TokenVariable)
	}
	return nil
}

// signIn keeps the token in place of the passphrase, which is never stored.
func (a *app) signIn() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "sign-in NAME", Short: "Sign in to the service", Args: cobra.ExactArgs(1),
		Long: "Asks for the passphrase and keeps a token for 30 days in your configuration directory (mode " +
			"0600).\nPrograms use a token of their own, see insegna token make, in INSEGNA_TOKEN.",
		Example: "  insegna sign-in marit\n  insegna sign-in marit --passphrase-file marit.passphrase",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			p, err := a.passphrase(file, "Passphrase of "+args[0])
			if err != nil {
				return err
			}
			cl, err := a.entering()
			if err != nil {
				return err
			}
			resp, err := cl.SignIn(c.Context(), client.SignInRequest{Name: args[0], Passphrase: p})
			who, err := document[client.SignedIn](a, resp, err)
			if err != nil {
				return err
			}
			return a.enter(c.Context(), cl, who)
		})}
	c.Flags().StringVar(&file, "passphrase-file", "",
		"file with the passphrase in its first line, - for the standard input")
	return c
}

// setUp uses a one-time link. Its code stands in the fragment, which browsers
// do not send, and so in no server's log.
func (a *app) setUp() *cobra.Command {
	var file, name string
	c := &cobra.Command{Use: "set-up LINK", Short: "Choose a passphrase with a one-time link, and sign in",
		Args: cobra.ExactArgs(1),
		Long: "Uses the one-time link an admin gave you, or for the first admin the one that the service printed\nwhen " +
			"it started. The first admin also chooses a name. The link's address is the service's.",
		Example: "  insegna set-up http://127.0.0.1:7420/set-up#CODE --name marit",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			u, err := url.Parse(args[0])
			if err != nil || u.Fragment == "" || !strings.HasSuffix(u.Path, "/set-up") {
				return usage{
					errors.New("this is no one-time link; expected something like http://" + DefaultAddress +
						"/set-up#CODE, in quotes")}
			}
			code := u.Fragment
			u.Fragment, u.Path = "", strings.TrimSuffix(u.Path, "/set-up")
			a.address = u.String()
			p, err := a.passphrase(file, "New passphrase, at least 12 characters")
			if err != nil {
				return err
			}
			if file == "" {
				again, err := a.passphrase("", "The same again")
				if err != nil {
					return err
				}
				if again != p {
					return errors.New("the two are not the same; nothing was changed, run it again")
				}
			}
			cl, err := a.entering()
			if err != nil {
				return err
			}
			request := client.SetUpRequest{Code: code, Passphrase: p}
			if name != "" {
				request.Name = &name
			}
			resp, err := cl.SetUp(c.Context(), request)
			who, err := document[client.SignedIn](a, resp, err)
			if err != nil {
				return err
			}
			return a.enter(c.Context(), cl, who)
		})}
	c.Flags().StringVar(&name, "name", "", "name of the first admin")
	c.Flags().StringVar(&file, "passphrase-file", "",
		"file with the passphrase in its first line, - for the standard input")
	return c
}

// signOut forgets the token here even when the service cannot be told, and says
// which of both happened.
func (a *app) signOut() *cobra.Command {
	return &cobra.Command{Use: "sign-out", Short: "Sign out: the kept token is revoked and forgotten", Args: cobra.NoArgs,
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			_, err := get[struct{}](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.SignOut(ctx)
				})
			if kept := a.keep(nil); kept != nil {
				return kept
			}
			if err != nil {
				return fmt.Errorf("the token is forgotten here, but the service was not told: %w", err)
			}
			a.say("Signed out of %s.", a.service())
			return nil
		})}
}

// whoAmI answers scripts and people who wonder why something is refused.
func (a *app) whoAmI() *cobra.Command {
	return &cobra.Command{Use: "whoami", Short: "Say who is signed in, and as what", Args: cobra.NoArgs,
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			who, err := get[client.SignedIn](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.GetSession(ctx)
				})
			if err != nil {
				return err
			}
			facts := [][2]string{{"Person", who.Person}, {"Acts as", string(who.Role)}, {"Until", moment(who.ExpiresAt)},
				{"Service", a.service()}}
			if who.Token != nil {
				facts = append(facts, [2]string{"Token", *who.Token})
			}
			return printFacts(a, who, facts)
		})}
}

// people groups the commands about people.
func (a *app) people() *cobra.Command {
	return group("person", "Who may sign in, and do what", a.personList(), a.personAdd(), a.personInvite(),
		a.personRole(), a.personKeys(), a.personRemove())
}

// personList shows who has set a passphrase already: who has not may have lost
// the link.
func (a *app) personList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List everybody who may sign in", Args: cobra.NoArgs,
		Example: "  insegna person list",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			list, err := get[client.PersonList](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.ListPeople(ctx)
				})
			if err != nil {
				return err
			}
			return print(a, list.Items, list.Items, []column[client.Person]{
				{head: "Name", width: 30, cell: func(p client.Person) string { return p.Name }},
				{head: "Role", cell: func(p client.Person) string { return string(p.Role) }},
				{head: "Since ", cell: func(p client.Person) string { return moment(p.AddedAt) },
					raw: func(p client.Person) string { return p.AddedAt.UTC().Format("2006-01-02T15:04:05Z") }},
				{head: "State", cell: func(p client.Person) string {
					if p.SetUp {
						return "has a passphrase"
					}
					return "invited"
				}},
			})
		})}
}

// invited prints a one-time link.
func (a *app) invited(i *client.Invitation) error {
	if a.output != "table" {
		return a.json(i)
	}
	a.say("Give this link to %s. It works once, until %s:", i.Name, moment(i.ExpiresAt))
	a.say("%s", setUpLink(a.service(), i.Code))
	return nil
}

// roleWords explains the roles where one is asked for.
var roleWords = "viewer (sees), operator (has work done) or admin (decides)"

// roleOf reads a role.
func (a *app) roleOf(word string) (client.Role, error) {
	switch r := client.Role(word); r {
	case client.RoleViewer, client.RoleOperator, client.RoleAdmin:
		return r, nil
	}
	return "", usage{fmt.Errorf("unknown role %q; expected %s", word, roleWords)}
}

// personAdd prints a link, so that nobody but the person knows the passphrase.
func (a *app) personAdd() *cobra.Command {
	var role string
	c := &cobra.Command{Use: "add NAME", Short: "Add somebody and print their one-time link", Args: cobra.ExactArgs(1),
		Example: "  insegna person add tove --role operator",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			r, err := a.roleOf(role)
			if err != nil {
				return err
			}
			i, err := get[client.Invitation](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.AddPerson(ctx, client.PersonRequest{Name: args[0], Role: r})
				})
			if err != nil {
				return err
			}
			return a.invited(i)
		})}
	c.Flags().StringVar(&role, "role", "viewer", roleWords)
	return c
}

// personInvite prints a link anew; the one before it stops working.
func (a *app) personInvite() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "invite NAME",
		Short: "Print a new one-time link, for a lost one or a forgotten passphrase", Args: cobra.ExactArgs(1),
		Example: "  insegna person invite tove",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.agreed(yes, "A new link ends the sessions and tokens of "+args[0]+" at once. Make it?",
				"insegna person invite "+args[0]+" --yes"); err != nil {
				return err
			}
			i, err := get[client.Invitation](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.InvitePerson(ctx, args[0])
				})
			if err != nil {
				return err
			}
			return a.invited(i)
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// personRole changes what somebody may do, from their next request on.
func (a *app) personRole() *cobra.Command {
	return &cobra.Command{Use: "role NAME ROLE", Short: "Give somebody another role", Args: cobra.ExactArgs(2),
		Example: "  insegna person role tove admin",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			r, err := a.roleOf(args[1])
			if err != nil {
				return err
			}
			p, err := get[client.Person](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.ChangePerson(ctx, args[0], client.PersonChange{Role: &r})
				})
			if err != nil {
				return err
			}
			a.say("%s is %s now.", p.Name, p.Role)
			return nil
		})}
}

// personKeys gives or withdraws a permission that no role includes.
func (a *app) personKeys() *cobra.Command {
	return &cobra.Command{Use: "keys NAME allow|deny",
		Short: "Allow or deny somebody to take private keys out of the safe", Args: cobra.ExactArgs(2),
		Example: "  insegna person keys tove allow", ValidArgs: []string{"allow", "deny"},
		RunE: a.run(func(c *cobra.Command, args []string) error {
			may := args[1] == "allow"
			if !may && args[1] != "deny" {
				return usage{fmt.Errorf("%q is neither allow nor deny", args[1])}
			}
			p, err := get[client.Person](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.ChangePerson(ctx, args[0], client.PersonChange{Keys: &may})
				})
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.json(p)
			}
			if p.Keys {
				a.say("%s may take private keys out of the safe; each time is in the journal.", p.Name)
			} else {
				a.say("%s may not take private keys out of the safe.", p.Name)
			}
			return nil
		})}
}

// personRemove ends access at once; what the person did stays in the journal.
func (a *app) personRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove NAME", Short: "End somebody's access, with their sessions and tokens",
		Args: cobra.ExactArgs(1), Example: "  insegna person remove tove",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.agreed(yes, "End the access of "+args[0]+"? The name cannot be used again.",
				"insegna person remove "+args[0]+" --yes"); err != nil {
				return err
			}
			_, err := get[struct{}](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.RemovePerson(ctx, args[0])
				})
			if err == nil {
				a.say("%s can no longer sign in.", args[0])
			}
			return err
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// tokens groups the commands about tokens.
func (a *app) tokens() *cobra.Command {
	return group("token", "Tokens, with which programs act for you", a.tokenList(), a.tokenMake(), a.tokenRevoke())
}

// tokenList shows names and ends of tokens; the tokens themselves are not kept
// anywhere.
func (a *app) tokenList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List your tokens; an admin sees everybody's", Args: cobra.NoArgs,
		Example: "  insegna token list",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			list, err := get[client.TokenList](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.ListTokens(ctx)
				})
			if err != nil {
				return err
			}
			return print(a, list.Items, list.Items, []column[client.Token]{
				{head: "Number", cell: func(t client.Token) string { return fmt.Sprint(t.Id) }},
				{head: "Name", width: 34, cell: func(t client.Token) string { return t.Name }},
				{head: "Person", width: 16, cell: func(t client.Token) string { return t.Person }},
				{head: "Scope", cell: func(t client.Token) string { return string(t.Scope) }},
				{head: "Until", cell: func(t client.Token) string { return moment(t.ExpiresAt) },
					raw: func(t client.Token) string { return t.ExpiresAt.UTC().Format("2006-01-02T15:04:05Z") }},
			})
		})}
}

// tokenMake prints a token, this once. Its scope is at most the role of whoever
// makes it.
func (a *app) tokenMake() *cobra.Command {
	var scope string
	var days int
	c := &cobra.Command{Use: "make NAME", Short: "Make a token and print it, this once", Args: cobra.ExactArgs(1),
		Example: "  insegna token make \"night report\" --scope viewer --days 90",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			r, err := a.roleOf(scope)
			if err != nil {
				return err
			}
			t, err := get[client.NewToken](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.MakeToken(ctx, client.TokenRequest{Name: args[0], Scope: r, Days: days})
				})
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.json(t)
			}
			fmt.Fprintf(a.err, "The token %q acts for %s as %s until %s. It is not shown again:\n", t.Token.Name,
				t.Token.Person, t.Token.Scope, moment(t.Token.ExpiresAt))
			a.say("%s", t.Secret)
			return nil
		})}
	c.Flags().StringVar(&scope, "scope", "viewer", roleWords)
	c.Flags().IntVar(&days, "days", 90, "how long it is valid, at most 366")
	return c
}

// tokenRevoke ends a token by its number.
func (a *app) tokenRevoke() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "revoke NUMBER", Short: "End a token", Args: cobra.ExactArgs(1),
		Example: "  insegna token revoke 7",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || id < 1 {
				return usage{fmt.Errorf("%q is no number of a token; see: insegna token list", args[0])}
			}
			if err := a.agreed(yes, fmt.Sprintf("Revoke token %d? Whatever uses it stops working at once.", id),
				fmt.Sprintf("insegna token revoke %d --yes", id)); err != nil {
				return err
			}
			_, err = get[struct{}](a, c.Context(),
				func(ctx context.Context, cl *client.ClientWithResponses) (*http.Response, error) {
					return cl.RevokeToken(ctx, id)
				})
			if err == nil {
				a.say("Token %d is revoked.", id)
			}
			return err
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}
