package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// report gives the estate on a day.
func (a *app) report() *cobra.Command {
	var onDay, format, part, out string
	c := &cobra.Command{Use: "report", Short: "Report the estate on a day: what is there, what was broken and how long, what was renewed, what is due",
		Args: cobra.NoArgs,
		Long: "Without --format a summary is printed. html is a page to print, on its own; csv is one part of the\n" +
			"report. A day that has passed is told as it was at its end.",
		Example: "  insegna report\n  insegna report --format html --out estate.html\n  insegna report --day 2026-11-01 --format csv --part findings",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.GetReportParams{}
			if onDay != "" {
				t, err := time.Parse(time.DateOnly, onDay)
				if err != nil {
					return usage{fmt.Errorf("%q is no day; expected one such as 2026-11-01", onDay)}
				}
				params.Day = &client.Date{Time: t}
			}
			if format == "" && a.output == "csv" {
				format = "csv"
			}
			p := client.GetReportParamsPart(part)
			if !p.Valid() {
				return usage{fmt.Errorf("unknown part %q; expected bindings, findings, renewed or due", part)}
			}
			params.Part = &p
			if f := client.GetReportParamsFormat(format); format != "" {
				if !f.Valid() {
					return usage{fmt.Errorf("unknown format %q; expected json, html or csv", format)}
				}
				params.Format = &f
				return a.kept(c.Context(), out, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetReport(ctx, params) })
			}
			if out != "" {
				return usage{errors.New("--out needs --format json, html or csv")}
			}
			v, err := get[client.Report](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetReport(ctx, params) })
			if err != nil {
				return err
			}
			return a.reportSummary(v)
		})}
	c.Flags().StringVar(&onDay, "day", "", "a day, such as 2026-11-01; today without one")
	c.Flags().StringVar(&format, "format", "", "json, html or csv")
	c.Flags().StringVar(&part, "part", "bindings", "of CSV: bindings, findings, renewed or due")
	c.Flags().StringVar(&out, "out", "", "write it to this file")
	return c
}

// reportSummary tells a report in a few lines.
func (a *app) reportSummary(v *client.Report) error {
	facts := [][2]string{{"estate", v.Estate}, {"as of", moment(v.At)}, {"bindings", fmt.Sprint(v.AllBindings)},
		{"certificates in use", fmt.Sprintf("%d, of which %d had ended", v.InUse, v.Ended)},
		{"open findings", fmt.Sprintf("%d broken, %d due, %d weak, %d note", v.Open.Broken, v.Open.Due, v.Open.Weak, v.Open.Note)},
		{"renewed in 30 days", fmt.Sprint(len(v.Renewed))}, {"due in 90 days", fmt.Sprint(len(v.Due))}}
	if err := printFacts(a, v, facts); err != nil || a.output != "table" {
		return err
	}
	if v.AllBindings == 0 {
		a.say("\nNothing had been looked at by then: what was broken is not known.")
	}
	const shown = 8
	for i, f := range v.Findings {
		if i == 0 {
			a.say("\nOpen then, the worst first:")
		}
		if i == shown {
			a.say("and %d more: insegna report --format csv --part findings", len(v.Findings)-shown)
			break
		}
		open := plural(f.Days, "day")
		if f.Days == 0 {
			open = "less than a day"
		}
		a.say("%s  %s: %s, for %s", a.paint(marks[string(f.Severity)]), clean(f.What), f.Code, open)
	}
	for i, d := range v.Due {
		if i == 0 {
			a.say("\nEnding next:")
		}
		if i == shown {
			a.say("and %d more: insegna report --format csv --part due", len(v.Due)-shown)
			break
		}
		a.say("%s  %s, by %s, at %s", day(d.NotAfter), clean(d.CommonName), clean(d.Issuer), plural(d.Bindings, "binding"))
	}
	a.say("\nTo print: insegna report --format html --out estate.html")
	return nil
}

// kept writes a reply as it comes, to a file or to standard output.
func (a *app) kept(ctx context.Context, out string, call func(context.Context, calls) (*http.Response, error)) error {
	text, err := a.raw(ctx, call)
	if err != nil {
		return err
	}
	if out == "" || out == "-" {
		_, err := a.out.Write(text)
		return err
	}
	if err := os.WriteFile(out, text, 0o644); err != nil {
		return fmt.Errorf("cannot write %s: %w", out, err)
	}
	_, _ = fmt.Fprintf(a.err, "Written: %s\n", out)
	return nil
}

// calendar groups the commands about addresses of the calendar.
func (a *app) calendar() *cobra.Command {
	return group("calendar", "Addresses at which a calendar reads ends, renewals and acceptances", a.calendarAdd(), a.calendarList(), a.calendarRevoke())
}

// feedColumns show addresses of the calendar.
var feedColumns = []column[client.Feed]{
	{head: "Number", cell: func(f client.Feed) string { return fmt.Sprint(f.Id) }},
	{head: "For", width: 30, cell: func(f client.Feed) string { return f.Name }},
	{head: "Of", cell: func(f client.Feed) string { return orElse(f.Owner, "all") }},
	{head: "Made by", cell: func(f client.Feed) string { return f.Person }},
	{head: "Made", cell: func(f client.Feed) string { return day(f.MadeAt) }},
	{head: "Used", cell: func(f client.Feed) string {
		if f.UsedAt == nil {
			return "never"
		}
		return moment(*f.UsedAt)
	}},
}

// calendarAdd makes an address.
func (a *app) calendarAdd() *cobra.Command {
	var owner string
	c := &cobra.Command{Use: "add NAME", Short: "Make an address of the calendar; it is shown once", Args: cobra.ExactArgs(1),
		Long:    "Whoever has the address reads the calendar without signing in. It can be revoked, and ends with the\naccess of who made it.",
		Example: "  insegna calendar add \"the wall in the office\"\n  insegna calendar add freight --owner freight-desk",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			body := client.FeedRequest{Name: args[0]}
			if owner != "" {
				body.Owner = &owner
			}
			f, err := get[client.Feed](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.MakeFeed(ctx, body) })
			if err != nil {
				return err
			}
			if a.output != "table" {
				return print(a, f, []client.Feed{*f}, feedColumns)
			}
			a.say("%s%s", a.service(), orEmpty(f.Path))
			a.say("\nKeep it: it is not shown again. Revoke it with: insegna calendar revoke %d", f.Id)
			return nil
		})}
	c.Flags().StringVar(&owner, "owner", "", "only what is theirs")
	return c
}

// calendarList lists addresses.
func (a *app) calendarList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List addresses of the calendar", Args: cobra.NoArgs, Example: "  insegna calendar list",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			v, err := get[client.FeedList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListFeeds(ctx) })
			if err != nil {
				return err
			}
			if len(v.Items) == 0 {
				a.say("There is no address of the calendar. Make one: insegna calendar add NAME")
				if a.output == "table" {
					return nil
				}
			}
			return print(a, v.Items, v.Items, feedColumns)
		})}
}

// calendarRevoke ends an address.
func (a *app) calendarRevoke() *cobra.Command {
	return &cobra.Command{Use: "revoke NUMBER", Short: "End an address of the calendar", Args: cobra.ExactArgs(1), Example: "  insegna calendar revoke 2",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := noticeNumber(args[0])
			if err != nil {
				return usage{fmt.Errorf("%q is no number; see: insegna calendar list", args[0])}
			}
			if _, err := get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.RevokeFeed(ctx, id) }); err != nil {
				return err
			}
			a.say("The address is revoked.")
			return nil
		})}
}
