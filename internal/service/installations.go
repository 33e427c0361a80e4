package service

import (
	"context"
	"crypto"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pmezard/go-difflib/difflib"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/install"
	"insegna.example/internal/issue"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/nginx"
	"insegna.example/internal/reach"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// InstallationView is one installation with its steps and what it changes.
type InstallationView struct {
	*store.Installation
	Edits    []kind.Edit
	Bindings []install.Binding
	Notes    []string // what else the reload takes in
	Steps    []store.InstallationStep
}

// Diff is what changes in one file, as a unified diff.
func Diff(e *kind.Edit) string {
	text, err := difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: slices.Collect(strings.Lines(e.Before)), B: slices.Collect(strings.Lines(e.After)), FromFile: e.Path, ToFile: e.Path, Context: 3})
	if err != nil {
		return err.Error()
	}
	return text
}

func viewInstallation(v *store.Installation) (*InstallationView, error) {
	out := &InstallationView{Installation: v}
	if v.Edits != "" {
		if err := json.Unmarshal([]byte(v.Edits), &out.Edits); err != nil {
			return nil, err
		}
	}
	if err := json.Unmarshal([]byte(v.Notes), &out.Notes); err != nil {
		return nil, err
	}
	return out, json.Unmarshal([]byte(v.Bindings), &out.Bindings)
}

// Installation gives one with its steps.
func (s *Service) Installation(ctx context.Context, id int64) (*InstallationView, error) {
	row, err := s.store.Installation(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnknownError{"installation", strconv.FormatInt(id, 10), "installation list"}
	} else if err != nil {
		return nil, err
	}
	v, err := viewInstallation(row)
	if err == nil {
		v.Steps, err = s.store.InstallationSteps(ctx, id)
	}
	return v, err
}

