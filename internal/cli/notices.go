package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// notices groups the commands about who is told.
func (a *app) notices() *cobra.Command {
	return group("notice", "Who is told of what is wrong, and whether it arrived", a.noticeOwners(), a.noticeList(), a.noticeShow(),
		a.noticePreview(), a.noticeTest(), a.noticeAgain(), a.noticeSilence())
}

// noticeOwners tells who is told.
func (a *app) noticeOwners() *cobra.Command {
	return &cobra.Command{Use: "owners", Short: "List who is told, and what is theirs", Args: cobra.NoArgs,
		Example: "  insegna notice owners",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			v, err := get[client.OwnerList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListOwners(ctx) })
			if err != nil {
				return err
			}
			if len(v.Items) == 0 {
				a.say("The estate has no owners. Declare them, and notices, in the estate file; see docs/notices.md.")
				if a.output == "table" {
					return nil
				}
			}
			err = print(a, v, v.Items, []column[client.Owner]{
				{head: "Owner", width: 20, cell: func(o client.Owner) string {
					if o.Default {
						return o.Name + "\nand of what names none"
					}
					return o.Name
				}, raw: func(o client.Owner) string { return o.Name }},
				{head: "Told at", width: 38, cell: func(o client.Owner) string {
					return strings.Join(append(slices.Clone(o.Mail), slices.DeleteFunc([]string{orEmpty(o.Webhook)}, func(s string) bool { return s == "" })...), "\n")
				}},
				{head: "Groups", width: 16, cell: func(o client.Owner) string { return strings.Join(o.Groups, ", ") }},
				{head: "Hosts", cell: func(o client.Owner) string { return fmt.Sprint(o.Hosts) }},
				{head: "Open", width: 18, cell: func(o client.Owner) string {
					return fmt.Sprintf("%d broken, %d due", o.Findings.Broken, o.Findings.Due)
				}},
				{head: "Last", csv: true, cell: func(o client.Owner) string {
					if o.ToldAt == nil {
						return ""
					}
					return o.ToldAt.UTC().Format(time.RFC3339)
				}},
			})
			if v.Gather != nil {
				digest := "no digest"
				if v.Digest != nil && *v.Digest != "" {
					digest = "a digest each day at " + *v.Digest
				}
				a.say("\nEach gets at most one message in %s, and %s.", *v.Gather, digest)
			} else if len(v.Items) > 0 {
				a.say("\nNobody is told: the estate declares no notices.")
			}
			for _, o := range v.Items {
				if o.SilentUntil != nil {
					a.say("%s hears nothing until %s.", o.Name, moment(*o.SilentUntil))
				}
			}
			return err
		})}
}

// noticeColumns show messages in lists.
var noticeColumns = []column[client.Notice]{
	{head: "Message", cell: func(n client.Notice) string { return fmt.Sprintf("%d", n.Id) }},
	{head: "When", cell: func(n client.Notice) string { return moment(n.MadeAt) },
		raw: func(n client.Notice) string { return n.MadeAt.UTC().Format(time.RFC3339) }},
	{head: "To", width: 30, cell: func(n client.Notice) string { return n.Owner + "\n" + n.Receiver }},
	{head: "Subject", width: 40, cell: func(n client.Notice) string {
		if n.Trouble != nil {
			return n.Subject + "\n→ " + *n.Trouble
		}
		return n.Subject
	}},
	{head: "State", cell: func(n client.Notice) string { return string(n.State) }},
	{head: "Tries", csv: true, cell: func(n client.Notice) string { return fmt.Sprint(n.Tries) }},
}

// noticeList lists messages.
func (a *app) noticeList() *cobra.Command {
	var owner, state string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List messages, newest first", Args: cobra.NoArgs,
		Example: "  insegna notice list\n  insegna notice list --state undelivered",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			st := client.ListNoticesParamsState(state)
			if !st.Valid() {
				return usage{fmt.Errorf("unknown state %q; expected waiting, delivered, undelivered or all", state)}
			}
			params := &client.ListNoticesParams{State: &st}
			if owner != "" {
				params.Owner = &owner
			}
			page, err := a.noticesThat(c.Context(), params, limit)
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No message fits.")
				if a.output == "table" {
					return nil
				}
			}
			err = print(a, page.Items, page.Items, noticeColumns)
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&owner, "owner", "", "only to this owner")
	c.Flags().StringVar(&state, "state", "all", "waiting, delivered, undelivered or all")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// noticesThat gives the messages that fit.
