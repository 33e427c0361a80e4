package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"time"

	"github.com/spf13/cobra"

	core "insegna.example/internal/core/draft"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/draft"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/look"
)

// drafting is what a draft is made of, as the flags have it.
type drafting struct {
	draft.Sources
	ports                        []uint
	resolver, name, out, against string
	roots                        []string
	public, yes                  bool
}

// estateDraft needs no service.
func (a *app) estateDraft() *cobra.Command {
	var f drafting
	c := &cobra.Command{Use: "draft", Short: "Write an estate file from what is there", Args: cobra.NoArgs,
		Long: "Finds servers and hosts, and writes an estate file to correct: where each line comes from stands beside it,\n" +
			"what could not be told stands as a comment. Needs no service, and changes nothing.\n" +
			"Without flags the servers of this machine are read: those that run, and those at their usual places.\n" +
			"All flags that name a source can be given several times, and together.",
		Example: "  insegna estate draft --out estate.yaml\n  insegna estate draft --server marit@pier-2.lanterncoast.example\n" +
			"  insegna estate draft --zone db.lanterncoast --certificates /etc/ssl/ferries\n" +
			"  insegna estate draft --range 192.0.2.0/28 --port 443 --port 8443 --allow 192.0.2.0/24\n" +
			"  insegna estate draft --against estate.yaml",
		RunE: a.run(func(c *cobra.Command, _ []string) error { return a.draft(c.Context(), &f) })}
	l := c.Flags()
	l.BoolVar(&f.Here, "here", false, "the servers of this machine, beside other sources")
	l.StringArrayVar(&f.Mains, "main", nil, "main file of a server of this machine, in place of all its servers")
	l.StringArrayVar(&f.Servers, "server", nil, "[USER@]HOST[:PORT]: the servers of a machine, over SSH")
	l.StringArrayVar(&f.Configurations, "configuration", nil, "PATH[@ADDRESS,…]: a configuration that was copied here, file or folder, and the addresses of its server")
	l.StringArrayVar(&f.Zones, "zone", nil, "a zone file")
	l.StringArrayVar(&f.Transfers, "transfer", nil, "ZONE@SERVER[:PORT]: a zone, from a name server that hands it over")
	l.StringArrayVar(&f.Names, "names", nil, "a file with a host name a line, - for standard input")
	l.StringArrayVar(&f.Certificates, "certificates", nil, "a folder of certificates")
	l.StringArrayVar(&f.Ranges, "range", nil, "addresses to look through, such as 192.0.2.0/28")
	l.StringArrayVar(&f.Allow, "allow", nil, "ranges that are yours to look through")
	l.UintSliceVar(&f.ports, "port", []uint{443}, "ports that ranges and names are looked at")
	l.StringVar(&f.Key, "key", "", "SSH: private key file; the agent is asked without one")
	l.StringVar(&f.KnownHosts, "known-hosts", "", "SSH: file of known hosts; your own without one")
	l.StringVar(&f.Origin, "origin", "", "zone of zone files without $ORIGIN")
	l.StringVar(&f.resolver, "resolver", "", "HOST:PORT of the DNS server that is asked for names; this system's without one")
	l.StringVar(&f.name, "name", "", "name of the estate; this machine's without one")
	l.StringArrayVar(&f.roots, "roots", nil, "root certificates visitors trust; this system's without any")
	l.BoolVar(&f.public, "public", false, "the roots given are public CAs")
	l.StringVar(&f.out, "out", "", "write into this file, which must not be there yet; standard output without one")
	l.StringVar(&f.against, "against", "", "estate file to compare with: say what is new and what is gone, in place of a draft")
	l.BoolVar(&f.yes, "yes", false, "take host keys that are not known without a question")
	return c
}

// draft gathers and writes.
func (a *app) draft(ctx context.Context, f *drafting) error {
	if f.out != "" {
		if _, err := os.Lstat(f.out); err == nil {
			return usage{fmt.Errorf("%s is there already; name another file, or compare with it: --against %[1]s", f.out)}
		}
	}
	var before *estate.Estate
	if f.against != "" {
		file, err := loadEstate(f.against)
		if err != nil {
			return err
		}
		if before, err = file.Parse(registry.Kinds.Declared()); err != nil {
			return err
		}
	}
	d, err := a.drafter(f)
	if err != nil {
		return err
	}
	if err := a.gather(ctx, d, f); err != nil {
		return err
	}
	if err := d.Finish(ctx); err != nil {
		return err
	}
	if before != nil {
		return a.drafted(d.Against(before), f.against)
	}
	return a.writeDraft(d.Draft, f)
}

