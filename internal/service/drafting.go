package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	core "insegna.example/internal/core/draft"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/draft"
)

// DraftRequest says where an estate is drafted from, on the service's machine.
type DraftRequest struct {
	draft.Sources
	Name     string   // of the estate; "" is the machine's
	Roots    []string // files of roots visitors trust; none for the system's
	Public   bool     // these are public CAs
	Ports    []uint16 // names and ranges are looked at; none for 443
	Zone     string   // text of a zone, beside the files
	List     []string // host names, beside the files
	HostKeys []string // that were agreed to, as a refusal has shown them
}

// Drafted is an estate file to correct.
type Drafted struct {
	Text             string
	Watched, Doubted int // hosts in it, and those that stand there as comments
	Servers          int
	New, Gone        []core.Change // against what is in force; nil where nothing is
}

// HostKeyError says that a machine shows a host key nobody has agreed to.
type HostKeyError struct{ draft.Stranger }

// Error shows the key.
func (e *HostKeyError) Error() string {
	return fmt.Sprintf("%s shows a host key that is not known yet: %s", e.Address, e.Key)
}

// Told implements fault.Error.
func (e *HostKeyError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "Unknown host key",
		Next: "compare it with what the machine itself tells (ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub), and send it along as agreed to"}
}

// DraftEstate drafts an estate file. Nothing is changed, but that host keys that were agreed to
// are kept.
func (s *Declaring) DraftEstate(ctx context.Context, r *DraftRequest) (*Drafted, error) {
	if !s.drafting.TryLock() {
		return nil, fault.New(fault.Busy, "Busy", "an estate is being drafted already", "try again when that is done")
	}
	defer s.drafting.Unlock()
	host, err := os.Hostname()
	if err != nil {
		host = "here"
	}
	d := &draft.Drafter{Draft: &core.Draft{Name: cmp.Or(r.Name, host), Roots: r.Roots, Public: r.Public}, Kinds: s.cfg.Kinds, Looker: s.cfg.Looker,
		Resolver: net.DefaultResolver, Ports: r.Ports}
	if len(d.Ports) == 0 {
		d.Ports = []uint16{443}
	}
	if err := d.Trusted(); err != nil {
		return nil, &RefusedError{err.Error(), "name them in the request"}
	}
	sources := r.Sources
	sources.Agree = func(m draft.Stranger) error {
		if slices.Contains(r.HostKeys, m.Key) {
			return nil
		}
		return &HostKeyError{m}
	}
	if r.Zone != "" {
		if strings.Contains(strings.ToUpper(r.Zone), "$INCLUDE") {
			return nil, &RefusedError{"the zone includes other files, which were not sent along", "draft it where they are: insegna estate draft --zone FILE"}
		}
		dir, err := os.MkdirTemp("", "insegna-zone-")
		if err != nil {
			return nil, err
		}
		defer func() { _ = os.RemoveAll(dir) }()
		file := filepath.Join(dir, "zone")
		if err := os.WriteFile(file, []byte(r.Zone), 0o600); err != nil {
			return nil, err
		}
		sources.Zones = append(slices.Clone(sources.Zones), file)
	}
	if len(r.List) > 0 {
		sources.Names = append(slices.Clone(sources.Names), "-")
		sources.Input = strings.NewReader(strings.Join(r.List, "\n"))
	}
	if err := d.Gather(ctx, &sources); err != nil {
		return nil, drafting(err)
	}
	if err := d.Finish(ctx); err != nil {
		return nil, drafting(err)
	}
	out := &Drafted{Text: d.Text(), Watched: len(d.Hosts(true)), Doubted: len(d.Hosts(false)), Servers: len(d.Servers)}
	if e, _, err := s.estateInForce(ctx); err == nil {
		for _, c := range d.Against(e) {
			if c.Is == "new" {
				out.New = append(out.New, c)
			} else {
				out.Gone = append(out.Gone, c)
			}
		}
	}
	return out, nil
}

// drafting tells what is wrong with a source; what else goes wrong is told as it is.
func drafting(err error) error {
	if told := fault.Of(err); told != nil || errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return &RefusedError{err.Error(), "correct the source, or leave it out"}
}