// Installations lists them, newest first, of one mandate or ("") of all.
func (s *Service) Installations(ctx context.Context, mandate string, before int64, limit int) ([]*InstallationView, error) {
	var id int64
	if mandate != "" {
		m, err := s.store.Mandate(ctx, mandate)
		if errors.Is(err, store.ErrNotFound) {
			return nil, &UnknownError{"mandate", mandate, "mandate list"}
		} else if err != nil {
			return nil, err
		}
		id = m.ID
	}
	rows, err := s.store.Installations(ctx, id, before, limit)
	if err != nil {
		return nil, err
	}
	list := make([]*InstallationView, len(rows))
	for i := range rows {
		if list[i], err = viewInstallation(&rows[i]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// PreviewInstallation works out what installing a mandate's certificate in
// force on a server changes, and changes nothing. server is empty when the
// mandate names just one.
func (s *Service) PreviewInstallation(ctx context.Context, mandate, server string) (*InstallationView, error) {
	m, err := s.Mandate(ctx, mandate)
	if err != nil {
		return nil, err
	}
	if m.InForce == nil {
		return nil, &RefusedError{"the mandate " + mandate + " has brought no certificate yet", "order it first: insegna mandate order " + mandate}
	}
	return s.previewOf(ctx, m, m.InForce, server)
}

// previewOf works out what installing what an order brought changes.
func (s *Service) previewOf(ctx context.Context, m *MandateView, order *store.Order, server string) (*InstallationView, error) {
	e, at, port, err := s.installedOn(ctx, m, server)
	if err != nil {
		return nil, err
	}
	machine, err := open(ctx, at.Reach)
	if err != nil {
		return nil, &RefusedError{err.Error(), "see the way to it: insegna server show " + at.Name}
	}
	defer func() { _ = machine.Close() }()
	p := &preview{s: s, estate: e, mandate: m, order: order, server: at, port: port, machine: machine, folder: path.Join(path.Dir(at.Reach.Configuration), "insegna", m.Name)}
	row, err := p.make(ctx)
	if err != nil {
		return nil, installTrouble(err)
	}
	if err := s.store.AddPreview(ctx, row); err != nil {
		return nil, err
	}
	return viewInstallation(row)
}

// installTrouble tells the caller why a server's configuration is not changed.
func installTrouble(err error) error {
	var refused *kind.EditError
	if errors.As(err, &refused) {
		return &RefusedError{refused.Error(), refused.Remedy}
	}
	if kind.Lost(err) {
		return &RefusedError{err.Error(), "see that the server can be reached, and try again"}
	}
	return err
}

// installedOn finds the server a mandate is to be installed on, in its estate,
// and the port it names.
func (s *Service) installedOn(ctx context.Context, m *MandateView, server string) (*estate.Estate, *estate.Server, uint16, error) {
	e, _, err := s.estateInForce(ctx)
	if err != nil {
		return nil, nil, 0, err
	}
	if server == "" {
		if len(m.Spec.Install) != 1 {
			return nil, nil, 0, &RefusedError{fmt.Sprintf("the mandate %s is installed on %d servers", m.Name, len(m.Spec.Install)), "name one: --server NAME; a mandate names them under install"}
		}
		server = m.Spec.Install[0]
	}
	port := uint64(0)
	for _, ref := range append([]string{server}, m.Spec.Install...) {
		if name, text, ok := strings.Cut(ref, ":"); ok && port == 0 && (name == server || ref == server) {
			server = name
			port, _ = strconv.ParseUint(text, 10, 16)
		}
	}
	at := e.Server(server)
	switch {
	case at == nil:
		return nil, nil, 0, &UnknownError{"server", server, "server list"}
	case at.Kind != "nginx":
		return nil, nil, 0, &RefusedError{fmt.Sprintf("%s is a server of the kind %s, and only nginx is installed on by itself", at.Name, at.Kind), "take certificate and key there by hand: insegna order certificate NUMBER"}
	case at.Reach == nil:
		return nil, nil, 0, &RefusedError{"there is no way to the server " + server, "declare reach for it in the estate file"}
	}
	return e, at, uint16(port), nil
}

// preview works out one installation.
type preview struct {
	s       *Service
	estate  *estate.Estate
	mandate *MandateView
	order   *store.Order // that brought the certificate
	server  *estate.Server
	port    uint16 // for https; 0 when the mandate names none
	machine reach.Connection
	folder  string
	leaf    *certs.Certificate
}

func (p *preview) make(ctx context.Context) (*store.Installation, error) {
	chain, err := certs.ReadCertificates(p.order.Chain)
	if err != nil || len(chain) == 0 {
		return nil, errors.New("the certificate cannot be read")
	}
	p.leaf = chain[0]
	fsys, main := p.machine.FS(), p.server.Reach.Configuration
	reading, err := nginx.Read(fsys, main)
	if err != nil {
		return nil, err
	}
	sites, err := p.sites(reading)
	if err != nil {
		return nil, err
	}
	var wanted []kind.Wanted
	for _, i := range sites {
		wanted = append(wanted, kind.Wanted{Site: reading.Sites[i].Place, Certificate: install.Certificate(p.folder), Key: install.Key(p.folder), Port: p.https(reading), Proofs: path.Join(p.folder, "proofs")})
	}
	edits, err := nginx.Edit(fsys, main, wanted)
	if err != nil {
		return nil, err
	}
	before, err := install.InUse(fsys, p.folder)
	if err != nil {
		return nil, err
	}
	row := &store.Installation{MandateID: p.mandate.ID, OrderID: p.order.ID, Rehearsal: p.order.Rehearsal, Server: p.server.Name, Folder: p.folder, Version: strconv.FormatInt(p.order.ID, 10), Before: before,
		Leaf: p.leaf.Fingerprint.String(), Test: p.server.Reach.Test, Reload: p.server.Reach.Reload, State: string(install.Previewed), By: actor(ctx), CreatedAt: time.Now().UTC(), Mandate: p.mandate.Mandate}
	bindings, notes := []install.Binding{}, []string{}
	if !row.Rehearsal {
		bindings = p.bindings(ctx, reading, sites)
	}
	if before == row.Version && len(edits) == 0 && !slices.ContainsFunc(bindings, func(d install.Binding) bool { return d.Before != row.Leaf }) {
		return nil, &RefusedError{fmt.Sprintf("the certificate of %s is installed on %s already, and visitors get it", p.mandate.Name, p.server.Name), "order anew: insegna mandate order " + p.mandate.Name}
	}
	if !row.Rehearsal {
		if notes, err = p.notes(ctx); err != nil {
			return nil, err
		}
	}
	for into, from := range map[*string]any{&row.Edits: edits, &row.Bindings: bindings, &row.Notes: notes} {
		text, err := json.Marshal(from)
		if err != nil {
			return nil, err
		}
		*into = string(text)
	}
	return row, nil
}

// sites finds the sites the certificate is for: those with TLS that have one
// of its names, and plain ones no other site with TLS has the names of.
func (p *preview) sites(r *kind.Reading) ([]int, error) {
	secured := map[int]bool{}
	for _, l := range r.Listeners {
		for _, i := range l.Sites {
			secured[i] = secured[i] || l.TLS
		}
	}
	var list []int
	met := map[string]bool{}
	for _, tls := range []bool{true, false} {
		for i := range r.Sites {
			site := &r.Sites[i]
			if secured[i] != tls || site.Family != "http" && !tls || !p.touches(site) || !tls && len(site.Plain) > 0 && site.Plain[0].Front.Handling == kind.Redirects {
				continue
			}
			if !tls && slices.ContainsFunc(site.Names, func(n kind.Name) bool { return met[n.Text] }) {
				continue
			}
			for _, n := range site.Names {
				met[n.Text] = true
				if n.Text == "" || n.Text == "_" || n.Matching == kind.Regex || n.Matching == kind.Trailing || n.Ignored {
					continue
				}
				if missing := p.uncovered(n.Text); missing != "" {
					return nil, &kind.EditError{Place: n.Place, Reason: fmt.Sprintf("the site is for %s as well, which the certificate does not list", missing), Remedy: "add it to the names of the mandate and order anew, or take it out of the site"}
				}
			}
			list = append(list, i)
		}
	}
	if len(list) == 0 {
		return nil, &kind.EditError{Place: kind.Place{File: r.Main, Line: 1}, Reason: fmt.Sprintf("no site of %s is for %s", p.server.Name, strings.Join(p.mandate.Spec.Names, ", ")), Remedy: "see its sites: insegna server sites " + p.server.Name}
	}
	return list, nil
}

// touches says whether a site has a name that the certificate lists.
func (p *preview) touches(site *kind.Site) bool {
	return slices.ContainsFunc(site.Names, func(n kind.Name) bool {
		return n.Matching != kind.Regex && n.Text != "" && !n.Ignored && p.uncovered(n.Text) == ""
	})
}

// uncovered gives what of a site's name the certificate does not list.
func (p *preview) uncovered(name string) string {
	if apex, ok := strings.CutPrefix(name, "."); ok {
		if missing := p.uncovered(apex); missing != "" {
			return missing
		}
		name = "*." + apex
	}
	if strings.HasPrefix(name, "*.") {
		if slices.ContainsFunc(p.leaf.DNSNames, func(n string) bool { return strings.EqualFold(n, name) }) {
			return ""
		}
		return name
	}
	host, err := names.Host(name)
	if err == nil && names.Covers(p.leaf, host).Covered {
		return ""
	}
	return name
}

// https chooses the port of sites that have none for TLS yet.
func (p *preview) https(r *kind.Reading) uint16 {
	const usual = 443
	if p.port != 0 {
		return p.port
	}
	for i := range p.estate.Hosts {
		if host := &p.estate.Hosts[i]; names.Covers(p.leaf, host.Name).Covered {
			for at := range p.estate.Endpoints(host) {
				if slices.Contains(p.server.Addresses, at.Addr()) {
					return at.Port() // where the estate wants it
				}
			}
		}
	}
	declared := func(port uint16) bool {
		return slices.ContainsFunc(p.server.Ports, func(r estate.PortRange) bool { return r.First <= port && port <= r.Last })
	}
	if len(p.server.Ports) == 0 || declared(usual) {
		return usual
	}
	for _, l := range r.Listeners {
		if l.TLS && declared(l.Address.Port()) {
			return l.Address.Port()
		}
	}
	return p.server.Ports[0].First
}

// takenIn are the findings about what lies on a server's disk and is not in
// use yet: any reload makes it real.
var takenIn = []string{"not-reloaded", "chain-missing-on-disk", "key-of-another-certificate"}

// notes says what else the reload takes in.
func (p *preview) notes(ctx context.Context) ([]string, error) {
	list := []string{}
	for _, code := range takenIn {
		open, _, err := p.s.store.Findings(ctx, store.FindingFilter{Code: code, State: "open", Server: p.server.Name}, store.Page{Sort: "severity", Limit: mostBindings})
		if err != nil {
			return nil, err
		}
		for i := range open {
			list = append(list, open[i].Host+": "+code+": "+open[i].Cause)
		}
	}
	return list, nil
}

// mostBindings bounds what is looked at after an installation.
const mostBindings = 40

// bindings are where the new certificate has to be seen: each host the sites and
// the certificate share, at each address TLS is or will be spoken at.
func (p *preview) bindings(ctx context.Context, r *kind.Reading, sites []int) []install.Binding {
	list := []install.Binding{}
	for _, i := range sites {
		var at []netip.AddrPort
		add := func(a netip.AddrPort) {
			if a.Addr().IsUnspecified() {
				for _, own := range p.server.Addresses {
					if own.Is4() == a.Addr().Is4() {
						at = append(at, netip.AddrPortFrom(own, a.Port()))
					}
				}
				return
			}
			at = append(at, a)
		}
		tls := false
		for _, l := range r.Listeners {
			if l.TLS && l.Socket == "" && l.Unknown == "" && slices.Contains(l.Sites, i) {
				tls = true
				add(l.Address)
			}
		}
		for _, l := range r.Listeners {
			if !tls && l.Socket == "" && l.Unknown == "" && slices.Contains(l.Sites, i) {
				add(netip.AddrPortFrom(l.Address.Addr(), p.https(r)))
			}
		}
		for _, n := range r.Sites[i].Names {
			host, err := names.Host(n.Text)
			if n.Matching != kind.Exact || n.Ignored || err != nil || p.uncovered(n.Text) != "" {
				continue
			}
			for _, a := range at {
				d := install.Binding{Host: host, At: a}
				if len(list) < mostBindings && !slices.ContainsFunc(list, func(o install.Binding) bool { return o.Host == d.Host && o.At == d.At }) {
					d.Before, _ = p.s.lookAtBinding(ctx, &d)
					list = append(list, d)
				}
			}
		}
	}
	return list
}

// lookAtBinding looks at a binding: the SHA-256 of the certificate shown, "" for none,
// and what was seen in words.
func (s *Service) lookAtBinding(ctx context.Context, d *install.Binding) (leaf, seen string) {
	o := s.cfg.Looker.Look(ctx, d.At, d.Host)
	if len(o.Served) == 0 {
		return "", strings.TrimSpace("no certificate: " + string(o.Outcome) + " " + o.Detail)
	}
	c, err := certs.Parse(o.Served[0])
	if err != nil {
		return "", "a certificate that cannot be read"
	}
	return c.Fingerprint.String(), fmt.Sprintf("%s until %s (%s)", c.CommonName(), c.NotAfter.UTC().Format("2 January 2006"), c.Fingerprint.String()[:12])
}

// BeginInstallation carries out what was previewed.
func (s *Service) BeginInstallation(ctx context.Context, id int64) (*InstallationView, error) {
	act := s.actOf(ctx, "installation.begin")
	err := s.store.BeginInstallation(ctx, id, actor(ctx), string(install.Staging), act, time.Now().UTC(), s.jobs.AddInstallation)
	if err != nil {
		return nil, err
	}
	return s.Installation(ctx, id)
}

// ReturnInstallation takes back what was installed.
func (s *Service) ReturnInstallation(ctx context.Context, id int64) (*InstallationView, error) {
	act := s.actOf(ctx, "installation.return")
	err := s.store.ReturnInstallation(ctx, id, string(install.Returning), "taken back by "+actor(ctx), act, time.Now().UTC(), s.jobs.AddInstallation)
	if err != nil {
		return nil, err
	}
	return s.Installation(ctx, id)
}

func (s *Service) actOf(ctx context.Context, action string) func(*store.Installation) *store.Act {
	return func(v *store.Installation) *store.Act {
		return &store.Act{Actor: actor(ctx), Action: action, Subject: strconv.FormatInt(v.ID, 10), Detail: map[string]any{"server": v.Server, "certificate": v.Leaf}}
	}
}

// runInstallation takes an installation as far as it goes.
func (s *Service) runInstallation(ctx context.Context, id int64) error {
	row, err := s.store.Installation(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && install.State(row.State).Ended() {
		return nil
	} else if err != nil {
		return err
	}
	v, err := viewInstallation(row)
	if err != nil {
		return err
	}
	order, err := s.store.Order(ctx, row.OrderID)
	if err != nil {
		return err
	}
	key, err := s.orderKey(order)
	if err != nil {
		return err
	}
	i := &install.Installation{ID: id, Rehearsal: row.Rehearsal, Folder: row.Folder, Version: row.Version, Before: row.Before, Chain: order.Chain, Key: key, Leaf: row.Leaf, Edits: v.Edits, Test: row.Test, Reload: row.Reload,
		Bindings: v.Bindings, State: install.State(row.State), Switched: row.Switched, Tries: row.Tries, Reason: row.Reason, Advice: row.Advice}
	records := &installationRecords{s, row}
	e, _, err := s.estateInForce(ctx)
	if err != nil {
		return err
	}
	server := e.Server(row.Server)
	if server == nil || server.Reach == nil {
		i.State, i.Reason, i.Advice = install.Stuck, "there is no way to the server "+row.Server+" any more", "declare reach for it in the estate file, and look at the server by hand"
		return records.Save(ctx, i, "way", install.Wrong, i.Reason)
	}
	i.Copy = path.Join(path.Dir(server.Reach.Configuration), ".insegna-"+row.Mandate.Name+".")
	m := &install.Installer{Records: records, Look: s.lookAtBinding}
	if m.Server, err = open(ctx, server.Reach); err != nil {
		m.Server = nowhere{err}
	}
	defer func() { _ = m.Server.Close() }()
	m.Copy = func(i *install.Installation, at string) (*install.Copy, error) {
		return copyOf(m.Server.FS(), server.Reach, i, at)
	}
	err = m.Run(ctx, i)
	var wait *install.WaitError
	if errors.As(err, &wait) {
		return &work.Later{At: wait.Until}
	}
	if err == nil && i.State == install.Returned && row.By == itself {
		s.plan(ctx, time.Now().Add(pace(order)))
	}
	if err == nil && !row.Rehearsal { // findings close and open by themselves
		if _, err := s.StartSurvey(ctx, store.Scope{Server: row.Server}); err != nil && ctx.Err() == nil {
			s.cfg.Log.Warn("no survey after an installation", "server", row.Server, "error", err)
		}
	}
	return err
}

// orderKey opens the private key of an order, as PEM.
func (s *Service) orderKey(o *store.Order) ([]byte, error) {
	der, err := s.safe.Decrypt(o.Encrypted, orderPurpose(o.ID))
	if err != nil {
		return nil, err
	}
	key, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return nil, errors.New("an order's key cannot be read")
	}
	return certs.KeyPEM(key.(crypto.Signer))
}

// installationRecords keep one installation in the store.
type installationRecords struct {
	s   *Service
	row *store.Installation
}

// Save implements install.Records.
func (r *installationRecords) Save(ctx context.Context, i *install.Installation, step string, outcome install.Outcome, words string) error {
	now := time.Now().UTC()
	r.row.State, r.row.Switched, r.row.Tries, r.row.Reason, r.row.Advice = string(i.State), i.Switched, i.Tries, i.Reason, i.Advice
	if i.State.Ended() {
		r.row.FinishedAt = &now
	}
	if step == "" {
		return r.s.store.SaveInstallation(ctx, r.row, nil)
	}
	return r.s.store.SaveInstallation(ctx, r.row, &store.InstallationStep{InstallationID: i.ID, Step: step, Outcome: string(outcome), Words: words, At: now})
}

// installAtOnce bounds how much is installed by itself in one go.
const installAtOnce = 50

// InstallDue installs what was renewed on the servers where a person had
// installed the mandate before. What would change a configuration is previewed
// and waits for a person.
func (s *Service) InstallDue(ctx context.Context) error { return s.installRenewed(ctx, 0) }

// installRenewed does that for one mandate, or (0) for all.
func (s *Service) installRenewed(ctx context.Context, mandate int64) error {
	list, err := s.store.Uninstalled(ctx, mandate, time.Now().UTC(), firstRetry, int(tries), installAtOnce)
	if err != nil {
		return err
	}
	var all []error
	for _, u := range list {
		if err := s.installOne(ctx, u); err != nil {
			all = append(all, fmt.Errorf("installing %s on %s: %w", u.Mandate, u.Server, err))
		}
	}
	return errors.Join(all...)
}

func (s *Service) installOne(ctx context.Context, u store.Uninstalled) error {
	v, err := s.PreviewInstallation(ctx, u.Mandate, u.Server)
	if err != nil {
		return err
	}
	if len(v.Edits) > 0 {
		return nil
	}
	if _, err = s.BeginInstallation(ctx, v.ID); errors.Is(err, store.ErrInstallationRunning) {
		return nil // the next look finds it
	}
	return err
}

// installIssued begins the installation of what an order brought, in earnest or in
// rehearsal.
func (s *Service) installIssued(ctx context.Context, state issue.State, row *store.Order) {
	if state != issue.Issued {
		return
	}
	if row.Rehearsal {
		s.rehearseInstallation(ctx, row)
		return
	}
	if v, err := ViewOrder(row); err == nil && len(v.Spec.Install) == 0 {
		return
	}
	if err := s.installRenewed(ctx, row.MandateID); err != nil && ctx.Err() == nil {
		s.cfg.Log.Warn("not installed; tried again in a minute", "error", err)
	}
}
