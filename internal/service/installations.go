package service

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/aymanbagabas/go-udiff"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/veil"
	"insegna.example/internal/install"
	"insegna.example/internal/issue"
	"insegna.example/internal/kind"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// Installing is the room of installations: previews, what carries them out, and
// what is installed by itself.
type Installing struct {
	base
	declaring *Declaring // knows the way to a server
	surveying *Surveying // looks after an installation
	ordering  *Ordering  // has the certificate and its key
	jobs      *work.Jobs // carry an installation on
}

// InstallationView is one installation with its steps and what it changes.
type InstallationView struct {
	*store.Installation
	Plan  install.Plan             // without the files in lists
	Steps []store.InstallationStep // in order
}

// Diff is what changes in one file, as a unified diff without secrets. A certificate
// is one line that says what it is.
func Diff(f *install.File) string {
	return udiff.Unified(f.Path, f.Path, certs.Said(veil.Text(f.Before, registry.Kinds.Plain)),
		certs.Said(veil.Text(f.After, registry.Kinds.Plain)))
}

// viewInstallation reads the plan as its destination made it; one that was
// cleared away, or is left out as in lists, is empty.
func (s *Installing) viewInstallation(v *store.Installation) (*InstallationView, error) {
	plan, err := openPlan(s.ordering.safe, v.Server, v.Plan)
	if err != nil {
		return nil, fmt.Errorf("the plan of installation %d cannot be read: %w", v.ID, err)
	}
	return &InstallationView{Installation: v, Plan: plan}, nil
}

// Installation gives one with its steps.
func (s *Installing) Installation(ctx context.Context, id int64) (*InstallationView, error) {
	row, err := s.store.Installation(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnknownError{"installation", strconv.FormatInt(id, 10), "installation list"}
	} else if err != nil {
		return nil, err
	}
	v, err := s.viewInstallation(row)
	if err == nil {
		v.Steps, err = s.store.InstallationSteps(ctx, id)
	}
	return v, err
}

