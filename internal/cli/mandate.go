package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// mandates groups the commands about mandates.
func (a *app) mandates() *cobra.Command {
	return group("mandate", "Standing instructions: these names, from this CA, proved this way", a.mandateList(),
		a.mandateShow(), a.mandateDraft(), a.mandateAdd(), a.mandateRemove(), a.mandateCheck(), a.mandateVisit(), a.mandateForecast(),
		a.mandateOrder("order", "Order the certificate now", false),
		a.mandateOrder("rehearse",
			"Try it all: order at the CA's test directory, stage and test on the servers, change nothing", true))
}

// standing says in a few words how a mandate stands.
func standing(m client.Mandate) string {
	switch o := m.Last; {
	case o != nil && o.Waits:
		return fmt.Sprintf("order %d: %s", o.Number, waitsFor(o))
	case o != nil && o.FinishedAt == nil:
		return fmt.Sprintf("order %d: %s", o.Number, o.State)
	case o != nil && o.Failure != nil:
		return fmt.Sprintf("order %d failed: %s", o.Number, o.Failure.Kind)
	case o != nil && o.NotAfter != nil:
		return placed(m) + ", until " + day(*o.NotAfter)
	}
	return "never ordered"
}

// waitsFor says what a waiting order waits for.
func waitsFor(o *client.Order) string {
	if o.SentAt == nil {
		return "waits for its request to be sent"
	}
	words := "sent " + day(*o.SentAt)
	if o.SentTo != nil {
		words += " to " + *o.SentTo
	}
	if o.ExpectedAt != nil {
		words += ", reply expected by " + day(*o.ExpectedAt)
	}
	return words
}

// placed says how far the newest certificate of a mandate has come.
func placed(m client.Mandate) string {
	switch {
	case m.SeenAt > 0:
		return fmt.Sprintf("seen at %d %s", m.SeenAt, map[bool]string{true: "binding", false: "bindings"}[m.SeenAt == 1])
	case len(m.InstalledOn) > 0:
		return "installed on " + strings.Join(m.InstalledOn, ", ") + ", not seen yet"
	}
	return "lies in the safe, installed nowhere"
}

// inUse says where the newest certificate of a mandate is used; "" for nowhere.
func inUse(m client.Mandate) string {
	if m.SeenAt == 0 && len(m.InstalledOn) == 0 {
		return ""
	}
	if len(m.InstalledOn) > 0 && m.SeenAt > 0 {
		return "installed on " + strings.Join(m.InstalledOn, ", ") + ", " + placed(m)
	}
	return placed(m)
}

// next says when something happens by itself, and why then.
func next(m client.Mandate) string {
	if m.NextAt == nil {
		return m.NextWhy
	}
	return moment(*m.NextAt) + ", " + m.NextWhy
}

