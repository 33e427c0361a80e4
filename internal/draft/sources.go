package draft

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/reach"
)

// Sources are where a draft is gathered, in words as people give them.
type Sources struct {
	Here           bool     // the servers of this machine, which is what is meant where nothing is named
	Mains          []string // main files of servers of this machine, in the place of all its servers
	Servers        []string // [USER@]HOST[:PORT]: the servers of a machine, over SSH
	Configurations []string // PATH[@ADDRESS,...]: a configuration that was copied here
	Zones          []string // zone files
	Transfers      []string // ZONE@SERVER[:PORT]
	Names          []string // files with a name a line; - for Input
	Certificates   []string // folders of certificates
	Ranges, Allow  []string // addresses to look through, and those that may be
	Key            string   // SSH: private key file; "" asks the agent
	KnownHosts     string   // SSH: file of known hosts; "" is one's own
	Origin         string   // zone of zone files without $ORIGIN
	Input          io.Reader
	// Agree is asked about the host key of a machine that is not known yet; an error ends it
	Agree func(Stranger) error
}

// Stranger is a machine that shows a host key nobody has agreed to yet.
type Stranger struct {
	Server  string // as it was named
	Address string // host:port
	Key     string // it shows, with its fingerprint
	File    string // it is kept in when somebody agrees
}

// SourceError says what is wrong with a source as it was named.
type SourceError struct{ Words string }

// Error is the words.
func (e *SourceError) Error() string { return e.Words }

// Any says whether anything is named.
func (s *Sources) Any() bool {
	return len(s.Servers)+len(s.Configurations)+len(s.Zones)+len(s.Transfers)+len(s.Names)+len(s.Ranges)+len(s.Certificates) > 0
}

// Gather brings in every source, servers first, so that what the others lead to is known.
func (d *Drafter) Gather(ctx context.Context, s *Sources) error {
	if s.Here || len(s.Mains) > 0 || !s.Any() {
		host, err := os.Hostname()
		if err != nil {
			host = "here"
		}
		mains := make([]string, len(s.Mains))
		for i := range s.Mains {
			if mains[i], err = filepath.Abs(s.Mains[i]); err != nil {
				return err
			}
		}
		if err := d.Here(ctx, host, mains...); err != nil {
			return err
		}
	}
	for _, text := range s.Servers {
		if err := d.over(ctx, s, text); err != nil {
			return err
		}
	}
	for _, text := range s.Configurations {
		path, addresses, err := atAddresses(text)
		if err != nil {
			return err
		}
		if err := d.Folder(path, addresses); err != nil {
			return err
		}
	}
	for _, file := range s.Zones {
		if err := d.Zone(file, s.Origin); err != nil {
			return err
		}
	}
	for _, text := range s.Transfers {
		zone, server, ok := strings.Cut(text, "@")
		if !ok || zone == "" || server == "" {
			return &SourceError{fmt.Sprintf("bad --transfer %q; expected ZONE@SERVER[:PORT]", text)}
		}
		if _, _, err := net.SplitHostPort(server); err != nil {
			server = net.JoinHostPort(server, "53")
		}
		if err := d.Transfer(ctx, zone, server); err != nil {
			return err
		}
	}
	for _, file := range s.Names {
		if err := d.namesIn(file, s.Input); err != nil {
			return err
		}
	}
	for _, dir := range s.Certificates {
		if err := d.Certificates(dir); err != nil {
			return err
		}
	}
	return d.ranges(ctx, s)
}

// namesIn reads a list of names.
func (d *Drafter) namesIn(file string, input io.Reader) error {
	if file == "-" {
		return d.Names(input, "standard input")
	}
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = in.Close() }()
	return d.Names(in, file)
}

