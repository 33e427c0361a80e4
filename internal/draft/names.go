package draft

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
)

// lead is a name with the addresses it leads to.
type lead struct {
	name, from string
	addresses  []netip.Addr
}

// Zone reads a zone file (RFC 1035 section 5), with what it includes from its own folder.
func (d *Drafter) Zone(file, origin string) error {
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	if info.IsDir() || info.Size() > linesLimit {
		return fmt.Errorf("%s is no zone file of at most %d MB", file, linesLimit>>20)
	}
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close() }()
	z := dns.NewZoneParser(io.LimitReader(f, linesLimit), dns.Fqdn(origin), filepath.Base(file))
	z.SetDefaultTTL(3600)
	z.SetIncludeAllowed(true)
	z.SetIncludeFS(os.DirFS(filepath.Dir(file)))
	r := &records{from: filepath.Base(file)}
	for rr, ok := z.Next(); ok; rr, ok = z.Next() {
		if _, top := rr.(*dns.SOA); top && rr.Header().Name == "." {
			return fmt.Errorf("%s does not say which zone it is; it has no $ORIGIN, so add --origin ZONE", file)
		}
		if err := r.add(rr); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
	}
	if err := z.Err(); err != nil {
		return err
	}
	d.zone(r)
	return nil
}

// transferLimit is how long a transfer of a zone may take.
const transferLimit = 2 * time.Minute

// Transfer asks a name server for all of a zone (RFC 5936).
func (d *Drafter) Transfer(ctx context.Context, zone, server string) error {
	m := new(dns.Msg)
	m.SetAxfr(dns.Fqdn(zone))
	t := &dns.Transfer{DialTimeout: resolveLimit, ReadTimeout: resolveLimit}
	ctx, cancel := context.WithTimeout(ctx, transferLimit)
	defer cancel()
	envelopes, err := t.In(m, server)
	if err != nil {
		return fmt.Errorf("%s does not hand over %s: %w", server, zone, err)
	}
	defer func() { t.Close() }()
	r := &records{from: zone + " at " + server}
	for {
		select {
		case <-ctx.Done():
			return fmt.Errorf("%s does not come to an end with %s: %w", server, zone, context.Cause(ctx))
		case e, more := <-envelopes:
			if !more {
				d.zone(r)
				return nil
			}
			if e.Error != nil {
				return fmt.Errorf("%s does not hand over %s: %w", server, zone, e.Error)
			}
			for _, rr := range e.RR {
				if err := r.add(rr); err != nil {
					return err
				}
			}
		}
	}
}

// records are what a zone says of addresses.
type records struct {
	from      string
	addresses map[string][]netip.Addr
	aliases   map[string]string
	order     []string
}

// add takes a record in.
func (r *records) add(rr dns.RR) error {
	if r.addresses == nil {
		r.addresses, r.aliases = map[string][]netip.Addr{}, map[string]string{}
	}
	name := strings.ToLower(strings.TrimSuffix(rr.Header().Name, "."))
	note := func() {
		if !slices.Contains(r.addresses[name], netip.Addr{}) && len(r.addresses[name]) == 0 && r.aliases[name] == "" {
			r.order = append(r.order, name)
		}
	}
	switch v := rr.(type) {
	case *dns.A:
		note()
		if a, ok := netip.AddrFromSlice(v.A.To4()); ok {
			r.addresses[name] = append(r.addresses[name], a)
		}
	case *dns.AAAA:
		note()
		if a, ok := netip.AddrFromSlice(v.AAAA.To16()); ok {
			r.addresses[name] = append(r.addresses[name], a.Unmap())
		}
	case *dns.CNAME:
		note()
		r.aliases[name] = strings.ToLower(strings.TrimSuffix(v.Target, "."))
	}
	if len(r.order) > namesMost {
		return fmt.Errorf("it holds more than %d names with addresses", namesMost)
	}
	return nil
}

// aliasesMost is how many aliases are followed one behind the other.
const aliasesMost = 8

// of gives where a name leads, through the aliases of the zone; outside says where these leave
// it.
func (r *records) of(name string) (list []netip.Addr, outside string) {
	for range aliasesMost {
		if list := r.addresses[name]; len(list) > 0 {
			return list, ""
		}
		next := r.aliases[name]
		if next == "" {
			return nil, name
		}
		name = next
	}
	return nil, name
}