// mandateList lists with each mandate how its certificate stands.
func (a *app) mandateList() *cobra.Command {
	var query string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List mandates with how they stand", Args: cobra.NoArgs,
		Example: "  insegna mandate list\n  insegna mandate list --query booking -o csv",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListMandatesParams{}
			if query != "" {
				params.Q = &query
			}
			page, err := whole(a, c.Context(), limit,
				func(p *client.MandatePage) (*[]client.Mandate, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListMandates(ctx, params)
				})
			if err != nil {
				return err
			}
			if len(page.Items) == 0 {
				a.say("No mandate fits. One begins with: insegna mandate draft")
				if a.output == "table" {
					return nil
				}
			}
			err = print(a, page.Items, page.Items, []column[client.Mandate]{
				{head: "Mandate", width: 16, cell: func(m client.Mandate) string { return m.Name }},
				{head: "Names", width: 30, cell: func(m client.Mandate) string { return strings.Join(m.Names, "\n") },
					raw: func(m client.Mandate) string { return strings.Join(m.Names, " ") }},
				{head: "From, by", width: 18, cell: func(m client.Mandate) string {
					if m.Proof == client.MandateProofNone {
						return m.Ca
					}
					return strings.Join(append([]string{m.Ca}, m.Otherwise...), ", else ") + "\nby " + string(m.Proof)
				}, raw: func(m client.Mandate) string { return m.Ca + " " + string(m.Proof) }},
				{head: "Stands", width: 34, cell: func(m client.Mandate) string {
					if n := next(m); n != "" {
						return standing(m) + "\n→ " + n
					}
					return standing(m)
				}, raw: standing},
			})
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&query, "query", "", "part of a name, host or CA")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// mandateShow tells one mandate with its orders and its trail.
func (a *app) mandateShow() *cobra.Command {
	return &cobra.Command{Use: "show NAME", Short: "Show one mandate with its orders and the CA's budget",
		Args: cobra.ExactArgs(1), Example: "  insegna mandate show deck-plans",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			m, err := get[client.Mandate](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetMandate(ctx, args[0]) })
			if err != nil {
				return err
			}
			facts := [][2]string{{"Names", strings.Join(m.Names, ", ")}, {"CA", strings.Join(append([]string{m.Ca}, m.Otherwise...), ", else ")},
				{"Proof", strings.TrimSpace(string(m.Proof) + " " + m.ProofAt)}, {"Key", keyOf(m)},
				{"Belongs on", strings.Join(m.Install, ", ")}, {"Stands", standing(*m)}, {"Next", next(*m)}}
			if m.Rehearsed != nil {
				words := fmt.Sprintf("%s: order %d at the test directory %s", moment(m.Rehearsed.BegunAt), m.Rehearsed.Number,
					m.Rehearsed.State)
				for i := range m.RehearsedOn {
					words += "\n" + rehearsedOn(&m.RehearsedOn[i])
				}
				facts = append(facts, [2]string{"Last rehearsal", words})
			}
			if m.Budget.Certificates > 0 {
				facts = append(facts,
					[2]string{"Budget of the CA",
						fmt.Sprintf("%d of %d certificates used in %d days", m.Budget.Used, m.Budget.Certificates, m.Budget.Days)})
			}
			if m.Place != "" {
				facts = append(facts, [2]string{"Declared", m.Place})
			} else {
				facts = append(facts, [2]string{"Made by", m.MadeBy})
			}
			if a.output == "csv" {
				return print(a, m, m.Trail, trailColumns)
			}
			if err := printFacts(a, m, facts); err != nil || a.output != "table" || len(m.Trail) == 0 {
				return err
			}
			a.say("\nFrom the order to what visitors see:")
			return print(a, m, m.Trail, trailColumns)
		})}
}

// keyOf tells a mandate's kind of key, and where it stays.
func keyOf(m *client.Mandate) string {
	if m.KeyOn == "" {
		return m.Key
	}
	return m.Key + ", made on " + m.KeyOn + " and kept there alone"
}

// trailMarks stand before a link of the trail.
var trailMarks = map[client.TrailEntryOutcome]string{client.TrailEntryOutcomeDone: "✓",
	client.TrailEntryOutcomeOpen: "…", client.TrailEntryOutcomeFailed: "✗"}

// trailColumns are the trail from the order to what visitors see.
var trailColumns = []column[client.TrailEntry]{
	{head: " ", cell: func(e client.TrailEntry) string { return trailMarks[e.Outcome] },
		raw: func(e client.TrailEntry) string { return string(e.Outcome) }},
	{head: "Link", cell: func(e client.TrailEntry) string { return string(e.Step) }},
	{head: "When", width: 20, cell: func(e client.TrailEntry) string {
		if e.At == nil {
			return ""
		}
		return e.At.In(zone).Format("2006-01-02 15:04:05 MST")
	}, raw: func(e client.TrailEntry) string {
		if e.At == nil {
			return ""
		}
		return e.At.UTC().Format(time.RFC3339)
	}},
	{head: "Where, how", width: 60, cell: func(e client.TrailEntry) string {
		return e.Where + "\n" + e.Words
	}, raw: func(e client.TrailEntry) string { return e.Where }},
}

// rehearsedOn says how a rehearsal went on a server.
func rehearsedOn(v *client.Installation) string {
	switch v.State {
	case client.InstallationStateRehearsed:
		return "✓ on " + v.Server + ": staged, its own test of the copy passes, taken away again"
	case client.InstallationStateReturned, client.InstallationStateStuck:
		return strings.TrimSpace("✗ on " + v.Server + ": " + v.Reason + "\n  → " + v.Advice)
	}
	return "… on " + v.Server + ": " + string(v.State)
}