// Installations lists them, newest first, of one mandate or ("") of all.
func (s *Installing) Installations(ctx context.Context, mandate string, before int64,
	limit int) ([]*InstallationView, error) {
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
		if list[i], err = s.viewInstallation(&rows[i]); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// PreviewInstallation works out what installing a mandate's certificate in
// force on a server changes, and changes nothing. server is empty when the
// mandate names just one; also are others who may get something else by it.
func (s *Installing) PreviewInstallation(ctx context.Context, mandate, server string,
	also []string) (*InstallationView, error) {
	m, err := s.ordering.Mandate(ctx, mandate)
	if err != nil {
		return nil, err
	}
	if m.InForce == nil {
		return nil, &RefusedError{"the mandate " + mandate + " has brought no certificate yet",
			"order it first: insegna mandate order " + mandate}
	}
	return s.previewOf(ctx, m, m.InForce, server, also)
}

// previewOf works out what installing what an order brought changes.
func (s *Installing) previewOf(ctx context.Context, m *MandateView, order *store.Order,
	server string, also []string) (*InstallationView, error) {
	e, at, port, err := s.installedOn(ctx, m, server)
	if err != nil {
		return nil, err
	}
	over, err := open(ctx, at.Reach)
	if err != nil {
		return nil, &RefusedError{err.Error(), "see the way to it: insegna server show " + at.Name}
	}
	defer func() { _ = over.Close() }()
	if on := order.Spec.KeyOn; on != "" && on != at.Name {
		return nil, &RefusedError{fmt.Sprintf("the key of order %d was made on %s and is kept there alone", order.ID, on),
			fmt.Sprintf("order a certificate for %s with a mandate of its own", at.Name)}
	}
	chain, err := certs.ReadCertificates(order.Chain)
	if err != nil || len(chain) == 0 {
		return nil, errors.New("the certificate cannot be read")
	}
	wish := s.wishFor(e, m, at, port, chain[0])
	wish.Rehearsal, wish.Version, wish.Agreed = order.Rehearsal, strconv.FormatInt(order.ID, 10), also
	wish.Staple, wish.KeyThere = s.stapleOf(chain), order.Spec.KeyOn != ""
	planned, err := s.cfg.Kinds.Of(at.Kind).Installs(over, at).Plan(ctx, wish)
	if err != nil {
		return nil, installTrouble(err)
	}
	if !order.Rehearsal { // a test directory's CA is trusted by nobody, and nothing of it stays
		if err := s.frontsTake(ctx, e, at, chain, planned.Bindings); err != nil {
			return nil, err
		}
	}
	row, err := s.previewRow(ctx, m, order, at, planned, chain[0].Fingerprint.String())
	if err != nil {
		return nil, err
	}
	if err := s.store.AddPreview(ctx, row); err != nil {
		return nil, err
	}
	return s.viewInstallation(row)
}

// ready tries everything of installing a mandate on a server that needs no
// certificate of its CA yet. The error, a *RefusedError, says what is in the way.
func (s *Installing) ready(ctx context.Context, m *MandateView, server string, also []string) error {
	e, at, port, err := s.installedOn(ctx, m, server)
	if err != nil {
		return err
	}
	over, err := open(ctx, at.Reach)
	if err != nil {
		return &RefusedError{err.Error(), "see the way to it: insegna server show " + at.Name}
	}
	defer func() { _ = over.Close() }()
	if err := s.ordering.canMakeKey(ctx, m.Spec); err != nil {
		var f *issue.Failure
		if errors.As(err, &f) {
			return &RefusedError{f.Words, f.Advice}
		}
		return err
	}
	wish := s.wishFor(e, m, at, port, nil)
	wish.Agreed = also
	err = install.Trial(ctx, s.cfg.Kinds.Of(at.Kind).Installs(over, at), wish)
	var fault *install.FaultError
	var lost interface{ Lost() bool }
	switch {
	case err == nil || ctx.Err() != nil:
		return err
	case errors.As(err, &fault):
		return &RefusedError{at.Name + ": " + fault.Words, cmp.Or(fault.Advice, "look at the server, and try again")}
	case errors.As(err, &lost), errors.Is(err, fs.ErrPermission), errors.As(err, new(*fs.PathError)):
		return &RefusedError{at.Name + ": " + err.Error(), "see that the server can be reached and written to, and try again"}
	}
	return installTrouble(err)
}

// readyEverywhere is ready for every server a mandate is installed on from here.
func (s *Installing) readyEverywhere(ctx context.Context, m *MandateView) error {
	for _, server := range m.Spec.Servers() {
		_, _, _, err := s.installedOn(ctx, m, server)
		var refused *RefusedError
		if errors.As(err, &refused) {
			continue // a person takes it there
		}
		if err == nil {
			err = s.ready(ctx, m, server, nil)
		}
		if errors.As(err, &refused) {
			return &RefusedError{"nothing was ordered, since it could not be installed: " + refused.Reason, refused.Next +
				"; or order all the same: insegna mandate order " + m.Name + " --anyway"}
		} else if err != nil {
			return err
		}
	}
	return nil
}

// readyOn is ready for the servers a mandate was installed on before.
func (s *Installing) readyOn(ctx context.Context, m *MandateView, servers []string) error {
	for _, server := range servers {
		err := s.ready(ctx, m, server, nil)
		var refused *RefusedError
		if errors.As(err, &refused) {
			return &RefusedError{"it could not be installed: " + refused.Reason, refused.Next}
		} else if err != nil {
			return err
		}
	}
	return nil
}

// OrderInstallable begins an order of a mandate once every local means is known
// to be good: the servers it is installed on are read, can be written to, take a
// configuration with it, and have a site for it. A rehearsal tries that by itself;
// anyway orders without having tried.
func (s *Installing) OrderInstallable(ctx context.Context, mandate string, rehearsal, anyway bool) (*store.Order,
	error) {
	m, err := s.ordering.Mandate(ctx, mandate)
	if err != nil {
		return nil, err
	}
	if !rehearsal && !anyway {
		if err := s.readyEverywhere(ctx, m); err != nil {
			return nil, err
		}
	}
	return s.ordering.BeginOrder(ctx, mandate, rehearsal)
}

// wishFor says what a destination is to plan for; the certificate may not be
// there yet.
func (s *Installing) wishFor(e *estate.Estate, m *MandateView, at *estate.Server, port uint16,
	leaf *certs.Certificate) *install.Wish {
	w := &install.Wish{Mandate: m.Name, Server: at.Name, Names: m.Spec.Names, Leaf: leaf, Port: port,
		Addresses: at.Addresses, Listener: m.Spec.Proof.At}
	for i := range e.Hosts {
		host := &e.Hosts[i]
		if w.Port != 0 || !m.Spec.Lists(host.Name) {
			continue
		}
		for endpoint := range e.Endpoints(host) {
			if w.Port == 0 && slices.Contains(at.Addresses, endpoint.Addr()) {
				w.Port = endpoint.Port() // where the estate wants it
			}
		}
	}
	if len(at.Ports) > 0 {
		w.OtherPort = at.Ports[0].First
		w.Ports = func(port uint16) bool {
			return slices.ContainsFunc(at.Ports, func(r estate.PortRange) bool { return r.First <= port && port <= r.Last })
		}
	}
	return w
}

// stapleOf asks the CA whether a certificate is good, for a server that sends the answer
// along.
func (s *Installing) stapleOf(chain []*certs.Certificate) func(context.Context) (*install.Staple, error) {
	return func(ctx context.Context) (*install.Staple, error) {
		if len(chain) < 2 {
			return nil, errors.New("it came without its issuer")
		}
		leaf, err := x509.ParseCertificate(chain[0].Raw)
		if err != nil {
			return nil, err
		}
		issuer, err := x509.ParseCertificate(chain[1].Raw)
		if err != nil {
			return nil, err
		}
		got, err := s.cfg.Looker.Staple(ctx, leaf, issuer, time.Now().UTC())
		if err != nil {
			return nil, err
		}
		return (*install.Staple)(got), nil
	}
}

// previewRow makes the record of what a destination has planned, with what the
// bindings show now and what else the reload takes in.
func (s *Installing) previewRow(ctx context.Context, m *MandateView, order *store.Order, at *estate.Server,
	planned *install.Planned, leaf string) (*store.Installation, error) {
	plan, err := sealPlan(s.ordering.safe, at.Name, &planned.Plan)
	if err != nil {
		return nil, err
	}
	row := &store.Installation{MandateID: m.ID, OrderID: order.ID, Rehearsal: order.Rehearsal, Server: at.Name,
		Leaf: leaf, Plan: plan, Bindings: []store.InstallationBinding{}, Notes: []string{},
		Unasked: planned.Unasked, State: string(install.Previewed), By: actor(ctx), CreatedAt: time.Now().UTC(),
		Mandate: m.Mandate}
	if row.Rehearsal {
		return row, nil
	}
	seen := planned.There
	for _, b := range planned.Bindings {
		b.Before, _ = s.lookAtBinding(ctx, &b)
		seen = seen && (b.Neighbour || b.Before == leaf)
		row.Bindings = append(row.Bindings, store.InstallationBinding(b))
	}
	if seen {
		return nil, &thereError{&RefusedError{fmt.Sprintf("the certificate of %s is installed on %s already, and visitors get it",
			m.Name, at.Name), "order anew: insegna mandate order " + m.Name}}
	}
	reload, err := s.atNextReload(ctx, at.Name)
	row.Notes = append(append(row.Notes, planned.Notes...), reload...)
	return row, err
}

// atNextReload says what else a reload of a server takes in.
func (s *Installing) atNextReload(ctx context.Context, server string) ([]string, error) {
	return s.besidesAtReload(ctx, server, nil)
}

// besidesAtReload says that without some findings.
func (s *Installing) besidesAtReload(ctx context.Context, server string, without map[int64]bool) ([]string, error) {
	list := []string{}
	open, _, err := s.store.Findings(ctx,
		store.FindingFilter{Codes: check.With(check.AtNextReload), State: "open", Server: server},
		store.Page{Sort: "severity", Limit: notesShown})
	for i := range open {
		if without[open[i].ID] {
			continue
		}
		list = append(list, fmt.Sprintf("%s: %s: %s", open[i].Host, open[i].Code, open[i].Cause))
	}
	return list, err
}

// notesShown bounds what a preview says of a reload.
const notesShown = 100

// installTrouble tells the caller why a server's configuration is not changed.
func installTrouble(err error) error {
	var refused *install.RefusedError
	if errors.As(err, &refused) {
		out := &RefusedError{refused.Reason, refused.Next}
		if refused.Preparable {
			return &preparableError{out}
		}
		return out
	}
	return err
}

// preparableError is a refusal that preparing the server mends.
type preparableError struct{ *RefusedError }

// Unwrap gives the refusal.
func (e *preparableError) Unwrap() error { return e.RefusedError }

// installedOn finds the server a mandate is to be installed on, in its estate,
// and the port it names.
func (s *Installing) installedOn(ctx context.Context, m *MandateView, server string) (*estate.Estate, *estate.Server,
	uint16, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, nil, 0, err
	}
	if server == "" {
		if len(m.Spec.Install) != 1 {
			return nil, nil, 0,
				&RefusedError{fmt.Sprintf("the mandate %s is installed on %d servers", m.Name, len(m.Spec.Install)),
					"name one: --server NAME; a mandate names them under install"}
		}
		server = m.Spec.Install[0].String()
	}
	ref, err := estate.ParseRef(server)
	if err != nil {
		return nil, nil, 0, &BadEndpointError{server}
	}
	for _, declared := range m.Spec.Install {
		if ref.Port == 0 && declared.Server == ref.Server {
			ref.Port = declared.Port
		}
	}
	at := e.Server(ref.Server)
	switch {
	case at == nil:
		return nil, nil, 0, &UnknownError{"server", ref.Server, "server list"}
	case s.cfg.Kinds.Of(at.Kind).Needs(kind.Install) != nil:
		return nil, nil, 0, &RefusedError{fmt.Sprintf("%v, and %s is declared as %s",
			s.cfg.Kinds.Of(at.Kind).Needs(kind.Install), at.Name, at.Kind),
			"take certificate and key there by hand: insegna order certificate NUMBER"}
	case at.Reach == nil:
		return nil, nil, 0,
			&RefusedError{"there is no way to the server " + ref.Server, "declare reach for it in the estate file"}
	}
	return e, at, ref.Port, nil
}

