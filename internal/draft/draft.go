// Package draft finds what an estate consists of: on machines, in folders, zones, lists and
// ranges of addresses. What it finds it notes in a draft (core/draft), with where it was found.
//
// It reads and looks, and changes nothing. Everything is bounded: sizes, numbers, times.
package draft

import (
	"context"
	"fmt"
	"io/fs"
	"net"
	"net/netip"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/draft"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/kind"
	"insegna.example/internal/look"
	"insegna.example/internal/reach"
)

// Drafter gathers a draft. Its methods are not for concurrent use.
type Drafter struct {
	*draft.Draft
	Kinds    kind.Registry
	Looker   *look.Looker
	Resolver *net.Resolver                   // of names that come without addresses; nil asks nobody
	Ports    []uint16                        // that names and ranges are looked at
	Told     func(what string, done, of int) // how far long work is; nil for nobody

	leads []lead // names with addresses, to be looked at in the end
}

// Limits.
const (
	processesMost = 20_000          // of a machine that are looked through
	beside        = 16              // files read, and names asked for, at once
	machineLimit  = 2 * time.Minute // for reading one machine
	resolveLimit  = 5 * time.Second // for one name
	namesMost     = 200_000         // of one source
	linesLimit    = 48 << 20        // bytes of a list or zone
	looksBeside   = 64              // looks at once
	looksPerAddr  = 4               // of them at one address
	looksMost     = 1 << 17         // in all
)

// Here reads the servers of this machine: those with these main files, or all where none is
// named.
func (d *Drafter) Here(ctx context.Context, name string, mains ...string) error {
	list, err := net.InterfaceAddrs()
	if err != nil {
		return err
	}
	var own []netip.Addr
	for _, a := range list {
		if p, err := netip.ParsePrefix(a.String()); err == nil {
			own = append(own, p.Addr())
		}
	}
	found, err := d.machine(ctx, reach.Local(), name, &estate.Reach{By: "local"}, draft.Own(own), mains)
	if err == nil && found == 0 {
		err = &NothingError{"on this machine", d.usualMains()}
	}
	return err
}

// Over reads the servers of a machine over SSH. Errors of reach tell why it cannot be
// reached.
func (d *Drafter) Over(ctx context.Context, way *estate.Reach, name string) error {
	over, err := reach.Dial(ctx, sshOf(way))
	if err != nil {
		return err
	}
	defer func() { _ = over.Close() }()
	at, err := netip.ParseAddrPort(way.Address)
	if err != nil {
		host, _, _ := net.SplitHostPort(way.Address)
		list, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
		if err != nil {
			return err
		}
		at = netip.AddrPortFrom(list[0].Unmap(), 0)
	}
	found, err := d.machine(ctx, over, name, way, []netip.Addr{at.Addr()}, nil)
	if err == nil && found == 0 {
		err = &NothingError{"on " + way.Address, d.usualMains()}
	}
	return err
}

func sshOf(way *estate.Reach) reach.SSH {
	return reach.SSH{Address: way.Address, User: way.User, Key: way.Key, KnownHosts: way.KnownHosts}
}

// NothingError says that no server was found.
type NothingError struct {
	Where string
	Mains []string // that were looked for
}

// Error names what was looked for.
func (e *NothingError) Error() string {
	return fmt.Sprintf("no server was found %s: none runs whose configuration can be read, and nothing lies at %s; where it "+
		"lies elsewhere on this machine, name it: --main FILE", e.Where, strings.Join(e.Mains, ", "))
}

// usualMains are the usual main files of all kinds.
func (d *Drafter) usualMains() (out []string) {
	for _, k := range d.Kinds {
		out = append(out, k.Places()...)
	}
	return out
}

// candidate is a configuration that may be read.
type candidate struct {
	kind     *kind.Kind
	main     string
	commands map[string]string
	untold   string // what of it a person has to write
	runs     bool
}