// followRehearsal waits until what a rehearsal brought was tried on every
// server of its mandate.
func (a *app) followRehearsal(ctx context.Context, order *client.Order) error {
	for told := map[string]bool{}; ; {
		m, err := get[client.Mandate](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
			return cl.GetMandate(ctx, order.Mandate)
		})
		if err != nil || m.Rehearsed == nil || m.Rehearsed.Number != order.Number {
			return err
		}
		wrong := 0
		for i := range m.RehearsedOn {
			v := &m.RehearsedOn[i]
			if v.FinishedAt == nil {
				continue
			}
			if !told[v.Server] {
				for line := range strings.Lines(rehearsedOn(v)) {
					a.say("  %s", clean(strings.TrimSuffix(line, "\n")))
				}
			}
			told[v.Server] = true
			if v.State != client.InstallationStateRehearsed {
				wrong++
			}
		}
		servers := map[string]bool{}
		for _, ref := range m.Install {
			name, _, _ := strings.Cut(ref, ":")
			servers[name] = true
		}
		switch {
		case len(told) < len(servers):
		case wrong > 0:
			return fmt.Errorf("the CA's part of the rehearsal went well, that on %d of %d servers did not; nothing was changed",
				wrong, len(servers))
		default:
			a.say("The rehearsal went well to its end; nothing was changed.")
			return nil
		}
		select {
		case <-time.After(between):
		case <-ctx.Done():
			return fmt.Errorf("the rehearsal goes on without this command; see: insegna mandate show %s", order.Mandate)
		}
	}
}

// mandateVisit visits every name of a mandate from outside.
func (a *app) mandateVisit() *cobra.Command {
	return &cobra.Command{Use: "visit NAME",
		Short: "Walk a visitor's way to each of its names: DNS, plain http, TLS, certificate, chain, trust, https",
		Args:  cobra.ExactArgs(1), Example: "  insegna mandate visit deck-plans",
		RunE: a.run(func(c *cobra.Command, args []string) error { return a.visitMandate(c.Context(), args[0]) })}
}

// mandateDraft prints a draft; it makes nothing.
func (a *app) mandateDraft() *cobra.Command {
	var server, site string
	c := &cobra.Command{Use: "draft",
		Short: "Work out the names of a mandate, from a site or from what no certificate covers", Args: cobra.NoArgs,
		Long: "Prints a mandate to correct, and what to think of. With --site the names of that site, else the\nhosts " +
			"whose bindings no certificate covers. Keep it in the estate file, or: insegna mandate add FILE",
		Example: "  insegna mandate draft\n  insegna mandate draft --server pier-1 --site deck-plans.lanterncoast.example > " +
			"draft.yaml",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			if site != "" && server == "" {
				return usage{errors.New("--site needs --server: which server declares it")}
			}
			params := &client.DraftMandateParams{}
			if server != "" {
				params.Server = &server
			}
			if site != "" {
				params.Site = &site
			}
			d, err := get[client.MandateDraft](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.DraftMandate(ctx, params) })
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.json(d)
			}
			for _, advice := range d.Advice {
				a.say("# %s", clean(advice))
			}
			_, err = io.WriteString(a.out, d.Text)
			return err
		})}
	c.Flags().StringVar(&server, "server", "", "a server of the estate")
	c.Flags().StringVar(&site, "site", "", "file:line of a site, or one of its names")
	return c
}

// mandateAdd takes a draft that somebody read and corrected.
func (a *app) mandateAdd() *cobra.Command {
	return &cobra.Command{Use: "add FILE", Short: "Make a mandate from a file, - for the standard input",
		Args: cobra.ExactArgs(1),
		Example: "  insegna mandate draft --server pier-1 --site deck-plans.lanterncoast.example > draft.yaml\n  insegna " +
			"mandate add draft.yaml",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			text, err := readFileOrInput(args[0])
			if err != nil {
				return err
			}
			m, err := get[client.Mandate](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.AddMandate(ctx, client.MandateText{Text: string(text)})
			})
			if err != nil {
				return err
			}
			if m.Also != nil {
				a.say("Made mandate %s for %s, and for the other names %s. Nothing is ordered yet; try each first: insegna mandate check %s", m.Name,
					plural(len(m.Names), "name"), strings.Join(*m.Also, ", "), m.Name)
				return nil
			}
			a.say("Made mandate %s for %s. Nothing is ordered yet; try it first: insegna mandate check %s", m.Name,
				strings.Join(m.Names, ", "), m.Name)
			return nil
		})}
}