// lookAtBinding looks at a binding: the SHA-256 of the certificate shown, "" for none,
// and what was seen in words.
func (s *Installing) lookAtBinding(ctx context.Context, d *install.Binding) (leaf, seen string) {
	if d.Plain != "" {
		got, err := s.cfg.Looker.Ask(ctx, d.At, "http", d.Host, d.Plain)
		if err != nil {
			return "", "no answer in plain http: " + err.Error()
		}
		shown := strings.TrimSpace(fmt.Sprintf("%d %s", got.Status, got.Location))
		return shown, shown
	}
	if d.Header == kind.StrictTransport {
		got, err := s.cfg.Looker.Ask(ctx, d.At, "https", d.Host, "/")
		if err != nil {
			return "", "no answer over TLS: " + err.Error()
		}
		return got.HSTS, cmp.Or(got.HSTS, "no such header")
	}
	o := s.cfg.Looker.Look(ctx, d.At, d.Host)
	if d.Whole && len(o.Served) > 0 {
		all := make([]string, len(o.Served))
		for i, der := range o.Served {
			all[i] = certs.FingerprintOf(der).String()
		}
		return strings.Join(all, " "), fmt.Sprintf("a list of %d certificates that begins with %s", len(all), all[0][:12])
	}
	if d.Stapled && len(o.Served) > 0 {
		leaf = certs.FingerprintOf(o.Served[0]).String()
		if fault := certs.StapleFault(o.Stapled); fault != "" {
			return leaf, "the certificate " + leaf[:12] + " without an OCSP response: " + fault
		}
		return leaf + " stapled", "the CA's answer with the certificate " + leaf[:12]
	}
	if len(o.Served) == 0 {
		return "", strings.TrimSpace("no certificate: " + string(o.Outcome) + " " + o.Detail)
	}
	c, err := certs.Parse(o.Served[0])
	if err != nil {
		return "", "a certificate that cannot be read"
	}
	return c.Fingerprint.String(),
		fmt.Sprintf("%s until %s (%s)", c.CommonName(), c.NotAfter.UTC().Format("2 January 2006"),
			c.Fingerprint.String()[:12])
}