func (a *app) noticesThat(ctx context.Context, params *client.ListNoticesParams, limit int) (*client.NoticePage, error) {
	return whole(a, ctx, limit, func(p *client.NoticePage) (*[]client.Notice, **string) { return &p.Items, &p.NextCursor },
		func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
			params.Cursor, params.Limit = cursor, size
			return cl.ListNotices(ctx, params)
		})
}

// noticeNumber reads a message's number.
func noticeNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usage{fmt.Errorf("%q is no message; expected a number as insegna notice list shows them", text)}
	}
	return id, nil
}

// notice gives one message.
func (a *app) notice(ctx context.Context, id int64) (*client.Notice, error) {
	return get[client.Notice](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetNotice(ctx, id) })
}

// noticeShow shows what was written.
func (a *app) noticeShow() *cobra.Command {
	return &cobra.Command{Use: "show NUMBER", Short: "Show a message", Args: cobra.ExactArgs(1),
		Example: "  insegna notice show 4",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := noticeNumber(args[0])
			if err != nil {
				return err
			}
			n, err := a.notice(c.Context(), id)
			if err != nil {
				return err
			}
			return a.showNotice(n)
		})}
}

// showNotice tells how a message went, and what is in it.
func (a *app) showNotice(n *client.Notice) error {
	facts := [][2]string{{"to", n.Owner + ", " + string(n.By) + " " + n.Receiver}, {"subject", n.Subject}}
	if n.Id > 0 {
		facts = append(facts, [2]string{"written", moment(n.MadeAt)}, [2]string{"state", fmt.Sprintf("%s, %s", n.State, plural(n.Tries, "try"))})
	}
	if n.Trouble != nil {
		facts = append(facts, [2]string{"trouble", *n.Trouble})
	}
	if n.NextAt != nil {
		facts = append(facts, [2]string{"next try", moment(*n.NextAt)})
	}
	if err := printFacts(a, n, facts); err != nil || a.output != "table" {
		return err
	}
	a.say("\n%s", strings.Trim(cleanLines(orEmpty(n.Text)), "\n"))
	return nil
}

// noticePreview shows what somebody would be told.
func (a *app) noticePreview() *cobra.Command {
	var digest bool
	c := &cobra.Command{Use: "preview OWNER", Short: "Show what an owner would be told of how things stand; nothing is sent",
		Args: cobra.ExactArgs(1), Example: "  insegna notice preview bookings\n  insegna notice preview operations --digest",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			body := client.NoticePreviewRequest{Owner: args[0]}
			if kind := client.NoticePreviewRequestKindDigest; digest {
				body.Kind = &kind
			}
			v, err := get[client.NoticeList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.PreviewNotice(ctx, body)
			})
			if err != nil {
				return err
			}
			if a.output != "table" || len(v.Items) == 0 {
				return print(a, v.Items, v.Items, noticeColumns)
			}
			n := &v.Items[0] // they differ in the address alone
			for i := range v.Items[1:] {
				n.Receiver += ", " + v.Items[i+1].Receiver
			}
			return a.showNotice(n)
		})}
	c.Flags().BoolVar(&digest, "digest", false, "the digest of each day")
	return c
}

// testWithin is how long is waited for a test to arrive.
const testWithin = time.Minute

// noticeTest sends a test and waits for what comes of it.
func (a *app) noticeTest() *cobra.Command {
	return &cobra.Command{Use: "test OWNER", Short: "Send a test to each address of an owner, and see whether it arrives", Args: cobra.ExactArgs(1),
		Example: "  insegna notice test operations",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			v, err := get[client.NoticeList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.TestNotice(ctx, client.NoticeTestRequest{Owner: args[0]})
			})
			if err != nil {
				return err
			}
			ctx, cancel := context.WithTimeout(c.Context(), testWithin)
			defer cancel()
			failed := 0
			for i := range v.Items {
				n := &v.Items[i]
				for n.State == client.NoticeStateWaiting && ctx.Err() == nil {
					select {
					case <-ctx.Done():
					case <-time.After(200 * time.Millisecond):
					}
					if n, err = a.notice(c.Context(), v.Items[i].Id); err != nil {
						return err
					}
				}
				if v.Items[i] = *n; n.State == client.NoticeStateDelivered {
					a.say("Delivered to %s.", clean(n.Receiver))
					continue
				}
				failed++
				a.say("Not delivered to %s: %s.", clean(n.Receiver), clean(orElse(orEmpty(n.Trouble), "it does not answer yet; see: insegna notice list")))
			}
			if a.output != "table" {
				if err := print(a, v.Items, v.Items, noticeColumns); err != nil {
					return err
				}
			}
			if failed > 0 {
				return fmt.Errorf("%d of %s did not arrive", failed, plural(len(v.Items), "test"))
			}
			return nil
		})}
}