// readFileOrInput takes - as the standard input, as commands do.
func readFileOrInput(path string) ([]byte, error) {
	const most = 1 << 20
	if path == "-" {
		return io.ReadAll(io.LimitReader(os.Stdin, most))
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	return io.ReadAll(io.LimitReader(f, most))
}

// mandateRemove ends a mandate that no estate file declares; one that does is
// ended there.
func (a *app) mandateRemove() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "remove NAME", Short: "End a mandate that was made by command or in the console",
		Args: cobra.ExactArgs(1), Example: "  insegna mandate remove deck-plans",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			m, err := get[client.Mandate](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetMandate(ctx, args[0]) })
			if err != nil {
				return err
			}
			if used := inUse(*m); used != "" && m.Place == "" {
				a.say("The certificate of %s is still used: %s. Without the mandate nobody renews it.", m.Name, used)
				if err := a.agreed(yes, "End the mandate all the same?", "insegna mandate remove "+m.Name); err != nil {
					return err
				}
				yes = true
			}
			_, err = get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.RemoveMandate(ctx, args[0], &client.RemoveMandateParams{Used: &yes})
			})
			if err == nil {
				a.say("Mandate %s has ended; its orders stay as history.", args[0])
			}
			return err
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask, also when its certificate is still used")
	return c
}

// mandateCheck runs the pre-flight.
func (a *app) mandateCheck() *cobra.Command {
	return &cobra.Command{Use: "check NAME", Short: "Pre-flight: try what the CA will try, before it is asked",
		Args: cobra.ExactArgs(1),
		Long: "Puts a proof up for a moment and looks for it as the CA will: CAA records, every address of every\nname, " +
			"port 80, the file, or the record on every name server. Exits with 1 when something is in the way.",
		Example: "  insegna mandate check deck-plans",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			list, err := get[client.TrialList](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.CheckMandate(ctx, args[0]) })
			if err != nil {
				return err
			}
			err = print(a, list, list.Items, []column[client.Trial]{
				{head: " ", cell: func(t client.Trial) string {
					if t.Code == "" {
						return "✓"
					}
					return "✗"
				}},
				{head: "Name", width: 30, cell: func(t client.Trial) string {
					if t.Ca != "" {
						return t.Name + "\nfor " + t.Ca
					}
					return t.Name
				}, raw: func(t client.Trial) string { return t.Name }},
				{head: "Step", cell: func(t client.Trial) string { return string(t.Step) }},
				{head: "Seen", width: 50, cell: func(t client.Trial) string {
					if t.Code == "" {
						return t.Seen
					}
					return t.Code + ": " + t.Seen + "\n" + t.Spot + "\n→ " + t.Remedy
				}, raw: func(t client.Trial) string { return strings.TrimPrefix(t.Code+": "+t.Seen, ": ") }},
			})
			if err != nil {
				return err
			}
			if !list.Well {
				return fmt.Errorf("something is in the way of %s; the CA was not asked", args[0])
			}
			a.say("\nNothing is in the way. Order it: insegna mandate order %s", args[0])
			return nil
		})}
}

// mandateOrder begins an order or a rehearsal and follows it.
func (a *app) mandateOrder(verb, short string, rehearsal bool) *cobra.Command {
	var anyway, yes bool
	c := &cobra.Command{Use: verb + " NAME", Short: short, Args: cobra.ExactArgs(1),
		Example: "  insegna mandate " + verb + " deck-plans",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if !rehearsal && !yes {
				if err := a.orderedAgain(c.Context(), args[0]); err != nil {
					return err
				}
			}
			o, err := get[client.Order](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.BeginOrder(ctx, client.OrderRequest{Mandate: args[0], Rehearsal: &rehearsal, Anyway: &anyway})
			})
			if err != nil {
				return err
			}
			if err := a.followOrder(c.Context(), o); err != nil || !rehearsal {
				return err
			}
			return a.followRehearsal(c.Context(), o)
		})}
	if !rehearsal {
		c.Flags().BoolVar(&yes, "yes", false, "do not ask, when a certificate is in force already")
		c.Flags().BoolVar(&anyway, "anyway", false, "order though the servers it is installed on are not ready for it")
	}
	return c
}

// orderedAgain asks before an order is spent on what is in force already.
func (a *app) orderedAgain(ctx context.Context, mandate string) error {
	m, err := get[client.Mandate](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.GetMandate(ctx, mandate)
	})
	if err != nil || m.InForce == nil {
		return err
	}
	uses := ""
	if m.Budget.Certificates > 0 {
		uses = fmt.Sprintf("; %d of %d certificates of %s are used in %d days", m.Budget.Used, m.Budget.Certificates, m.Ca,
			m.Budget.Days)
	}
	return a.agreed(false, fmt.Sprintf("%s has a certificate: %s%s. Order another one?", m.Name, standing(*m), uses),
		"insegna mandate order "+m.Name+" --yes")
}

