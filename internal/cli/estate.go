package cli

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/service"
)

// estate groups the commands about the estate file.
func (a *app) estate() *cobra.Command {
	return group("estate", "The estate file: draft, check, preview, apply, show", a.estateCheck(), a.estatePreview(),
		a.estateApply(), a.estateShow(), a.estateExport(), a.estateDraft(),
		&cobra.Command{Use: "schema", Short: "Print the JSON Schema of estate files, for editors", Args: cobra.NoArgs,
			Example: "  insegna estate schema > estate.schema.json",
			RunE: a.run(func(*cobra.Command, []string) error {
				_, err := a.out.Write(estate.Schema(registry.Kinds.Declared()))
				return err
			})})
}

// estateCheck works without a service, for an editor or a pipeline.
func (a *app) estateCheck() *cobra.Command {
	return &cobra.Command{Use: "check FILE", Short: "Check an estate file without a service", Args: cobra.ExactArgs(1),
		Example: "  insegna estate check .demo/estate.yaml",
		RunE: a.run(func(_ *cobra.Command, args []string) error {
			f, err := loadEstate(args[0])
			if err != nil {
				return err
			}
			e, err := f.Parse(registry.Kinds.Declared())
			if err != nil {
				return err
			}
			endpoints, bindings := size(e)
			doc := map[string]any{"estate": e.Name, "hosts": len(e.Hosts), "servers": len(e.Servers), "endpoints": endpoints,
				"bindings": bindings}
			if a.output == "json" {
				return a.json(doc)
			}
			a.say("%s is fine: %s with %s on %s at %s, %s.", args[0], e.Name, plural(len(e.Hosts), "host"),
				plural(len(e.Servers), "server"),
				plural(endpoints, "endpoint"), plural(bindings, "binding"))
			return nil
		})}
}

// size counts what a survey would look at.
func size(e *estate.Estate) (endpoints, bindings int) {
	for i := range e.Servers {
		for range e.Servers[i].Endpoints() {
			endpoints++
		}
	}
	for i := range e.Hosts {
		for range e.Endpoints(&e.Hosts[i]) {
			bindings++
		}
	}
	return endpoints, bindings
}

// loadEstate reads an estate file from disk with what it mentions.
func loadEstate(path string) (*service.EstateFile, error) {
	return service.LoadEstateFile(path, func(p string) ([]byte, error) { return readFile(p, estate.SizeLimit) })
}

// readFile reads a file up to one byte over a limit, so that the reader can
// say it is too large without holding all of it.
func readFile(path string, limit int64) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	st, err := f.Stat()
	if err != nil {
		return nil, err
	}
	if st.IsDir() {
		return nil, fmt.Errorf("%s is a directory", path)
	}
	return readAtMost(f, limit+1)
}

// estateCall is one of the two calls that take an estate file.
type estateCall func(context.Context, calls, client.EstateFile) (*http.Response, error)

// send loads a file, checks it here, and makes one of the two calls with it.
func (a *app) send(ctx context.Context, path string, call estateCall) (*client.EstateChanges, error) {
	f, err := loadEstate(path)
	if err != nil {
		return nil, err
	}
	if _, err := f.Parse(registry.Kinds.Declared()); err != nil {
		return nil, err // with places, before anything is sent
	}
	attachments := map[string]string{}
	for p, data := range f.Attachments {
		attachments[p] = string(data)
	}
	body := client.EstateFile{File: path, Text: string(f.Text), Attachments: &attachments}
	if len(f.Parts) > 0 {
		type part = struct {
			File string `json:"file"`
			Text string `json:"text"`
		}
		parts := make([]part, len(f.Parts))
		for i, p := range f.Parts {
			parts[i] = part{p.File, string(p.Data)}
		}
		body.Parts = &parts
	}
	return get[client.EstateChanges](a, ctx, func(ctx context.Context, cl calls) (*http.Response, error) {
		return call(ctx, cl, body)
	})
}

// estatePreview changes nothing.
func (a *app) estatePreview() *cobra.Command {
	return &cobra.Command{Use: "preview FILE", Short: "Show what applying an estate file would change",
		Args: cobra.ExactArgs(1), Example: "  insegna estate preview .demo/estate.yaml",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			changes, err := a.send(c.Context(), args[0],
				func(ctx context.Context, cl calls, f client.EstateFile) (*http.Response, error) {
					return cl.PreviewEstate(ctx, f)
				})
			if err != nil {
				return err
			}
			return a.showChanges(changes,
				"Applying %s would make %s. Nothing is changed yet; apply it with: insegna estate apply %[1]s")
		})}
}

// estateApply sends the file and all it mentions, so that the service needs no
// access to them.
func (a *app) estateApply() *cobra.Command {
	var yes bool
	c := &cobra.Command{Use: "apply FILE", Short: "Apply an estate file, in one transaction", Args: cobra.ExactArgs(1),
		Example: "  insegna estate apply .demo/estate.yaml",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if !yes {
				if err := a.goneAgreed(c.Context(), args[0]); err != nil {
					return err
				}
			}
			changes, err := a.send(c.Context(), args[0],
				func(ctx context.Context, cl calls, f client.EstateFile) (*http.Response, error) {
					return cl.ApplyEstate(ctx, f)
				})
			if err != nil {
				return err
			}
			return a.showChanges(changes, "Applied %s: %s. Look at the estate with: insegna survey start")
		})}
	c.Flags().BoolVar(&yes, "yes", false, "do not ask, when something would be gone")
	return c
}