// BeginInstallation carries out what was previewed.
func (s *Installing) BeginInstallation(ctx context.Context, id int64) (*InstallationView, error) {
	row, err := s.store.Installation(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnknownError{"installation", strconv.FormatInt(id, 10), "installation list"}
	} else if err != nil {
		return nil, err
	}
	if err := mayTake(ctx, row); err != nil {
		return nil, err
	}
	act := s.actOf(ctx, "installation.begin")
	err = s.store.BeginInstallation(ctx, id, actor(ctx), string(install.Staging), act, time.Now().UTC(), s.enqueue)
	if err != nil {
		return nil, err
	}
	return s.Installation(ctx, id)
}

// ReturnInstallation takes back what was installed.
func (s *Installing) ReturnInstallation(ctx context.Context, id int64) (*InstallationView, error) {
	act := s.actOf(ctx, "installation.return")
	err := s.store.ReturnInstallation(ctx, id, string(install.Returning), "taken back by "+actor(ctx), act,
		time.Now().UTC(), s.enqueue)
	if err != nil {
		return nil, err
	}
	return s.Installation(ctx, id)
}

// actOf is the journal's entry for an act on an installation.
func (s *Installing) actOf(ctx context.Context, action string) func(*store.Installation) *store.Act {
	return func(v *store.Installation) *store.Act {
		detail := map[string]any{"server": v.Server, "certificate": v.Leaf}
		if v.MandateID == 0 {
			mended := make([]string, len(v.Mends))
			for i, f := range v.Mends {
				mended[i] = fmt.Sprintf("#%d %s: %s", f.Finding, f.Code, f.Does)
			}
			detail = map[string]any{"server": v.Server, "mends": mended}
			if v.Source != nil { // a private key goes from one server to another
				detail["takes"] = map[string]any{"from": v.Source.Server, "key": v.Source.Key, "certificate": v.Leaf}
			}
		}
		return &store.Act{Actor: actor(ctx), Action: action, Subject: strconv.FormatInt(v.ID, 10), Detail: detail}
	}
}