// orders groups the commands about orders.
func (a *app) orders() *cobra.Command {
	return group("order", "Orders of certificates, step by step", a.orderList(), a.orderShow(), a.orderCertificate(),
		a.orderKey(), a.orderExport(), a.orderRequest(), a.orderSent(), a.orderReply(), a.orderGiveUp(), a.orderRevoke())
}

// orderList lists the newest first.
func (a *app) orderList() *cobra.Command {
	var mandate string
	var limit int
	var waiting bool
	c := &cobra.Command{Use: "list", Short: "List orders, newest first", Args: cobra.NoArgs,
		Example: "  insegna order list --mandate deck-plans\n  insegna order list --waiting",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListOrdersParams{}
			if mandate != "" {
				params.Mandate = &mandate
			}
			if waiting {
				params.Waiting = &waiting
			}
			page, err := whole(a, c.Context(), limit,
				func(p *client.OrderPage) (*[]client.Order, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListOrders(ctx, params)
				})
			if err != nil {
				return err
			}
			err = print(a, page.Items, page.Items, []column[client.Order]{
				{head: "Order", cell: func(o client.Order) string { return fmt.Sprint(o.Number) }},
				{head: "Mandate", width: 18, cell: func(o client.Order) string { return o.Mandate }},
				{head: "Begun ", cell: func(o client.Order) string { return moment(o.BegunAt) },
					raw: func(o client.Order) string { return o.BegunAt.UTC().Format(time.RFC3339) }},
				{head: "By", width: 12, cell: func(o client.Order) string { return o.By }},
				{head: "State", width: 34, cell: func(o client.Order) string {
					s := string(o.State)
					if o.Rehearsal {
						s += " (rehearsal)"
					}
					if o.Failure != nil {
						s += ": " + o.Failure.Words
					}
					if o.Waits {
						s = waitsFor(&o)
					}
					if o.Way == client.OrderWayTaken {
						s += ", taken in"
					}
					return s
				}, raw: func(o client.Order) string { return string(o.State) }},
			})
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&mandate, "mandate", "", "of one mandate")
	c.Flags().BoolVar(&waiting, "waiting", false, "only those that wait for a person, the oldest first")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// number reads the number of an order or installation, with or without #.
func number(text, what string) (int64, error) {
	id, err := strconv.ParseInt(strings.TrimPrefix(text, "#"), 10, 64)
	if err != nil || id < 1 {
		return 0, usage{fmt.Errorf("%q is no number of an %s; see: insegna %s list", text, what, what)}
	}
	return id, nil
}

// orderOf fetches one order with its steps.
func (a *app) orderOf(ctx context.Context, id int64) (*client.Order, error) {
	return get[client.Order](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.GetOrder(ctx, id)
	})
}

// orderShow shows an order's steps, and waits for its end when asked to.
func (a *app) orderShow() *cobra.Command {
	var follow bool
	c := &cobra.Command{Use: "show NUMBER", Short: "Show an order with its steps", Args: cobra.ExactArgs(1),
		Example: "  insegna order show 3 --follow",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "order")
			if err != nil {
				return err
			}
			o, err := a.orderOf(c.Context(), id)
			if err != nil {
				return err
			}
			if follow {
				return a.followOrder(c.Context(), o)
			}
			if a.output != "table" {
				return print(a, o, o.Steps, stepColumns)
			}
			a.orderHead(o)
			a.stepsFrom(o.Steps, 0, true)
			return a.orderEnd(o)
		})}
	c.Flags().BoolVar(&follow, "follow", false, "stay until the order has ended")
	return c
}

// stepColumns are the steps as CSV and JSON have them.
var stepColumns = []column[client.OrderStep]{
	{head: "When", cell: func(s client.OrderStep) string { return s.At.UTC().Format(time.RFC3339) }},
	{head: "Step", cell: func(s client.OrderStep) string { return s.Step }},
	{head: "Outcome", cell: func(s client.OrderStep) string { return string(s.Outcome) }},
	{head: "Words", cell: func(s client.OrderStep) string { return s.Words }},
}

