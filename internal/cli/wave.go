package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
)

// installEverywhere previews a wave, asks, and follows it to its end.
func (a *app) installEverywhere(ctx context.Context, mandate string, also []string, yes, only bool) error {
	w, err := get[client.Wave](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return cl.PreviewWave(ctx, client.WaveRequest{Mandate: mandate, Also: given(also)})
	})
	if err != nil {
		return err
	}
	if only && a.output != "table" {
		return a.printWave(w)
	}
	a.showWavePreview(w)
	if only {
		a.say("\nNothing was changed. Begin it: insegna wave begin %d", w.Number)
		return nil
	}
	if err := a.agreed(yes, "Begin this wave?", fmt.Sprintf("insegna wave begin %d", w.Number)); err != nil {
		return err
	}
	return a.beginWave(ctx, w.Number)
}

// showWavePreview tells the order of a wave, and what changes on each server.
func (a *app) showWavePreview(w *client.Wave) {
	a.say("Wave %d: the certificate of order %d for %s, to %s", w.Number, w.Order, w.Mandate, waveOrder(w))
	if len(w.There) > 0 {
		a.say("%s has it already.", strings.Join(w.There, ", "))
	}
	for _, group := range w.Groups {
		for i := range group {
			a.say("")
			if v := group[i].Installation; v != nil {
				a.showPreview(v)
			}
		}
	}
}

// waveOrder names the servers of a wave in the order they go.
func waveOrder(w *client.Wave) string {
	var groups []string
	for _, group := range w.Groups {
		var names []string
		for _, s := range group {
			names = append(names, clean(s.Server))
		}
		groups = append(groups, strings.Join(names, " and "))
	}
	return strings.Join(groups, ", then ")
}

// beginWave carries a preview out.
func (a *app) beginWave(ctx context.Context, number int64) error {
	w, err := get[client.Wave](a, ctx,
		func(ctx context.Context, cl calls) (*http.Response, error) { return cl.BeginWave(ctx, number) })
	if err != nil {
		return err
	}
	return a.followWave(ctx, w)
}

// followWave prints what becomes of each server as it comes, until the wave has
// ended or waits for a person.
func (a *app) followWave(ctx context.Context, w *client.Wave) error {
	a.say("\nWave %d of %s: %s", w.Number, w.Mandate, waveOrder(w))
	told := map[string]string{}
	for {
		var err error
		if w, err = a.waveOf(ctx, w.Number); err != nil {
			return err
		}
		for _, group := range w.Groups {
			for _, s := range group {
				if said := waveSays(s.Installation); said != told[s.Server] && said != "" {
					told[s.Server] = said
					a.say("  %s  %-14s  %s", time.Now().In(zone).Format("15:04:05"), clean(s.Server), clean(said))
				}
			}
		}
		if w.State != client.WaveStateRunning && w.State != client.WaveStateReturning {
			if a.output == "json" {
				if err := a.json(w); err != nil {
					return err
				}
			}
			return a.waveEnd(w)
		}
		select {
		case <-time.After(between):
		case <-ctx.Done():
			return fmt.Errorf("the wave goes on without this command; see: insegna wave show %d --follow", w.Number)
		}
	}
}

// waveSays is how one server stands, by mark and word; "" when nothing was begun.
func waveSays(v *client.Installation) string {
	switch {
	case v == nil:
		return "✗ its preview is gone"
	case v.State == client.InstallationStatePreviewed:
		return ""
	case v.State == client.InstallationStateDone:
		return "✓ new: visitors get it"
	case v.State == client.InstallationStateReturned && v.AskedBack:
		return "✓ old: taken back"
	case v.State == client.InstallationStateReturned:
		return "✗ old: " + v.Reason
	case v.State == client.InstallationStateStuck:
		return "✗ neither new nor old: " + v.Reason
	}
	return "◷ " + string(v.State)
}

// waveEnd says in one sentence how a wave stands.
func (a *app) waveEnd(w *client.Wave) error {
	switch w.State {
	case client.WaveStateDone:
		a.say("New on every server. The way back: insegna wave return %d", w.Number)
	case client.WaveStateReturned:
		a.say("Old on every server, as before wave %d.", w.Number)
	case client.WaveStateKept:
		a.say("Left as it is: it stopped, since %s", w.Reason)
	case client.WaveStateStopped:
		return errors.New("the wave has stopped: " + w.Reason + "\n" + w.Advice)
	}
	return nil
}

// waveOf fetches one wave.
func (a *app) waveOf(ctx context.Context, number int64) (*client.Wave, error) {
	return get[client.Wave](a, ctx,
		func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetWave(ctx, number) })
}

