package cli

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/core/check"
)

// completeWithin is how long the shell waits for the service.
const completeWithin = 2 * time.Second

// lister gives values to complete with, each perhaps with a tab and what it is.
type lister func(ctx context.Context) ([]string, error)

// words are values that are always the same.
func words(list ...string) lister {
	return func(context.Context) ([]string, error) { return list, nil }
}

// listed asks the service for a list and makes values of its rows.
func listed[P, T any](a *app, part func(*P) (*[]T, **string),
	call func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error),
	value func(*T) string) lister {
	return func(ctx context.Context) ([]string, error) {
		const most = 2000 // a shell shows no more
		page, err := whole(a, ctx, most, part, call)
		if err != nil {
			return nil, err
		}
		items, _ := part(page)
		out := make([]string, len(*items))
		for i := range *items {
			out[i] = value(&(*items)[i])
		}
		return out, nil
	}
}

// listers are the values of the estate, by what they name.
func (a *app) listers() map[string]lister {
	return map[string]lister{
		"server": listed(a, func(p *client.ServerPage) (*[]client.Server, **string) { return &p.Items, &p.NextCursor },
			func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
				return cl.ListServers(ctx, &client.ListServersParams{Cursor: cursor, Limit: size})
			}, func(s *client.Server) string { return s.Name + "\t" + s.Kind }),
		"host": listed(a, func(p *client.BindingPage) (*[]client.Binding, **string) { return &p.Items, &p.NextCursor },
			func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
				return cl.ListBindings(ctx, &client.ListBindingsParams{Cursor: cursor, Limit: size})
			}, func(b *client.Binding) string { return b.Host }),
		"mandate": listed(a, func(p *client.MandatePage) (*[]client.Mandate, **string) { return &p.Items, &p.NextCursor },
			func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
				return cl.ListMandates(ctx, &client.ListMandatesParams{Cursor: cursor, Limit: size})
			}, func(m *client.Mandate) string { return m.Name + "\t" + standing(*m) }),
		"finding": listed(a, findingPart, func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response,
			error) {
			return cl.ListFindings(ctx, &client.ListFindingsParams{Cursor: cursor, Limit: size})
		}, func(f *client.Finding) string { return fmt.Sprintf("%d\t%s %s", f.Id, f.Code, f.Host+f.Server) }),
		"order": listed(a, func(p *client.OrderPage) (*[]client.Order, **string) { return &p.Items, &p.NextCursor },
			func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
				return cl.ListOrders(ctx, &client.ListOrdersParams{Cursor: cursor, Limit: size})
			}, func(o *client.Order) string { return fmt.Sprintf("%d\t%s %s", o.Number, o.Mandate, o.State) }),
		"installation": listed(a,
			func(p *client.InstallationPage) (*[]client.Installation, **string) { return &p.Items, &p.NextCursor },
			func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
				return cl.ListInstallations(ctx, &client.ListInstallationsParams{Cursor: cursor, Limit: size})
			}, func(v *client.Installation) string { return fmt.Sprintf("%d\t%s on %s", v.Number, v.Mandate, v.Server) }),
		"survey": listed(a, func(p *client.SurveyPage) (*[]client.Survey, **string) { return &p.Items, &p.NextCursor },
			func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
				return cl.ListSurveys(ctx, &client.ListSurveysParams{Cursor: cursor, Limit: size})
			}, func(v *client.Survey) string { return fmt.Sprintf("%d\t%s", v.Id, v.Scope) }),
		"person": func(ctx context.Context) (out []string, err error) {
			list, err := get[client.PersonList](a, ctx,
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListPeople(ctx) })
			if err != nil {
				return nil, err
			}
			for _, p := range list.Items {
				out = append(out, p.Name+"\t"+string(p.Role))
			}
			return out, nil
		},
		"ca": func(ctx context.Context) (out []string, err error) {
			list, err := a.listCAs(ctx)
			if err != nil {
				return nil, err
			}
			for _, ca := range list.Items {
				out = append(out, ca.Name+"\t"+ca.Directory)
			}
			return out, nil
		},
		"token": func(ctx context.Context) (out []string, err error) {
			list, err := get[client.TokenList](a, ctx,
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListTokens(ctx) })
			if err != nil {
				return nil, err
			}
			for _, t := range list.Items {
				out = append(out, fmt.Sprintf("%d\t%s", t.Id, t.Name))
			}
			return out, nil
		},
	}
}

// codes are the findings that can be made, with what they mean.
func codes() (out []string) {
	for _, r := range check.Rules {
		out = append(out, string(r.Code)+"\t"+r.Meaning)
	}
	return out
}

// complete lets the shell complete names, numbers and values: by the names of
// flags, and by what a command's arguments are called in how it is used.
func (a *app) complete(root *cobra.Command) {
	estate := a.listers()
	flags := map[string]lister{"server": estate["server"], "host": estate["host"], "mandate": estate["mandate"],
		"severity": words("broken", "due", "weak", "note"), "fail-at": words("broken", "due", "weak", "note"),
		"verdict": words("broken", "at-odds", "unknown", "agreed"), "state": words("open", "closed", "all"),
		"code": words(codes()...), "output": words("table", "json", "csv"), "kind": words("host", "ca", "all"),
		"role": words("viewer", "operator", "admin"), "scope": words("viewer", "operator", "admin"),
		"log-level": words("debug", "info", "warn", "error"),
		"sort":      words("ends", "-ends", "name", "-name", "issuer", "-issuer", "seen", "-seen")}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for name, list := range flags {
			if c.Flag(name) != nil {
				_ = c.RegisterFlagCompletionFunc(name, a.completion(list, 0)) // fails for inherited ones, which have it already
			}
		}
		if use := strings.Fields(c.Use); len(use) > 1 && c.ValidArgsFunction == nil && c.HasParent() {
			if list := a.argument(estate, c.Parent().Name(), use[1]); list != nil {
				c.ValidArgsFunction = a.completion(list, 1)
			}
		}
		for _, sub := range c.Commands() {
			walk(sub)
		}
	}
	walk(root)
}

// argument gives what the first argument of a command may be, by the group of the
// command and what the argument is called.
func (a *app) argument(estate map[string]lister, group, called string) lister {
	switch called = strings.Trim(called, "[]"); {
	case called == "HOST":
		return estate["host"]
	case called == "NAME" && group == "insegna":
		return estate["host"] // https
	case called == "NAME", called == "NUMBER":
		return estate[group]
	}
	return nil
}

// completion gives values that begin as what is typed; at most so many arguments
// are completed, 0 for a flag.
func (a *app) completion(list lister, most int) cobra.CompletionFunc {
	return func(c *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		if most > 0 && len(args) >= most {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(c.Context()), completeWithin)
		defer cancel()
		all, err := list(ctx)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		before := ""
		if i := strings.LastIndexByte(typed, ','); i >= 0 { // one of several
			before, typed = typed[:i+1], typed[i+1:]
		}
		var out []string
		for _, v := range all {
			if strings.HasPrefix(v, typed) {
				out = append(out, before+v)
			}
		}
		slices.Sort(out)
		return slices.Compact(out), cobra.ShellCompDirectiveNoFileComp
	}
}