// orderHead says what is ordered before its steps appear.
func (a *app) orderHead(o *client.Order) {
	what := "Order"
	if o.Rehearsal {
		what = "Rehearsal"
	}
	a.say("%s %d of %s at %s, begun by %s: %s", what, o.Number, o.Mandate, o.Ca, o.By, strings.Join(o.Names, ", "))
}

// outcomes stand before a step.
var outcomes = map[client.OrderStepOutcome]string{client.OrderStepOutcomeDoing: "…",
	client.OrderStepOutcomeDone: "✓", client.OrderStepOutcomeFailed: "✗"}

// stepIndent is where the words of a step begin.
const stepIndent = 28

// stepsFrom prints steps that have come since the last look; one still going
// on is printed once it has ended, or at the end.
func (a *app) stepsFrom(steps []client.OrderStep, printed int, all bool) int {
	for printed < len(steps) {
		s := steps[printed]
		if s.Outcome == client.OrderStepOutcomeDoing && printed == len(steps)-1 && !all {
			break
		}
		var lines []string
		for l := range strings.SplitSeq(s.Words, "\n") {
			if l = clean(l); a.width > stepIndent {
				l = wrapped(l, a.width-stepIndent)
			}
			lines = append(lines, strings.Split(l, "\n")...)
		}
		a.say("  %s  %s  %-12s %s", s.At.In(zone).Format("15:04:05"), outcomes[s.Outcome], s.Step, lines[0])
		for _, l := range lines[1:] {
			a.say("%*s%s", stepIndent, "", l)
		}
		printed++
	}
	return printed
}

// orderEnd says how it ended; a failure has the CA's words, the advice, and
// when it is tried again.
func (a *app) orderEnd(o *client.Order) error {
	switch {
	case o.Failure != nil:
		words := o.Failure.Words + "\n" + o.Failure.Advice
		if o.Failure.Again != nil {
			words += "\nit is not tried before " + moment(*o.Failure.Again)
		}
		return errors.New(words)
	case o.State == client.OrderStateIssued && o.Rehearsal:
		a.say("The CA's part of the rehearsal went well. What it brought is for nothing else.")
	case o.State == client.OrderStateIssued && o.KeyOn != nil:
		a.say("Issued: the certificate lies in the safe, its key on %s alone, valid until %s.", *o.KeyOn, moment(*o.NotAfter))
	case o.State == client.OrderStateIssued:
		a.say("Issued: certificate and key lie in the safe, valid until %s.", moment(*o.NotAfter))
	}
	return nil
}

// followOrder prints an order's steps as they come, until it has ended.
func (a *app) followOrder(ctx context.Context, o *client.Order) error {
	a.orderHead(o)
	for printed := 0; ; {
		var err error
		if o, err = a.orderOf(ctx, o.Number); err != nil {
			return err
		}
		printed = a.stepsFrom(o.Steps, printed, o.FinishedAt != nil || o.Waits)
		if o.Waits {
			if a.output == "json" {
				return a.json(o)
			}
			a.say("It waits for you: insegna order request %d --out FILE, then insegna order sent %d, and later insegna order reply FILE.", o.Number,
				o.Number)
			return nil
		}
		if o.FinishedAt != nil {
			if a.output == "json" {
				if err := a.json(o); err != nil {
					return err
				}
			}
			return a.orderEnd(o)
		}
		select {
		case <-time.After(400 * time.Millisecond):
		case <-ctx.Done():
			return fmt.Errorf("the order goes on without this command; see: insegna order show %d --follow", o.Number)
		}
	}
}

// orderCertificate prints the certificate with its chain, leaf first. The key
// stays in the safe.
func (a *app) orderCertificate() *cobra.Command {
	return &cobra.Command{Use: "certificate NUMBER",
		Short: "Print the certificate an order brought, with its chain, as PEM", Args: cobra.ExactArgs(1),
		Example: "  insegna order certificate 3 > certificates.pem",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "order")
			if err != nil {
				return err
			}
			v, err := get[client.IssuedCertificate](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetOrderCertificate(ctx, id) })
			if err != nil {
				return err
			}
			if a.output == "json" {
				return json.NewEncoder(a.out).Encode(v)
			}
			_, err = io.WriteString(a.out, v.Chain)
			return err
		})}
}