// waves groups the commands about waves.
func (a *app) waves() *cobra.Command {
	return group("wave", "Installations on several servers, in their order", a.waveList(), a.waveShow(),
		a.waveAct("begin", "Carry out a wave that was previewed", "", a.beginWave),
		a.waveAct("return", "Take a wave back on every server it came to", "Make every server as it was before wave %d?",
			func(ctx context.Context, number int64) error {
				w, err := get[client.Wave](a, ctx,
					func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ReturnWave(ctx, number) })
				if err != nil {
					return err
				}
				return a.followWave(ctx, w)
			}),
		a.waveAct("keep", "Leave a wave that stopped as it is", "", func(ctx context.Context, number int64) error {
			w, err := get[client.Wave](a, ctx,
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.KeepWave(ctx, number) })
			if err != nil {
				return err
			}
			return a.waveEnd(w)
		}))
}

// waveAct is a command that does something with a wave; it asks when there is a
// question.
func (a *app) waveAct(does, short, question string, do func(context.Context, int64) error) *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: does + " NUMBER", Short: short, Args: cobra.ExactArgs(1),
		Example: "  insegna wave " + does + " 2",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "wave")
			if err != nil {
				return err
			}
			if question != "" {
				if err := a.agreed(yes, fmt.Sprintf(question, id), fmt.Sprintf("insegna wave %s %d --yes", does, id)); err != nil {
					return err
				}
			}
			return do(c.Context(), id)
		})}
	if question != "" {
		c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	}
	return c
}

// waveServer is a server of a wave, for a table.
type waveServer struct {
	client.WaveServer
	group int
}

// printWave prints the servers of a wave.
func (a *app) printWave(w *client.Wave) error {
	var rows []waveServer
	for n, group := range w.Groups {
		for _, s := range group {
			rows = append(rows, waveServer{s, n + 1})
		}
	}
	return print(a, w, rows, []column[waveServer]{
		{head: "Group", cell: func(s waveServer) string { return fmt.Sprint(s.group) }},
		{head: "Server", width: 16, cell: func(s waveServer) string { return s.Server }},
		{head: "Installation", cell: func(s waveServer) string {
			if s.Installation == nil {
				return ""
			}
			return fmt.Sprint(s.Installation.Number)
		}},
		{head: "Stands", width: 60, cell: func(s waveServer) string {
			if said := waveSays(s.Installation); said != "" {
				return said
			}
			return "· waits for its turn"
		}, raw: func(s waveServer) string {
			if s.Installation == nil {
				return ""
			}
			return string(s.Installation.State)
		}},
	})
}

// waveList lists waves.
func (a *app) waveList() *cobra.Command {
	var mandate string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List waves and their previews, newest first", Args: cobra.NoArgs,
		Example: "  insegna wave list --mandate booking",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			params := &client.ListWavesParams{}
			if mandate != "" {
				params.Mandate = &mandate
			}
			page, err := whole(a, c.Context(), limit,
				func(p *client.WavePage) (*[]client.Wave, **string) { return &p.Items, &p.NextCursor },
				func(ctx context.Context, cl calls, cursor *string, size *int) (*http.Response, error) {
					params.Cursor, params.Limit = cursor, size
					return cl.ListWaves(ctx, params)
				})
			if err != nil {
				return err
			}
			err = print(a, page.Items, page.Items, []column[client.Wave]{
				{head: "No.", cell: func(w client.Wave) string { return fmt.Sprint(w.Number) }},
				{head: "Mandate", width: 16, cell: func(w client.Wave) string { return w.Mandate }},
				{head: "Servers, in their order", width: 40, cell: func(w client.Wave) string { return waveOrder(&w) }},
				{head: "By", width: 10, cell: func(w client.Wave) string { return w.By }},
				{head: "State", width: 34, cell: func(w client.Wave) string {
					if w.Reason != "" {
						return string(w.State) + ": " + w.Reason
					}
					return string(w.State)
				}, raw: func(w client.Wave) string { return string(w.State) }},
			})
			a.more(page.NextCursor, len(page.Items))
			return err
		})}
	c.Flags().StringVar(&mandate, "mandate", "", "of one mandate")
	c.Flags().IntVar(&limit, "limit", 0, limitHelp)
	return c
}

// waveShow shows how the servers of a wave stand.
func (a *app) waveShow() *cobra.Command {
	var follow bool
	c := &cobra.Command{Use: "show NUMBER", Short: "Show a wave: its servers in their order, and how each stands",
		Args: cobra.ExactArgs(1), Example: "  insegna wave show 2 --follow",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			id, err := number(args[0], "wave")
			if err != nil {
				return err
			}
			w, err := a.waveOf(c.Context(), id)
			if err != nil {
				return err
			}
			if follow {
				return a.followWave(c.Context(), w)
			}
			if a.output == "table" {
				a.say("Wave %d of %s, order %d, %s by %s", w.Number, w.Mandate, w.Order, w.State, w.By)
			}
			if err := a.printWave(w); err != nil || a.output != "table" {
				return err
			}
			if w.State == client.WaveStatePreviewed {
				a.say("\nNothing was changed. Begin it: insegna wave begin %d", w.Number)
			}
			return a.waveEnd(w)
		})}
	c.Flags().BoolVar(&follow, "follow", false, "stay until it has ended or waits for a person")
	return c
}