// orElse gives a text, or another where it is empty.
func orElse(text, other string) string {
	if text == "" {
		return other
	}
	return text
}

// noticeAgain tries to deliver again what was not.
func (a *app) noticeAgain() *cobra.Command {
	return &cobra.Command{Use: "again [NUMBER...]", Short: "Try to deliver messages again that were not; all of them without numbers",
		Example: "  insegna notice again\n  insegna notice again 12",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			var ids []int64
			for _, arg := range args {
				id, err := noticeNumber(arg)
				if err != nil {
					return err
				}
				ids = append(ids, id)
			}
			if len(ids) == 0 {
				state := client.ListNoticesParamsStateUndelivered
				page, err := a.noticesThat(c.Context(), &client.ListNoticesParams{State: &state}, 0)
				if err != nil {
					return err
				}
				for _, n := range page.Items {
					ids = append(ids, n.Id)
				}
				slices.Reverse(ids) // the oldest first
			}
			var done []client.Notice
			for _, id := range ids {
				n, err := get[client.Notice](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.TryNotice(ctx, id) })
				if err != nil {
					return err
				}
				done = append(done, *n)
			}
			a.say("%s tried again. See what comes of it: insegna notice list", plural(len(done), "message")+map[bool]string{true: " is", false: " are"}[len(done) == 1])
			if a.output != "table" {
				return print(a, done, done, noticeColumns)
			}
			return nil
		})}
}

// silenceColumns show silences.
var silenceColumns = []column[client.Silence]{
	{head: "Silence", cell: func(v client.Silence) string { return fmt.Sprint(v.Id) }},
	{head: "Who", cell: func(v client.Silence) string { return orElse(v.Owner, "everybody") }},
	{head: "Until", cell: func(v client.Silence) string { return moment(v.Until) },
		raw: func(v client.Silence) string { return v.Until.UTC().Format(time.RFC3339) }},
	{head: "By", cell: func(v client.Silence) string { return v.By }},
	{head: "Reason", width: 40, cell: func(v client.Silence) string { return v.Reason }},
}

// noticeSilence has nobody told for a while.
func (a *app) noticeSilence() *cobra.Command {
	var until, reason string
	var within time.Duration
	var end int64
	c := &cobra.Command{Use: "silence [OWNER]", Short: "Have an owner, or nobody, told anything for a while; without --until or --for list what lasts",
		Args: cobra.MaximumNArgs(1),
		Long: "What happens meanwhile is told in one message when the silence has ended, as far as it is still so.",
		Example: "  insegna notice silence --for 2h --reason \"the piers move to another rack\"\n  insegna notice silence bookings --until " +
			"2027-01-04 --reason \"the office is closed\"\n  insegna notice silence --end 3",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			switch {
			case end > 0:
				if _, err := get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
					return cl.EndSilence(ctx, end)
				}); err != nil {
					return err
				}
				a.say("The silence has ended.")
				return nil
			case until == "" && within == 0:
				v, err := get[client.SilenceList](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListSilences(ctx) })
				if err != nil {
					return err
				}
				if len(v.Items) == 0 {
					a.say("Everybody is told.")
					if a.output == "table" {
						return nil
					}
				}
				return print(a, v.Items, v.Items, silenceColumns)
			case until != "" && within != 0:
				return usage{errors.New("--until or --for, not both")}
			case strings.TrimSpace(reason) == "":
				return usage{errors.New("a reason is needed: --reason \"...\"")}
			}
			at := time.Now().Add(within)
			if until != "" {
				var err error
				if at, err = dayGiven(until); err != nil {
					return err
				}
			}
			body := client.SilenceRequest{Until: at, Reason: reason}
			if len(args) > 0 {
				body.Owner = &args[0]
			}
			v, err := get[client.Silence](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.AddSilence(ctx, body) })
			if err != nil {
				return err
			}
			if a.output != "table" {
				return print(a, v, []client.Silence{*v}, silenceColumns)
			}
			who := "Nobody is told anything"
			if v.Owner != "" {
				who = v.Owner + " is told nothing"
			}
			a.say("%s until %s. End it before: insegna notice silence --end %d", who, moment(v.Until), v.Id)
			return nil
		})}
	c.Flags().StringVar(&until, "until", "", "a day such as 2027-01-04, or a time (RFC 3339)")
	c.Flags().DurationVar(&within, "for", 0, "a while, such as 2h")
	c.Flags().StringVar(&reason, "reason", "", "why")
	c.Flags().Int64Var(&end, "end", 0, "end the silence with this number")
	return c
}