// ranges looks through ranges.
func (d *Drafter) ranges(ctx context.Context, s *Sources) error {
	var allowed []netip.Prefix
	for _, text := range s.Allow {
		p, err := netip.ParsePrefix(text)
		if err != nil {
			return &SourceError{fmt.Sprintf("bad --allow %q; expected a range such as 192.0.2.0/24", text)}
		}
		allowed = append(allowed, p.Masked())
	}
	for _, text := range s.Ranges {
		r, err := netip.ParsePrefix(text)
		if err != nil {
			return &SourceError{fmt.Sprintf("bad --range %q; expected a range such as 192.0.2.0/28", text)}
		}
		if err := d.Range(ctx, r, allowed); err != nil {
			return err
		}
	}
	return nil
}

// atAddresses reads PATH@ADDRESS,....
func atAddresses(text string) (path string, list []netip.Addr, err error) {
	if _, err := os.Stat(text); err == nil {
		return text, nil, nil
	}
	path, rest, ok := strings.Cut(text, "@")
	if _, err := os.Stat(path); err != nil {
		return "", nil, err
	}
	for word := range strings.SplitSeq(rest, ",") {
		addr, err := netip.ParseAddr(word)
		if !ok || err != nil {
			return "", nil, &SourceError{fmt.Sprintf("bad --configuration %q; expected PATH@ADDRESS, with more addresses behind commas", text)}
		}
		list = append(list, addr)
	}
	return path, list, nil
}

// over reads a machine over SSH; a host key that is not known is asked about.
func (d *Drafter) over(ctx context.Context, s *Sources, text string) error {
	name, address, found := strings.Cut(text, "@")
	if !found {
		name, address = "", text
		if me, err := user.Current(); err == nil {
			name = me.Username
		}
	}
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		host, port = address, "22"
	}
	if n, err := strconv.ParseUint(port, 10, 16); err != nil || n == 0 || host == "" || name == "" {
		return &SourceError{fmt.Sprintf("bad --server %q; expected [USER@]HOST[:PORT]", text)}
	}
	way := &estate.Reach{By: "ssh", Address: net.JoinHostPort(host, port), User: name, Key: s.Key, KnownHosts: s.KnownHosts}
	for _, p := range []*string{&way.Key, &way.KnownHosts} {
		if *p != "" {
			if *p, err = filepath.Abs(*p); err != nil {
				return err
			}
		}
	}
	key, err := reach.ShownKey(ctx, sshOf(way))
	if err != nil {
		return err
	}
	if !key.Known && !key.Changed { // a changed one is refused, with the line, when it is dialled
		if s.Agree == nil {
			return errors.New("nobody is here to agree to the host key of " + way.Address)
		}
		if err := s.Agree(Stranger{text, way.Address, key.Seen, key.At}); err != nil {
			return err
		}
		if _, err := reach.Trust(ctx, sshOf(way), key.Seen); err != nil {
			return err
		}
	}
	short, _, _ := strings.Cut(host, ".")
	if _, err := netip.ParseAddr(host); err == nil {
		short = "at-" + strings.NewReplacer(".", "-", ":", "-").Replace(host)
	}
	return d.Over(ctx, way, short)
}

// rootFiles are where systems keep the roots of public CAs.
var rootFiles = []string{"/etc/ssl/certs/ca-certificates.crt", "/etc/pki/tls/certs/ca-bundle.crt", "/etc/ssl/cert.pem"}

// Trusted sees that there are roots visitors trust: those named, or this system's.
func (d *Drafter) Trusted() (err error) {
	for _, p := range rootFiles {
		if _, err := os.Stat(p); len(d.Roots) == 0 && err == nil {
			d.Roots, d.Public = []string{p}, true
		}
	}
	if len(d.Roots) == 0 {
		return errors.New("this system has no root certificates where they are looked for; name a file with those visitors trust: --roots FILE")
	}
	for i, p := range d.Roots { // the file may be written elsewhere
		if d.Roots[i], err = filepath.Abs(p); err != nil {
			return err
		}
		if _, err := os.Stat(d.Roots[i]); err != nil {
			return err
		}
	}
	return nil
}