// orderKey takes a private key out of the safe: asked, and in the journal.
func (a *app) orderKey() *cobra.Command {
	var reason, file string
	var yes bool
	c := &cobra.Command{Use: "key NUMBER",
		Short: "Take the private key of the certificate an order brought out of the safe", Args: cobra.ExactArgs(1),
		Long: "For servers that Insegna does not install on. Needs a permission of its own (insegna person keys), and\n" +
			"stands in the journal with its reason. Without --file the key is printed.",
		Example: "  insegna order key 3 --reason \"balancer without reach\" --file www.key",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "order")
			if err != nil {
				return err
			}
			if strings.TrimSpace(reason) == "" {
				return usage{errors.New("a private key is taken out for a reason; say it with --reason, it stands in the journal")}
			}
			again := fmt.Sprintf("insegna order key %d --reason %s --yes", id, strconv.Quote(reason))
			if err := a.agreed(yes, fmt.Sprintf("Take the private key of order %d out of the safe?", id), again); err != nil {
				return err
			}
			v, err := get[client.TakenKey](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.TakeKey(ctx, id, client.KeyRequest{Reason: reason})
			})
			switch {
			case err != nil:
				return err
			case file != "":
				return writeKey(file, v.Key)
			case a.output == "json":
				return a.json(v)
			}
			_, err = io.WriteString(a.out, v.Key)
			return err
		})}
	c.Flags().StringVar(&reason, "reason", "", "why; it stands in the journal")
	c.Flags().StringVar(&file, "file", "", "file to write it to, made with mode 0600; an existing one is not written over")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	return c
}

// writeKey writes a private key where nothing was, for its owner alone.
func writeKey(file, key string) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return fmt.Errorf("cannot write the key: %w; it was taken out, and the journal says so: name another file", err)
	}
	_, err = io.WriteString(f, key)
	return errors.Join(err, f.Sync(), f.Close())
}

// cas groups the commands about CAs.
func (a *app) cas() *cobra.Command {
	return group("ca", "Certificate authorities, their terms and budgets", a.caList(), a.caAgree(), a.caMake(), a.caTake(), a.caShow(),
		a.caRoot(), a.caSign(), a.caIssued(), a.caRevoke(), a.caCustomers(), a.caRoll())
}

// listCAs fetches the CAs with their accounts and budgets.
func (a *app) listCAs(ctx context.Context) (*client.CAList, error) {
	return get[client.CAList](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.ListCas(ctx)
	})
}

// caList lists the CAs the estate file declares.
func (a *app) caList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the CAs of the estate", Args: cobra.NoArgs,
		Example: "  insegna ca list",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			list, err := a.listCAs(c.Context())
			if err != nil {
				return err
			}
			if len(list.Items) == 0 {
				a.say("The estate file declares no CA; see docs/estate-file.md.")
				if a.output == "table" {
					return nil
				}
			}
			return print(a, list.Items, list.Items, []column[client.CA]{
				{head: "CA", width: 16, cell: func(c client.CA) string { return c.Name }},
				{head: "Directory", width: 34, cell: func(c client.CA) string {
					text := c.Directory
					for _, p := range c.Profiles {
						text += "\nprofile " + p
					}
					return text
				}, raw: func(c client.CA) string { return c.Directory }},
				{head: "Account", width: 24, cell: func(c client.CA) string {
					switch {
					case c.By == client.CAByPrivate:
						return "your own: insegna ca show " + c.Name
					case c.By == client.CAByHand:
						return "asked by hand, by a person"
					case c.Trouble != "":
						return c.Trouble
					case c.Account == nil:
						return "nobody has agreed to its terms: insegna ca agree " + c.Name
					case c.Account.RestsUntil != nil:
						return "wants no requests before " + moment(*c.Account.RestsUntil) + ": " + *c.Account.RestsWhy
					case c.Account.Terms != c.Terms:
						return "its terms have changed: insegna ca agree " + c.Name
					}
					return c.Account.AgreedBy + " agreed " + moment(c.Account.AgreedAt)
				}},
				{head: "Budget", width: 18, cell: func(c client.CA) string {
					if c.Budget.Certificates == 0 {
						return "not declared"
					}
					return fmt.Sprintf("%d of %d used in %d days", c.Budget.Used, c.Budget.Certificates, c.Budget.Days)
				}},
			})
		})}
}