// runInstallation takes an installation as far as it goes. A server that left
// the estate, or whose kind cannot be installed on any more, leaves it stuck: what
// lies on the server is then for a person to judge.
func (s *Installing) runInstallation(ctx context.Context, id int64) error {
	row, err := s.store.Installation(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && install.State(row.State).Ended() {
		return nil
	} else if err != nil {
		return err
	}
	records := &installationRecords{s, row}
	i, order, err := s.taken(ctx, row)
	var changed *sourceChangedError
	if errors.As(err, &changed) {
		i.State, i.Reason, i.Advice = install.Returning, changed.Error(), "look at a new preview, and install from that"
		err = records.Save(ctx, i, "stage", install.Wrong, i.Reason)
	}
	if err != nil {
		return err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return err
	}
	server := e.Server(row.Server)
	if server == nil || server.Reach == nil {
		i.State, i.Reason, i.Advice = install.Stuck, "there is no way to the server "+row.Server+" any more",
			"declare reach for it in the estate file, and look at the server by hand"
		return records.Save(ctx, i, "way", install.Wrong, i.Reason)
	}
	k := s.cfg.Kinds.Of(server.Kind)
	if err := k.Needs(kind.Install); err != nil {
		i.State, i.Reason, i.Advice = install.Stuck, err.Error(), "look at the server by hand: "+i.Plan.Where
		return records.Save(ctx, i, "way", install.Wrong, i.Reason)
	}
	over, err := open(ctx, server.Reach)
	if err != nil {
		over = nowhere{err}
	}
	defer func() { _ = over.Close() }()
	m := &install.Installer{Destination: k.Installs(over, server), Records: records, Look: s.lookAtBinding}
	err = m.Run(ctx, i)
	var wait *install.WaitError
	if errors.As(err, &wait) {
		return &work.Later{At: wait.Until}
	}
	if err == nil {
		s.afterInstallation(ctx, row, i, order)
	}
	return err
}

// taken is an installation as it was stored, with the certificate of its order
// and the key out of the safe.
func (s *Installing) taken(ctx context.Context, row *store.Installation) (*install.Installation, *store.Order, error) {
	v, err := s.viewInstallation(row)
	if err != nil {
		return nil, nil, err
	}
	if row.MandateID == 0 {
		i := installationOf(row, v.Plan)
		if row.Source != nil && i.State == install.Staging {
			m, err := s.materialOf(ctx, row)
			if err != nil {
				return i, nil, err
			}
			i.Material = *m
		}
		return i, nil, nil
	}
	order, err := s.store.Order(ctx, row.OrderID)
	if err != nil {
		return nil, nil, err
	}
	i := installationOf(row, v.Plan)
	i.Material.Chain = order.Chain
	if order.Spec.KeyOn == "" { // else it lies there already
		i.Material.Key, err = s.ordering.orderKey(order)
	}
	return i, order, err
}

// installationOf is a stored installation as it is carried out, without material.
func installationOf(row *store.Installation, plan install.Plan) *install.Installation {
	i := &install.Installation{ID: row.ID, Rehearsal: row.Rehearsal, Plan: plan, Leaf: row.Leaf,
		State: install.State(row.State), Switched: row.Switched, Tries: row.Tries, Reason: row.Reason, Advice: row.Advice}
	for _, b := range row.Bindings {
		i.Bindings = append(i.Bindings, install.Binding(b))
	}
	return i
}

// afterInstallation does what follows an installation that ended: one the
// service began and that came back is planned anew, and the server is surveyed,
// so that findings open and close by themselves. A rehearsal changed nothing and
// needs no survey.
func (s *Installing) afterInstallation(ctx context.Context, row *store.Installation, i *install.Installation,
	order *store.Order) {
	if i.State == install.Returned && row.By == itself && order != nil {
		s.ordering.plan(ctx, time.Now().Add(pace(order)))
	}
	if row.Rehearsal {
		return
	}
	survey, err := s.surveying.StartSurvey(ctx, store.Scope{Server: row.Server})
	if err == nil {
		err = s.store.InstallationSurveyed(ctx, row.ID, survey.ID)
	}
	if err != nil && ctx.Err() == nil {
		s.cfg.Log.Warn("no survey after an installation", "server", row.Server, "error", err)
	}
}

// installationRecords keep one installation in the store.
type installationRecords struct {
	s   *Installing         // stores them
	row *store.Installation // being carried out
}

// Save implements install.Records.
func (r *installationRecords) Save(ctx context.Context, i *install.Installation, step string, outcome install.Outcome,
	words string) error {
	now := time.Now().UTC()
	r.row.State, r.row.Switched, r.row.Tries, r.row.Reason, r.row.Advice = string(i.State), i.Switched, i.Tries,
		i.Reason, i.Advice
	if i.Switched { // what was read of it a moment ago is not so any more
		r.s.ordering.reading.forget(r.row.Server)
	}
	if i.State.Ended() {
		r.row.FinishedAt = &now
		r.log(i)
	}
	if step == "" {
		return r.s.store.SaveInstallation(ctx, r.row, nil)
	}
	return r.s.store.SaveInstallation(ctx, r.row,
		&store.InstallationStep{InstallationID: i.ID, Step: step, Outcome: string(outcome), Words: words, At: now})
}

// log tells how an installation ended.
func (r *installationRecords) log(i *install.Installation) {
	with := []any{"installation", i.ID, "mandate", r.row.Mandate.Name, "server", r.row.Server, "by", r.row.By,
		"rehearsal", r.row.Rehearsal}
	switch i.State {
	case install.Done, install.Rehearsed:
		r.s.cfg.Log.Info("installed", append(with, "state", i.State)...)
	case install.Stuck, install.Returned:
		r.s.cfg.Log.Warn("not installed", append(with, "state", i.State, "reason", i.Reason, "advice", i.Advice)...)
	}
}

// installAtOnce bounds how much is installed by itself in one go.
const installAtOnce = 50

// InstallDue installs what was renewed on the servers where a person had
// installed the mandate before. What would change a configuration is previewed
// and waits for a person.
func (s *Installing) InstallDue(ctx context.Context) error { return s.installRenewed(ctx, 0) }

// installRenewed does that for one mandate, or (0) for all.
func (s *Installing) installRenewed(ctx context.Context, mandate int64) error {
	list, err := s.store.Uninstalled(ctx, itself, mandate, time.Now().UTC(), firstRetry, int(tries), installAtOnce)
	if err != nil {
		return err
	}
	var all []error
	for _, mandate := range s.waves(ctx, list) {
		list = slices.DeleteFunc(list, func(u store.Uninstalled) bool { return u.Mandate == mandate })
	}
	for _, u := range list {
		if err := s.installOne(ctx, u); err != nil {
			all = append(all, fmt.Errorf("installing %s on %s: %w", u.Mandate, u.Server, err))
		}
	}
	return errors.Join(all...)
}

// waves begins a wave for each mandate that is to be installed on several servers
// and asks nobody for it; it gives these mandates. One the service began before, and
// that stopped, is left as it is then. Where a wave is not possible the servers are
// installed on one by one.
func (s *Installing) waves(ctx context.Context, list []store.Uninstalled) (begun []string) {
	count := map[string]int{}
	for _, u := range list {
		count[u.Mandate]++
	}
	for mandate, servers := range count {
		err := s.leaveStopped(ctx, mandate)
		if err == nil && servers > 1 {
			err = s.waveUnasked(ctx, mandate)
		} else if err == nil {
			continue
		}
		if err == nil || errors.Is(err, store.ErrWaveRunning) {
			begun = append(begun, mandate)
			continue
		}
		s.cfg.Log.Info("no wave; installed server by server", "mandate", mandate, "reason", err)
	}
	return begun
}

// leaveStopped leaves a wave of a mandate as it is that the service began and that
// stopped, so that what is left of it is taken up anew.
func (s *Installing) leaveStopped(ctx context.Context, mandate string) error {
	last, err := s.Waves(ctx, mandate, 0, 1)
	if err != nil || len(last) == 0 || last[0].State != store.WaveStopped || last[0].By != itself {
		return err
	}
	_, err = s.KeepWave(ctx, last[0].ID)
	return err
}

// waveUnasked begins a wave that a person need not be asked for.
func (s *Installing) waveUnasked(ctx context.Context, mandate string) error {
	v, err := s.PreviewWave(ctx, mandate, nil)
	if err != nil {
		return err
	}
	for _, i := range v.Installations {
		if !i.Unasked {
			return errAsked
		}
	}
	_, err = s.BeginWave(ctx, v.ID)
	return err
}

// errAsked says that a person is to be asked.
var errAsked = errors.New("a person is asked")

// installOne begins what may be done without asking, and leaves the preview of
// the rest for a person.
func (s *Installing) installOne(ctx context.Context, u store.Uninstalled) error {
	v, err := s.PreviewInstallation(ctx, u.Mandate, u.Server, nil)
	if err != nil {
		return err
	}
	if !v.Unasked { // waits for a person
		return nil
	}
	if _, err = s.BeginInstallation(ctx, v.ID); errors.Is(err, store.ErrInstallationRunning) {
		return nil // the next turn finds it
	}
	return err
}

// installJob takes an installation on.
type installJob struct {
	Number int64 `json:"number"` // of the installation
}

// Kind implements work.Args.
func (installJob) Kind() string { return "installation" }

// register registers the jobs of installations.
func (s *Installing) register() {
	work.Handle(s.jobs, work.Orders, workTries,
		func(ctx context.Context, j installJob) error { return s.runInstallation(ctx, j.Number) })
	work.Handle(s.jobs, work.Orders, workTries,
		func(ctx context.Context, j waveJob) error { return s.runWave(ctx, j.Number) })
}

// enqueue queues an installation, committed with what begins it.
func (s *Installing) enqueue(ctx context.Context, tx store.Tx, number int64) error {
	return work.Add(ctx, s.jobs, tx, installJob{number})
}

// installIssued begins the installation of what an order brought, in earnest or in
// rehearsal.
func (s *Installing) installIssued(ctx context.Context, row *store.Order) {
	if issue.State(row.State) != issue.Issued {
		return
	}
	if row.Rehearsal {
		s.rehearseInstallation(ctx, row)
		return
	}
	if len(row.Spec.Install) == 0 {
		return
	}
	if err := s.installRenewed(ctx, row.MandateID); err != nil && ctx.Err() == nil {
		s.cfg.Log.Warn("not installed; tried again in a minute", "error", err)
	}
}