// machine reads the servers of a machine: those that run, and those at their usual places, or
// those with certain main files. It gives how many there are.
func (d *Drafter) machine(ctx context.Context, over reach.Connection, name string, way *estate.Reach, own []netip.Addr, mains []string) (int, error) {
	ctx, cancel := context.WithTimeout(ctx, machineLimit)
	defer cancel()
	list, err := d.candidates(ctx, over.FS())
	if err != nil {
		return 0, err
	}
	if len(mains) > 0 {
		if list, err = d.only(list, mains); err != nil {
			return 0, err
		}
	}
	found := 0
	for _, c := range list {
		if ctx.Err() != nil {
			return found, fmt.Errorf("%s takes longer than %s to read", name, machineLimit)
		}
		r, err := c.kind.Reader.Read(over.FS(), c.main)
		if err != nil {
			return found, err
		}
		if len(r.Files) == 0 {
			d.Untold("%s: %s cannot be read: %s", name, c.main, r.Problems[0].Message)
			continue
		}
		found++
		if !c.runs && len(mains) == 0 && !slices.ContainsFunc(r.Listeners, func(l kind.Listener) bool { return l.TLS }) {
			d.Untold("%s: %s does not run, and no site in %s speaks TLS: it is left out", name, c.kind.Title, c.main)
			continue
		}
		called := c.called(name, len(list) > 1)
		reached := *way
		reached.Configuration, reached.Commands = c.main, c.commands
		d.configured(called, c.kind, r, &reached, own)
		if !c.runs {
			d.Untold("%s: %s was not seen to run; its configuration is read from %s", called, c.kind.Title, c.main)
		}
		if c.untold != "" {
			d.Untold("%s: %s", called, c.untold)
		}
	}
	return found, nil
}

// only picks those with certain main files; one that no server runs with tells its kind by its
// name.
func (d *Drafter) only(list []candidate, mains []string) (out []candidate, err error) {
	for _, main := range mains {
		if i := slices.IndexFunc(list, func(c candidate) bool { return c.main == main }); i >= 0 {
			out = append(out, list[i])
			continue
		}
		named := slices.IndexFunc(d.Kinds, func(k *kind.Kind) bool {
			return slices.ContainsFunc(k.Places(), func(usual string) bool { return path.Base(usual) == path.Base(main) })
		})
		if named < 0 {
			return nil, fmt.Errorf("%s is not called as the main file of a server is, and none runs with it; expected a name as of one of %s", main,
				strings.Join(d.usualMains(), ", "))
		}
		out = append(out, candidate{kind: d.Kinds[named], main: main})
	}
	return out, nil
}

// called gives a server a name: its machine's where it is the only one there, else that of the
// folder of its own.
func (c *candidate) called(machine string, several bool) string {
	folder := path.Base(path.Dir(c.main))
	switch {
	case !several:
		return machine
	case c.main == c.kind.Declared.Main || path.Dir(c.main) == "/" || slices.Contains([]string{"conf", "etc", "config", c.kind.Name()}, folder):
		return machine + "-" + c.kind.Name()
	}
	return folder
}

// candidates are the configurations of a machine's servers, each once.
func (d *Drafter) candidates(ctx context.Context, fsys fs.FS) (list []candidate, err error) {
	running, err := d.processes(ctx, fsys)
	if err != nil {
		return nil, err
	}
	add := func(c candidate) {
		if !slices.ContainsFunc(list, func(o candidate) bool { return o.kind == c.kind && o.main == c.main }) {
			list = append(list, c)
		}
	}
	for _, k := range d.Kinds {
		if k.Reader == nil {
			continue
		}
		for _, words := range running {
			if k.Running == nil {
				break
			}
			if r := k.Running(words); r != nil {
				add(candidate{k, r.Main, r.Commands, r.Untold, true})
			}
		}
		for _, main := range k.Places() {
			if _, err := fs.Stat(fsys, strings.TrimPrefix(main, "/")); err == nil {
				add(candidate{k, main, nil, "", false})
			} else if kind.Lost(err) {
				return nil, err
			}
		}
	}
	return list, nil
}

// wordsLimit bounds the command line of a process that is read, in bytes.
const wordsLimit = 64 << 10

// processes gives the words that the processes of a machine were started with, where its /proc
// tells. Those of other users than root and oneself are left out, who could call their own
// whatever they like, and so are those in containers, whose files are not the machine's.
func (d *Drafter) processes(ctx context.Context, fsys fs.FS) (out [][]string, err error) {
	entries, err := fs.ReadDir(fsys, "proc")
	if kind.Lost(err) {
		return nil, err
	} else if err != nil {
		return nil, nil //nolint:nilerr // it tells nothing
	}
	own, _ := fs.ReadLink(fsys, "proc/self/ns/mnt")
	me := -1
	if info, err := fs.Stat(fsys, "proc/self"); err == nil {
		if o, known := reach.OwnerOf(info); known {
			me = o.UID
		}
	}
	var pids []string
	for _, e := range entries {
		if strings.Trim(e.Name(), "0123456789") == "" && len(pids) < processesMost {
			pids = append(pids, e.Name())
		}
	}
	slices.SortFunc(pids, func(a, b string) int { return len(a)*1_000_000 - len(b)*1_000_000 + strings.Compare(a, b) })
	words := make([][]string, len(pids))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(beside)
	for i, pid := range pids {
		g.Go(func() error {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			info, err := fs.Stat(fsys, "proc/"+pid)
			if kind.Lost(err) {
				return err
			} else if err != nil {
				return nil //nolint:nilerr // it has ended
			}
			if o, known := reach.OwnerOf(info); !known || o.UID != 0 && o.UID != me {
				return nil
			}
			data, err := readAtMost(fsys, "proc/"+pid+"/cmdline", wordsLimit)
			if kind.Lost(err) {
				return err
			} else if err != nil || len(data) == 0 {
				return nil //nolint:nilerr // it has ended, or is none of ours
			}
			if at, err := fs.ReadLink(fsys, "proc/"+pid+"/ns/mnt"); err == nil && own != "" && at != own {
				return nil
			}
			words[i] = strings.Split(strings.TrimRight(string(data), "\x00"), "\x00")
			return nil
		})
	}
	err = g.Wait()
	return slices.DeleteFunc(words, func(w []string) bool { return len(w) == 0 }), err
}

