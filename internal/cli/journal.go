package cli

import (
	"context"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// journal groups the commands about the journal.
func (a *app) journal() *cobra.Command {
	return group("journal", "Who did what", a.journalList(), a.journalVerify())
}

// journalList lists the newest first.
func (a *app) journalList() *cobra.Command {
	var query string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List who did what, newest first", Args: cobra.NoArgs,
		Example: "  insegna journal list\n  insegna journal list --query estate.apply -o csv",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListJournalParams{}
			if query != "" {
				params.Q = &query
			}
			page, err := whole(a, c.Context(), limit,
				func(p *client.JournalPage) (*[]client.JournalEntry, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListJournal(ctx, params)
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No entry fits.")
				if a.output == "table" {
					return nil
				}
			}
			err = print(a, page.Items, page.Items, []column[client.JournalEntry]{
				{head: "Entry", cell: func(e client.JournalEntry) string { return fmt.Sprint(e.Id) }},
				{head: "When", cell: func(e client.JournalEntry) string { return moment(e.At) },
					raw: func(e client.JournalEntry) string { return e.At.UTC().Format("2006-01-02T15:04:05Z") }},
				{head: "Who", width: 16, cell: func(e client.JournalEntry) string { return e.Actor }},
				{head: "What", width: 44, cell: func(e client.JournalEntry) string {
					return strings.TrimSuffix(e.Action+" "+e.Subject+"\n"+e.Detail, "\n{}")
				}},
				{head: "Hash", cell: func(e client.JournalEntry) string { return e.Hash[:12] },
					raw: func(e client.JournalEntry) string { return e.Hash }},
			})
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&query, "query", "", "part of who, what or to what")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// entries counts in words.
func entries(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return fmt.Sprintf("%d entries", n)
}

// wholeHash is a hash as verify prints it.
var wholeHash = regexp.MustCompile("^[0-9a-f]{64}$")

// journalVerify walks the chain of hashes. Only a hash kept elsewhere shows
// entries taken off the end.
func (a *app) journalVerify() *cobra.Command {
	var expect string
	c := &cobra.Command{Use: "verify", Short: "Check that nothing in the journal was changed", Args: cobra.NoArgs,
		Long: "Walks the whole journal and checks every entry against the one before.\nKeep the hash it prints elsewhere " +
			"and give it with --expect next time: then entries taken off the end show too.",
		Example: "  insegna journal verify\n  insegna journal verify --expect 4f1c...64 digits",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.VerifyJournalParams{}
			if expect != "" {
				if !wholeHash.MatchString(expect) {
					return usage{
						fmt.Errorf("--expect %q is no hash; expected the 64 hexadecimal digits an earlier insegna journal verify printed", expect)}
				}
				params.Expect = &expect
			}
			v, err := get[client.JournalVerification](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.VerifyJournal(ctx, params) })
			if err != nil {
				return err
			}
			if a.output == "json" {
				if err := a.json(v); err != nil {
					return err
				}
			}
			switch {
			case v.BrokenAt != nil:
				return fmt.Errorf("the journal is broken at entry %d: %s; before it stand %s that fit", *v.BrokenAt,
					orEmpty(v.Reason), entries(v.Entries))
			case !v.Whole:
				return fmt.Errorf("%s of the journal fit together, but %s", entries(v.Entries), orEmpty(v.Reason))
			case v.Entries == 0:
				a.say("The journal is empty.")
			default:
				a.say("The journal is whole: %s, the last is %s", entries(v.Entries), v.Head)
			}
			return nil
		})}
	c.Flags().StringVar(&expect, "expect", "", "a hash an earlier check printed, which must be in the journal")
	return c
}