// zone notes the hosts of a zone.
func (d *Drafter) zone(r *records) {
	for _, name := range r.order {
		if strings.HasPrefix(name, "*.") {
			d.Untold("%s: the wildcard %s", r.from, name)
			continue
		}
		host, err := names.Host(name)
		if err != nil || strings.HasPrefix(name, "_") {
			continue // no host: a service's or a person's record
		}
		list, outside := r.of(name)
		if len(list) == 0 && d.Resolver == nil {
			d.Doubt(host, nil, r.from, "it is an alias of "+outside+", which is not in the zone")
			continue
		}
		d.leads = append(d.leads, lead{host, r.from, list})
	}
}

// Names takes a list of names, one a line; what stands behind # does not count.
func (d *Drafter) Names(list io.Reader, from string) error {
	data, err := io.ReadAll(io.LimitReader(list, linesLimit+1))
	if err != nil {
		return err
	}
	if len(data) > linesLimit {
		return fmt.Errorf("%s holds more than %d MB", from, linesLimit>>20)
	}
	number := 0
	for lines := bufio.NewScanner(bytes.NewReader(data)); lines.Scan(); {
		number++
		text, _, _ := strings.Cut(lines.Text(), "#")
		for _, word := range strings.FieldsFunc(text, func(c rune) bool { return c == ' ' || c == '\t' || c == ',' || c == ';' }) {
			host, err := names.Host(word)
			if err != nil {
				return fmt.Errorf("%s:%d: %w; expected one host name a line", from, number, err)
			}
			d.leads = append(d.leads, lead{name: host, from: from})
			if len(d.leads) > namesMost {
				return fmt.Errorf("%s holds more than %d names", from, namesMost)
			}
		}
	}
	return nil
}

// certificatesMost bounds the files of a folder of certificates.
const certificatesMost = 20_000

// Certificates reads a folder of certificates: the names of each lead somewhere, perhaps.
func (d *Drafter) Certificates(folder string) error {
	files, held := 0, 0
	err := filepath.WalkDir(folder, func(p string, e os.DirEntry, err error) error {
		if err != nil || e.IsDir() || !e.Type().IsRegular() {
			return err
		}
		if files++; files > certificatesMost {
			return fmt.Errorf("%s holds more than %d files", folder, certificatesMost)
		}
		data, err := readAtMost(os.DirFS(filepath.Dir(p)), filepath.Base(p), 1<<20)
		if err != nil {
			d.Untold("%s cannot be read: %v", p, err)
			return nil
		}
		defer clear(data) // it may hold a key
		list, err := certs.ReadCertificates(data)
		if err != nil || len(list) == 0 || list[0].IsCA {
			return nil //nolint:nilerr // no certificate of a server
		}
		held++
		for _, name := range list[0].Names() {
			switch host, err := names.Host(name); {
			case strings.HasPrefix(name, "*."):
				d.Untold("%s: the wildcard %s", p, name)
			case err == nil:
				d.leads = append(d.leads, lead{name: host, from: p})
			}
		}
		return nil
	})
	if err == nil && held == 0 {
		err = fmt.Errorf("%s holds no certificate of a server among %d files", folder, files)
	}
	return err
}

// RangeError says that a range may not be looked through.
type RangeError struct{ Range netip.Prefix }

// Error says how it may.
func (e *RangeError) Error() string {
	return fmt.Sprintf("%s is not among the ranges you say are yours to look through; if it is, add --allow %[1]s", e.Range)
}

// Range looks at every address of a range for certificates. It has to be within one that is
// allowed.
func (d *Drafter) Range(ctx context.Context, r netip.Prefix, allowed []netip.Prefix) error {
	ports := d.Ports
	r = r.Masked()
	if !slices.ContainsFunc(allowed, func(a netip.Prefix) bool { return a.Bits() <= r.Bits() && a.Contains(r.Addr()) }) {
		return &RangeError{r}
	}
	if bits := r.Addr().BitLen() - r.Bits(); bits > 20 || (1<<bits)*len(ports) > looksMost {
		return fmt.Errorf("%s at %d ports is more than %d endpoints; divide it", r, len(ports), looksMost)
	}
	var list []netip.AddrPort
	for a := r.Addr(); r.Contains(a); a = a.Next() {
		for _, p := range ports {
			list = append(list, netip.AddrPortFrom(a, p))
		}
	}
	seen, err := d.look(ctx, "looking through "+r.String(), len(list), func(i int) (netip.AddrPort, string) { return list[i], "" })
	if err != nil {
		return err
	}
	for i, o := range seen {
		if o.Outcome != binding.Connected || len(o.Served) == 0 {
			continue
		}
		c, err := certs.Parse(o.Served[0])
		if err != nil {
			d.Untold("%s shows a certificate that cannot be read: %v", list[i], err)
			continue
		}
		s := d.Seen(list[i], "seen in "+r.String())
		for _, name := range c.Names() {
			switch host, err := names.Host(name); {
			case strings.HasPrefix(name, "*."):
				d.Untold("%s shows a certificate for the wildcard %s", list[i], name)
			case err == nil:
				d.Found(host, estate.Ref{Server: s.Name, Port: list[i].Port()}, "in the certificate at "+list[i].String())
			}
		}
	}
	return nil
}