// drafter prepares one.
func (a *app) drafter(f *drafting) (*draft.Drafter, error) {
	host, err := os.Hostname()
	if err != nil {
		host = "here"
	}
	d := &draft.Drafter{Draft: &core.Draft{Name: cmp.Or(f.name, host), Roots: f.roots, Public: f.public}, Kinds: registry.Kinds,
		Looker: look.New(), Resolver: net.DefaultResolver}
	for _, p := range f.ports {
		if p == 0 || p > 65535 {
			return nil, usage{fmt.Errorf("bad --port %d; expected a port from 1 to 65535", p)}
		}
		d.Ports = append(d.Ports, uint16(p))
	}
	if f.resolver != "" {
		if _, _, err := net.SplitHostPort(f.resolver); err != nil {
			return nil, usage{fmt.Errorf("bad --resolver %q; expected HOST:PORT", f.resolver)}
		}
		d.Resolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, network, f.resolver)
		}}
	}
	if err := d.Trusted(); err != nil {
		return nil, err
	}
	last := time.Now()
	d.Told = func(what string, done, of int) {
		if time.Since(last) >= sayEvery || done == of && of > looksTold {
			last = time.Now()
			fmt.Fprintf(a.err, "%s: %d of %d\n", what, done, of)
		}
	}
	return d, nil
}

// looksTold is from how many looks on their end is told too.
const looksTold = 500

// gather brings in every source.
func (a *app) gather(ctx context.Context, d *draft.Drafter, f *drafting) error {
	sources := f.Sources
	sources.Input = os.Stdin
	sources.Agree = func(m draft.Stranger) error {
		fmt.Fprintf(a.err, "%s shows a host key that is not known yet:\n  %s\nThe machine itself tells its own: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub\n",
			m.Address, clean(m.Key))
		return a.agreed(f.yes, "Is it that machine's, and shall it be kept in "+m.File+"?", "insegna estate draft --server "+m.Server)
	}
	err := d.Gather(ctx, &sources)
	if bad := (*draft.SourceError)(nil); errors.As(err, &bad) {
		return usage{bad}
	}
	return err
}

// drafted tells what is new and what is gone.
func (a *app) drafted(list []core.Change, against string) error {
	if a.output == "table" && len(list) == 0 {
		a.say("Nothing is new and nothing gone: what was found is in %s, where it is.", against)
		return nil
	}
	if list == nil {
		list = []core.Change{}
	}
	return print(a, list, list, []column[core.Change]{
		{head: "Change", cell: func(c core.Change) string { return c.Is }},
		{head: "Host", width: 40, cell: func(c core.Change) string { return c.Host }},
		{head: "At", width: 24, cell: func(c core.Change) string { return c.At }},
		{head: "Where it stands", width: 40, cell: func(c core.Change) string { return c.From }},
	})
}

// writeDraft writes the file, and says what is in it and what to do next.
func (a *app) writeDraft(d *core.Draft, f *drafting) error {
	text := d.Text()
	watched, doubted := len(d.Hosts(true)), len(d.Hosts(false))
	if f.out == "" {
		if _, err := fmt.Fprint(a.out, text); err != nil {
			return err
		}
	} else {
		file, err := os.OpenFile(f.out, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
		if errors.Is(err, fs.ErrExist) {
			return usage{fmt.Errorf("%s is there already; name another file", f.out)}
		} else if err != nil {
			return err
		}
		_, err = file.WriteString(text)
		if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
			return err
		}
	}
	at := cmp.Or(f.out, "the draft")
	if watched == 0 {
		return fmt.Errorf("no host was found that TLS is spoken for; %s of which that is not known stand in %s as comments", plural(doubted, "host"), at)
	}
	if f.out != "" {
		more := ""
		if doubted > 0 {
			more = fmt.Sprintf("; not watched, and as comments with why: %s", plural(doubted, "host"))
		}
		a.say("%s: %s on %s%s. Correct it, then: insegna serve --apply %[1]s\nWhere a service runs already: insegna estate apply %[1]s", f.out,
			plural(watched, "host"), plural(len(d.Servers), "server"), more)
	}
	return nil
}