// configured takes a server in as its configuration has it.
func (d *Drafter) configured(name string, k *kind.Kind, r *kind.Reading, way *estate.Reach, own []netip.Addr) {
	list := d.servers(name, k, r, way, own)
	refs := func(l *kind.Listener) (out []estate.Ref) {
		port := l.Address.Port()
		for _, s := range d.Servers {
			if slices.Contains(s.Ports, port) && slices.ContainsFunc(s.Addresses, func(a netip.Addr) bool {
				return a == l.Address.Addr().Unmap() || slices.Contains(own, a) && l.Takes(netip.AddrPortFrom(a, port))
			}) {
				out = append(out, estate.Ref{Server: s.Name, Port: port})
			}
		}
		return out
	}
	secured, plain := map[int][]*kind.Listener{}, map[int]*kind.Listener{}
	for i := range r.Listeners {
		l := &r.Listeners[i]
		for _, site := range l.Sites {
			if !l.TLS {
				plain[site] = l
			} else if l.Network() {
				secured[site] = append(secured[site], l)
			}
		}
	}
	for i := range r.Sites {
		site := &r.Sites[i]
		hosts, wildcards, others := namesOf(site)
		for _, other := range others {
			d.Untold("%s: the name %q, which hosts it is for", site.Place, other)
		}
		for _, l := range secured[i] {
			for _, ref := range refs(l) {
				for _, name := range wildcards {
					d.Wildcard(name, ref, site.Place.String())
				}
			}
		}
		for _, host := range hosts {
			from := host.place.String()
			for _, l := range secured[i] {
				for _, ref := range refs(l) {
					d.Found(host.name, ref, from)
				}
			}
			if l := plain[i]; len(secured[i]) == 0 && l != nil {
				d.Doubt(host.name, perhaps(list), from, "its site speaks plain http alone, at "+l.String())
			}
		}
	}
	for i := range r.Idle {
		hosts, _, _ := namesOf(&r.Idle[i])
		for _, host := range hosts {
			d.Doubt(host.name, perhaps(list), host.place.String(), "its site is written and not switched on")
		}
	}
	for i := range r.Problems {
		if p := &r.Problems[i]; p.Effect != kind.Suspect {
			d.Untold("%s: %s", p.Place, p.Message)
		}
	}
}

// perhaps is where a host would be that is at none of the server's listeners with TLS.
func perhaps(list []*draft.Server) []estate.Ref {
	if len(list) == 0 {
		return nil
	}
	return []estate.Ref{{Server: list[0].Name, Port: list[0].Ports[0]}}
}