// Finish asks where the names lead that no server was found for, and looks whether anybody
// answers there.
func (d *Drafter) Finish(ctx context.Context) error {
	leads := slices.DeleteFunc(d.leads, func(l lead) bool { return d.Watched(l.name) })
	d.leads = nil
	if err := d.resolve(ctx, leads); err != nil {
		return err
	}
	type open struct {
		*lead
		at netip.AddrPort
	}
	var list []open
	for i := range leads {
		l := &leads[i]
		for _, a := range l.addresses {
			if s := d.At(a, d.Ports[0]); s != nil && s.Kind != "" {
				d.Doubt(l.name, []estate.Ref{{Server: s.Name, Port: s.Ports[0]}}, l.from, fmt.Sprintf("it leads to %s (%s), where no site with TLS has its name", s.Name, a))
				continue
			}
			for _, port := range d.Ports {
				list = append(list, open{l, netip.AddrPortFrom(a, port)})
			}
		}
		if len(l.addresses) == 0 {
			d.Doubt(l.name, nil, l.from, "where it is served is not known")
		}
	}
	if len(list) > looksMost {
		return fmt.Errorf("these are %d endpoints; at most %d are looked at at once", len(list), looksMost)
	}
	seen, err := d.look(ctx, "looking at names", len(list), func(i int) (netip.AddrPort, string) { return list[i].at, list[i].name })
	if err != nil {
		return err
	}
	for i, o := range seen {
		l := list[i]
		switch o.Outcome {
		case binding.Connected, binding.Alert, binding.Malformed, binding.TooLarge, binding.Slow:
			d.Found(l.name, estate.Ref{Server: d.Seen(l.at, "answers at "+l.at.String()).Name, Port: l.at.Port()}, l.from)
		default:
			d.Doubt(l.name, nil, l.from, fmt.Sprintf("it leads to %s, which does not speak TLS: %s", l.at, said(o)))
		}
	}
	return nil
}

// said is what a look brought, in words.
func said(o *binding.Observation) string {
	if o.Detail != "" {
		return o.Detail
	}
	return string(o.Outcome)
}

// resolve asks for the addresses of names that came without.
func (d *Drafter) resolve(ctx context.Context, leads []lead) error {
	if d.Resolver == nil {
		return nil
	}
	var g errgroup.Group
	g.SetLimit(beside)
	done := d.counter("asking for addresses", len(leads))
	for i := range leads {
		l := &leads[i]
		if len(l.addresses) > 0 {
			continue
		}
		g.Go(func() error {
			defer done()
			inTime, cancel := context.WithTimeout(ctx, resolveLimit)
			defer cancel()
			list, err := d.Resolver.LookupNetIP(inTime, "ip", l.name)
			var no *net.DNSError
			if err != nil && (!errors.As(err, &no) || ctx.Err() != nil) {
				return ctx.Err()
			}
			for _, a := range list {
				l.addresses = append(l.addresses, a.Unmap().WithZone(""))
			}
			return nil
		})
	}
	return g.Wait()
}

// look looks at endpoints side by side, a few at each address.
func (d *Drafter) look(ctx context.Context, what string, n int, at func(i int) (netip.AddrPort, string)) ([]*binding.Observation, error) {
	out := make([]*binding.Observation, n)
	var mu sync.Mutex
	gates := map[netip.Addr]*semaphore.Weighted{}
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(looksBeside)
	done := d.counter(what, n)
	for i := range n {
		g.Go(func() error {
			defer done()
			endpoint, host := at(i)
			mu.Lock()
			gate := gates[endpoint.Addr()]
			if gate == nil {
				gate = semaphore.NewWeighted(looksPerAddr)
				gates[endpoint.Addr()] = gate
			}
			mu.Unlock()
			if err := gate.Acquire(ctx, 1); err != nil {
				return err
			}
			defer gate.Release(1)
			out[i] = d.Looker.Look(ctx, endpoint, host)
			return ctx.Err()
		})
	}
	return out, g.Wait()
}

// counter tells how far work is.
func (d *Drafter) counter(what string, of int) func() {
	var mu sync.Mutex
	n := 0
	return func() {
		mu.Lock()
		defer mu.Unlock()
		if n++; d.Told != nil {
			d.Told(what, n, of)
		}
	}
}