// goneAgreed asks before what is in force is declared no more.
func (a *app) goneAgreed(ctx context.Context, path string) error {
	changes, err := a.send(ctx, path,
		func(ctx context.Context, cl calls, f client.EstateFile) (*http.Response, error) {
			return cl.PreviewEstate(ctx, f)
		})
	if err != nil {
		return err
	}
	gone := map[string]int{}
	var names []string
	for _, v := range changes.Changes {
		if v.Change == client.EstateChangeChangeGone {
			gone[v.Kind]++
			names = append(names, v.Name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	var words []string
	for _, k := range slices.Sorted(maps.Keys(gone)) {
		words = append(words, plural(gone[k], k))
	}
	if len(names) > 5 {
		names = append(names[:5], fmt.Sprintf("%d more", len(names)-5))
	}
	return a.agreed(false, fmt.Sprintf("Applying %s takes away %s: %s. Apply it?", path, strings.Join(words, ", "),
		clean(strings.Join(names, ", "))), "insegna estate apply "+path+" --yes")
}

// showChanges lists what is new, changed and gone, with the place in the file.
func (a *app) showChanges(c *client.EstateChanges, summary string) error {
	if len(c.Changes) > 0 || a.output != "table" {
		err := print(a, c, c.Changes, []column[client.EstateChange]{
			{head: "Change", cell: func(v client.EstateChange) string { return string(v.Change) }},
			{head: "Kind", cell: func(v client.EstateChange) string { return v.Kind }},
			{head: "Name", width: 40, cell: func(v client.EstateChange) string { return v.Name }},
			{head: "Where and what", width: 40, cell: func(v client.EstateChange) string {
				return strings.TrimSpace(v.Place + "  " + strings.Join(v.Fields, "; "))
			}},
		})
		if err != nil || a.output != "table" {
			return err
		}
		a.say("")
	}
	if c.Replaces != nil {
		a.say("It takes the place of %s, applied before.", clean(*c.Replaces))
	}
	if len(c.Changes) == 0 {
		a.say("%s declares what is in force already; nothing to change.", c.File)
		return nil
	}
	a.say(summary, c.File, plural(len(c.Changes), "change"))
	return nil
}

// estateExport writes the estate as a file that can be applied elsewhere.
func (a *app) estateExport() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "export", Short: "Write the estate in force as a file that can be applied elsewhere", Args: cobra.NoArgs,
		Long: "What was made here beside the file stands in it too: hosts that were taken in, mandates. With --out it is\n" +
			"written into a folder, with the certificate files it mentions.",
		Example: "  insegna estate export > estate.yaml\n  insegna estate export --out ferries && insegna estate check ferries/estate.yaml",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			v, err := get[client.EstateExport](a, c.Context(), func(ctx context.Context, cl calls) (*http.Response, error) { return cl.ExportEstate(ctx) })
			if err != nil {
				return err
			}
			if a.output == "json" {
				return a.json(v)
			}
			if out == "" {
				_, err := fmt.Fprint(a.out, v.Text)
				return err
			}
			files := map[string]string{v.File: v.Text}
			maps.Copy(files, v.Files)
			for _, path := range slices.Sorted(maps.Keys(files)) {
				at := filepath.Join(out, filepath.FromSlash(path))
				if !filepath.IsLocal(path) {
					return fmt.Errorf("the service names a file outside of the folder: %q", path)
				}
				if _, err := os.Lstat(at); err == nil {
					return usage{fmt.Errorf("%s is there already; name another folder", at)}
				}
				if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
					return err
				}
				if err := os.WriteFile(at, []byte(files[path]), 0o644); err != nil {
					return err
				}
			}
			a.say("Written: %s, with %s made here, %s, and %s.", filepath.Join(out, v.File), plural(v.Hosts, "host"), plural(v.Mandates, "mandate"),
				plural(len(v.Files), "certificate file"))
			return nil
		})}
	c.Flags().StringVar(&out, "out", "", "write into this folder")
	return c
}

// estateShow shows what is in force, or the file it came from.
func (a *app) estateShow() *cobra.Command {
	var asFile bool
	c := &cobra.Command{Use: "show", Short: "Show the estate in force", Args: cobra.NoArgs,
		Example: "  insegna estate show\n  insegna estate show --file",
		RunE: a.run(func(c *cobra.Command, _ []string) error {
			e, err := get[client.Estate](a, c.Context(),
				func(ctx context.Context, cl calls) (*http.Response, error) { return cl.GetEstate(ctx) })
			if err != nil {
				return err
			}
			if asFile {
				_, err := fmt.Fprint(a.out, e.Text)
				return err
			}
			a.say("%s, declared in %s, applied %s: %s, %s at %s.\n", clean(e.Name), clean(e.File), moment(e.AppliedAt),
				plural(len(e.Hosts), "host"), plural(len(e.Servers), "server"), plural(e.Endpoints, "endpoint"))
			return print(a, e, e.Hosts, hostColumns)
		})}
	c.Flags().BoolVar(&asFile, "file", false, "print the estate file as it was applied")
	return c
}