// caAgree needs the address of the terms, so that nobody agrees to what they
// have not seen.
func (a *app) caAgree() *cobra.Command {
	var terms []string
	c := &cobra.Command{Use: "agree NAME", Short: "Agree to a CA's terms, in your name, and make the accounts there",
		Args: cobra.ExactArgs(1),
		Long: "Prints where the CA's terms are. Read them; then run it again with --terms and that address.\nWho agreed, " +
			"to what and when is kept in the journal.",
		Example: "  insegna ca agree harbour-light\n  insegna ca agree harbour-light --terms https://127.0.0.1:14000/terms",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			list, err := a.listCAs(c.Context())
			if err != nil {
				return err
			}
			for _, ca := range list.Items {
				if ca.Name != args[0] {
					continue
				}
				if ca.By != client.CAByAcme {
					return fmt.Errorf("%s has no terms to agree to: it is asked by %s", ca.Name, ca.By)
				}
				if ca.Trouble != "" {
					return fmt.Errorf("%s cannot be asked: %s", ca.Name, ca.Trouble)
				}
				if len(terms) == 0 && ca.Terms != "" {
					a.say("The terms of %s are at %s", ca.Name, ca.Terms)
					command := "insegna ca agree " + ca.Name + " --terms " + ca.Terms
					if ca.TestTerms != nil {
						a.say("Those of its test directory are at %s", *ca.TestTerms)
						command += " --terms " + *ca.TestTerms
					}
					a.say("Read them. To agree in your name: %s", command)
					return nil
				}
				agreed := client.Agreement{}
				if slices.Contains(terms, ca.Terms) {
					agreed.Terms = ca.Terms
				} else if len(terms) > 0 {
					agreed.Terms = terms[0]
				}
				if ca.TestTerms != nil && slices.Contains(terms, *ca.TestTerms) {
					agreed.TestTerms = ca.TestTerms
				}
				v, err := get[client.CA](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
					return cl.AgreeToTerms(ctx, args[0], agreed)
				})
				if err != nil {
					return err
				}
				a.say("%s agreed to %s. The account at %s is %s", v.Account.AgreedBy, v.Account.Terms, v.Name, v.Account.Url)
				return nil
			}
			return fmt.Errorf("the estate declares no CA %q; see: insegna ca list", args[0])
		})}
	c.Flags().StringSliceVar(&terms, "terms", nil,
		"address of terms you have read; several where a test directory has its own")
	return c
}

// credentials groups the commands about the safe.
func (a *app) credentials() *cobra.Command {
	return group("credential", "Credentials in the safe: keys of name servers and of customer accounts",
		a.credentialList(), a.credentialAdd(), a.credentialRemove())
}

// credentialList lists names alone.
func (a *app) credentialList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List the names of the credentials; what they are is never shown",
		Args: cobra.NoArgs, Example: "  insegna credential list",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			list, err := get[client.CredentialList](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ListCredentials(ctx) })
			if err != nil {
				return err
			}
			return print(a, list.Items, list.Items, []column[client.Credential]{
				{head: "Credential", width: 40, cell: func(s client.Credential) string { return s.Name }},
				{head: "Changed ", cell: func(s client.Credential) string { return moment(s.ChangedAt) }},
			})
		})}
}

// credentialAdd never takes a value as an argument, which others on the machine
// could see.
func (a *app) credentialAdd() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "add NAME", Short: "Keep a credential in the safe, in the place of one of that name",
		Args: cobra.ExactArgs(1),
		Long: "Reads the credential from the terminal without showing it, or from the first line of a file. Base64 is " +
			"kept as what it stands for.",
		Example: "  insegna credential add insegna-tsig --file tsig.key",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			value, err := a.passphrase(file, "Credential "+args[0])
			if err != nil {
				return err
			}
			_, err = get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.AddCredential(ctx, args[0], client.CredentialValue{Value: value})
			})
			if err == nil {
				a.say("Credential %s is in the safe.", args[0])
			}
			return err
		})}
	c.Flags().StringVar(&file, "file", "", "file with the credential in its first line, - for the standard input")
	return c
}

// credentialRemove forgets a credential; whatever names it says so when it is
// next needed.
func (a *app) credentialRemove() *cobra.Command {
	return &cobra.Command{Use: "remove NAME", Short: "Forget a credential", Args: cobra.ExactArgs(1),
		Example: "  insegna credential remove insegna-tsig",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			_, err := get[struct{}](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) {
				return cl.RemoveCredential(ctx, args[0])
			})
			if err == nil {
				a.say("Credential %s is forgotten.", args[0])
			}
			return err
		})}
}