// servers takes in what listens with TLS: one server for all addresses with the same ports.
func (d *Drafter) servers(name string, k *kind.Kind, r *kind.Reading, way *estate.Reach, own []netip.Addr) (out []*draft.Server) {
	ports := map[netip.Addr][]uint16{}
	add := func(a netip.Addr, port uint16) {
		if !slices.Contains(ports[a], port) {
			ports[a] = append(ports[a], port)
		}
	}
	unknown := map[string]bool{}
	for i := range r.Listeners {
		l := &r.Listeners[i]
		switch {
		case !l.TLS:
		case !l.Network(), l.Address.Addr().IsLinkLocalUnicast(), l.Address.Addr().IsMulticast(), l.Address.Port() == 0:
			unknown[l.String()] = true
		case l.Address.Addr().IsUnspecified():
			for _, a := range own {
				if l.Takes(netip.AddrPortFrom(a, l.Address.Port())) {
					add(a, l.Address.Port())
				}
			}
		default:
			add(l.Address.Addr().Unmap(), l.Address.Port())
		}
	}
	for text := range unknown {
		d.Untold("%s: a listener at %s, which is no address and port others can reach", name, text)
	}
	for a := range ports { // beside one that others reach, what is for the machine itself is not for visitors
		if a.IsLoopback() && slices.ContainsFunc(keysOf(ports), func(o netip.Addr) bool { return !o.IsLoopback() }) {
			d.Untold("%s: TLS at %s is for the machine itself alone", name, a)
			delete(ports, a)
		}
	}
	usual := &estate.Reach{Configuration: k.Declared.Main, Commands: map[string]string{}}
	main := k.Declared.Main
	if way != nil {
		main = way.Configuration
	}
	var keys []string
	for _, c := range k.Declared.Commands {
		usual.Commands[c.Key] = c.Usual(main)
		keys = append(keys, c.Key)
	}
	secured := len(ports) > 0
	addresses := keysOf(ports)
	slices.SortFunc(addresses, netip.Addr.Compare)
	if len(addresses) == 0 { // plain http alone: where it would speak TLS
		addresses = own
		for _, a := range own {
			ports[a] = []uint16{443}
			if d.At(a, 443) != nil {
				ports[a] = []uint16{plainPort(r)}
			}
		}
		d.Untold("%s: no site in %s speaks TLS", name, r.Main)
	}
	for _, a := range addresses {
		slices.Sort(ports[a])
		if i := slices.IndexFunc(out, func(s *draft.Server) bool { return slices.Equal(s.Ports, ports[a]) }); i >= 0 {
			out[i].Addresses = append(out[i].Addresses, a)
			continue
		}
		out = append(out, &draft.Server{Name: name, Kind: k.Name(), Addresses: []netip.Addr{a}, Ports: ports[a], Reach: way, Usual: usual, Commands: keys,
			Plain: !secured, From: r.Main})
	}
	slices.SortStableFunc(out, func(a, b *draft.Server) int { return len(b.Addresses) - len(a.Addresses) })
	return slices.DeleteFunc(out, func(s *draft.Server) bool { return !d.Add(s) })
}

// plainPort is a port that plain http is spoken at.
func plainPort(r *kind.Reading) uint16 {
	for i := range r.Listeners {
		if l := &r.Listeners[i]; l.Network() && l.Protocol == kind.HTTP {
			return l.Address.Port()
		}
	}
	return 80 //nolint:mnd // the usual one
}

func keysOf(m map[netip.Addr][]uint16) (out []netip.Addr) {
	for a := range m {
		out = append(out, a)
	}
	return out
}

// placed is a host name and where it stands.
type placed struct {
	name  string
	place kind.Place
}

// namesOf are the hosts a site has names for, its wildcards, and what else it answers to.
func namesOf(s *kind.Site) (hosts []placed, wildcards, others []string) {
	for i := range s.Names {
		n := &s.Names[i]
		if n.Ignored {
			continue
		}
		exact := false
		for _, name := range n.Covers {
			if host, err := names.Host(name); err == nil && !strings.HasPrefix(name, "*") {
				exact = true
				hosts = append(hosts, placed{host, n.Place})
			} else if strings.HasPrefix(name, "*") {
				exact = true
				wildcards = append(wildcards, strings.ToLower(name))
			}
		}
		if !exact && n.Text != "" && n.Text != "_" {
			others = append(others, n.Text)
		}
	}
	return hosts, wildcards, others
}

// places are the usual main files of all kinds.
func (d *Drafter) places() (out []candidate) {
	for _, k := range d.Kinds {
		for _, main := range k.Places() {
			out = append(out, candidate{kind: k, main: main})
		}
	}
	return out
}

// Folder reads a configuration that was copied from a server: a folder that stands for the
// server's root or for the folder of its main file, or the main file. addresses are the
// server's, for what listens at all of them.
func (d *Drafter) Folder(at string, addresses []netip.Addr) error {
	for _, p := range d.places() {
		k := p.kind
		fsys, main := mounted(at, p.main)
		if fsys == nil {
			continue
		}
		r, err := k.Reader.Read(fsys, main)
		if err != nil {
			return err
		}
		if len(r.Files) == 0 {
			return fmt.Errorf("%s cannot be read: %s", at, r.Problems[0].Message)
		}
		wide := slices.ContainsFunc(r.Listeners, func(l kind.Listener) bool { return l.TLS && l.Network() && l.Address.Addr().IsUnspecified() })
		if wide && len(addresses) == 0 {
			return fmt.Errorf("%s listens at all addresses of its server, which a copy does not tell; name them: --configuration %s@ADDRESS", at, at)
		}
		d.configured(filepath.Base(strings.TrimSuffix(at, "/")), k, r, nil, addresses)
		return nil
	}
	return fmt.Errorf("%s holds no main file of a server; expected one of %s, or the folder it lies in", at, strings.Join(d.usualMains(), ", "))
}
