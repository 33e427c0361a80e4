package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/install"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// Mending is the room where findings become installations: what mends each, and what
// a person has to do.
type Mending struct {
	base
	declaring  *Declaring  // knows hosts, servers and the judge
	reading    *Reading    // knows what lies on servers
	surveying  *Surveying  // has the findings
	ordering   *Ordering   // has mandates and their certificates
	installing *Installing // carries plans out

	mu    sync.Mutex          // guards the rest
	under int64               // declaration they were tried under
	tried map[int64]time.Time // findings that were tried by itself, and when
}

// MendRequest says which findings are to be mended: some by number, or all open ones
// that fit.
type MendRequest struct {
	Findings           []int64  // numbers; none for those that fit
	Server, Code, Host string   // "" for any
	Rehearsal          bool     // staged and tested, and nothing is changed
	Also               []string // others who may get something else by it, by name
	// Days has a host's sites tell browsers to come over TLS alone for so many days (RFC
	// 6797), 0 to end that; nil where findings are to be mended
	Days *int
}

// MendPlan is how findings are mended.
type MendPlan struct {
	Installations []*InstallationView // one a server, previewed; nothing is changed
	Renewals      []Renewal           // a certificate is needed first
	Taken         []TakenHost         // into the estate
	Left          []LeftFinding       // for a person
}

// Renewal is a host that needs a certificate from its CA.
type Renewal struct {
	Host, Server string // where
	Mandate      string // that is for it; "" when one has to be made
	Findings     []FindingRef
}

// TakenHost is a host that is to be taken into the estate.
type TakenHost struct {
	FindingRef
	Name string   // of the host
	At   []string // server:port
}

// FindingRef names a finding.
type FindingRef struct {
	Number int64      // people refer to it
	Code   check.Code // of its rule
	Host   string     // "" for one about a server
	Server string     // by name
}

// LeftFinding is one that is not mended, and what a person does.
type LeftFinding struct {
	FindingRef
	Reason, Next string // why, and what to do
}

// Bounds of a plan.
const (
	mendAtOnce   = 2000 // findings
	mendBeside   = 8    // servers read side by side
	mandatesTold = 1000
)

// mending works out one plan.
type mending struct {
	*Mending
	request *MendRequest
	estate  *estate.Estate
	judge   *check.Judge
	at      time.Time

	mu    sync.Mutex
	plan  MendPlan
	unfit []*store.Finding // what needs a certificate, and none that fits lies on the server
}

// PreviewMending works out how findings are mended, and changes nothing: one
// installation for each server, with one test and one reload.
func (s *Mending) PreviewMending(ctx context.Context, r *MendRequest) (*MendPlan, error) {
	m := &mending{Mending: s, request: r, at: time.Now().UTC().Truncate(time.Microsecond)}
	var err error
	if m.estate, _, err = s.declaring.estateInForce(ctx); err != nil {
		return nil, err
	}
	if m.judge, err = s.declaring.currentJudge(ctx); err != nil {
		return nil, err
	}
	if r.Days != nil {
		return m.pledged(ctx)
	}
	list, err := m.gather(ctx)
	if err != nil {
		return nil, err
	}
	servers := map[string][]*store.Finding{}
	var renewed []*store.Finding
	for i := range list {
		f := &list[i]
		switch rule := check.RuleOf(f.Code); {
		case f.ClosedAt != nil:
			m.leave(f, "it is closed already", "see what is open: insegna finding list")
		case rule.Mends == "":
			m.leave(f, cmp.Or(rule.Person, "no rule of this program made it"), f.Remedy)
		case rule.Mends == check.ByTaking:
			if err := m.take(ctx, f); err != nil {
				return nil, err
			}
		case rule.Mends.OnServer() || f.Code.Before() != "":
			servers[f.Server] = append(servers[f.Server], f)
		default:
			renewed = append(renewed, f)
		}
	}
	var g errgroup.Group
	g.SetLimit(mendBeside)
	for server, list := range servers {
		g.Go(func() error { return m.onServer(ctx, server, list) })
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	renewed = append(renewed, m.unfit...)
	slices.SortStableFunc(renewed, func(a, b *store.Finding) int {
		return cmp.Or(cmp.Compare(a.Severity, b.Severity), cmp.Compare(a.ID, b.ID))
	})
	if err := m.renewals(ctx, renewed); err != nil {
		return nil, err
	}
	return m.sorted(), nil
}

// pledged works out how a host's sites tell browsers to come over TLS alone.
func (m *mending) pledged(ctx context.Context) (*MendPlan, error) {
	name, err := names.Host(m.request.Host)
	if err != nil {
		name = m.request.Host
	}
	h := m.estate.Host(name)
	if h == nil {
		return nil, &UnknownError{"host", m.request.Host, "estate show"}
	}
	servers := map[string][]*store.Finding{}
	for _, ref := range h.At {
		at := m.estate.Server(ref.Server)
		if at == nil || m.request.Server != "" && m.request.Server != at.Name {
			continue
		}
		for e := range at.Endpoints() {
			if ref.Port == 0 || ref.Port == e.Port() {
				f := &store.Finding{Host: h.Name, Server: at.Name, Address: e.Addr().String(), Port: int(e.Port())}
				f.ID, f.Code, f.Remedy = -int64(len(servers[at.Name])+1), pledge, "add the header by hand"
				servers[at.Name] = append(servers[at.Name], f)
			}
		}
	}
	if len(servers) == 0 {
		return nil, &RefusedError{fmt.Sprintf("the estate does not want %s at %s", h.Name, m.request.Server), "see where it is wanted: insegna estate show"}
	}
	for _, server := range slices.Sorted(maps.Keys(servers)) {
		if err := m.onServer(ctx, server, servers[server]); err != nil {
			return nil, err
		}
	}
	return m.sorted(), nil
}

// pledge stands for a finding where the header of RFC 6797 is to be sent, which no rule
// asks for.
const pledge check.Code = "strict-transport"

// take notes that a name of a server is to be taken into the estate, where that was said
// of it.
func (m *mending) take(ctx context.Context, f *store.Finding) error {
	at := m.estate.Server(f.Server)
	if len(m.request.Findings) == 0 && m.request.Code != string(check.NotInEstate) {
		m.leave(f, "whether "+f.Subject+" is wanted is for a person to say", fmt.Sprintf("take it in: insegna finding mend %d", f.ID))
		return nil
	}
	if strings.Contains(f.Cause, check.Further) { // it stands for more names than are told one by one
		m.leave(f, "it stands for several names", "take in those that are told one by one, and survey the server anew")
		return nil
	}
	c, err := m.reading.anew(ctx, f.Server)
	var unread *NotReadError
	if errors.As(err, &unread) || at == nil {
		m.leave(f, "where it is served is not known: the server is not read", f.Remedy)
		return nil
	} else if err != nil {
		return err
	}
	taken := TakenHost{FindingRef: refOf(f), Name: f.Subject}
	var others []string
	for i := range c.reading.Listeners {
		l := &c.reading.Listeners[i]
		if !l.TLS || !l.Network() || !slices.ContainsFunc(l.Sites, func(n int) bool { return siteOf(&c.reading.Sites[n], f.Subject) }) {
			continue
		}
		port := l.Address.Port()
		into := &others
		for p := range at.Endpoints() {
			if p.Port() == port {
				into = &taken.At
			}
		}
		if ref := fmt.Sprintf("%s:%d", at.Name, port); !slices.Contains(*into, ref) {
			*into = append(*into, ref)
		}
	}
	switch {
	case len(taken.At) > 0:
		m.plan.Taken = append(m.plan.Taken, taken)
	case len(others) > 0:
		m.leave(f, "it is served at "+strings.Join(others, ", ")+", which the estate does not have among the server's ports",
			"add the port to the server in the estate file first")
	default:
		m.leave(f, "no site with TLS has that name any more", "survey the server anew")
	}
	return nil
}

// siteOf says whether a site has a host's name.
func siteOf(s *kind.Site, host string) bool {
	return slices.ContainsFunc(s.Names, func(n kind.Name) bool {
		name, err := names.Host(n.Host())
		return err == nil && name == host
	})
}

// sorted brings a plan into an order that does not depend on who came first.
func (m *mending) sorted() *MendPlan {
	slices.SortFunc(m.plan.Installations, func(a, b *InstallationView) int { return strings.Compare(a.Server, b.Server) })
	slices.SortFunc(m.plan.Left, func(a, b LeftFinding) int { return cmp.Compare(a.Number, b.Number) })
	return &m.plan
}

// leave notes what is for a person.
func (m *mending) leave(f *store.Finding, reason, next string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.plan.Left = append(m.plan.Left, LeftFinding{refOf(f), reason, next})
}

// leaveOr notes what is for a person, or what needs another certificate than lies there.
func (m *mending) leaveOr(f *store.Finding, reason, next string) {
	if f.Code.Before() == "" {
		m.leave(f, reason, next)
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.unfit = append(m.unfit, f)
}

// refOf names a finding.
func refOf(f *store.Finding) FindingRef { return FindingRef{max(f.ID, 0), f.Code, f.Host, f.Server} }

// gather finds the findings meant, with those they stand for.
func (m *mending) gather(ctx context.Context) ([]store.Finding, error) {
	if len(m.request.Findings) == 0 {
		f := store.FindingFilter{State: "open", Server: m.request.Server, Query: m.request.Host}
		if m.request.Code != "" {
			f.Codes = []check.Code{check.Code(m.request.Code)}
			if check.RuleOf(f.Codes[0]).Code == "" {
				return nil, &UnknownError{"rule", m.request.Code, "finding catalogue"}
			}
		}
		if m.request.Server != "" && m.estate.Server(m.request.Server) == nil {
			return nil, &UnknownError{"server", m.request.Server, "server list"}
		}
		list, _, err := m.store.Findings(ctx, f, store.Page{Sort: "severity", Limit: mendAtOnce})
		if err == nil && len(list) == 0 {
			err = &RefusedError{"no open finding fits", "see what is open: insegna finding list"}
		}
		if err != nil {
			return nil, err
		}
		return m.withOthers(ctx, list)
	}
	var list []store.Finding
	met := map[int64]bool{}
	for _, id := range m.request.Findings {
		one, _, err := m.store.Findings(ctx, store.FindingFilter{ID: id, State: "all"}, store.Page{Limit: 1})
		if err != nil {
			return nil, err
		}
		if len(one) == 0 {
			return nil, &UnknownError{"finding", strconv.FormatInt(id, 10), "finding list"}
		}
		if !met[id] {
			met[id] = true
			list = append(list, one[0])
		}
	}
	return m.withOthers(ctx, list)
}

// withOthers adds the findings that others stand for: what mends one mends all.
func (m *mending) withOthers(ctx context.Context, list []store.Finding) ([]store.Finding, error) {
	met := map[int64]bool{}
	for i := range list {
		met[list[i].ID] = true
	}
	for i := range list {
		if list[i].StandsFor < 1 || list[i].ClosedAt != nil {
			continue
		}
		more, _, err := m.store.Findings(ctx, store.FindingFilter{Under: list[i].ID, State: "open"},
			store.Page{Sort: "severity", Limit: mendAtOnce})
		if err != nil {
			return nil, err
		}
		for j := range more {
			// those of other servers and hosts than are asked for stay
			asked := (m.request.Server == "" || more[j].Server == m.request.Server) && strings.Contains(more[j].Host, m.request.Host)
			if asked && !met[more[j].ID] {
				met[more[j].ID] = true
				list = append(list, more[j])
			}
		}
	}
	// What is of a certificate and not of an endpoint mends at each host that shows it.
	return slices.DeleteFunc(list, func(f store.Finding) bool {
		return f.StandsFor > 0 && f.ClosedAt == nil && f.TargetID == nil && check.RuleOf(f.Code).Traits&check.AtEndpoint == 0
	}), nil
}

// Mendable gives what says of a finding whether it mends itself from here, and how, or
// why it does not.
func (s *Mending) Mendable(ctx context.Context) (func(*Finding) (can bool, says string), error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	return func(f *Finding) (bool, string) {
		rule := check.RuleOf(f.Code)
		if f.ClosedAt != nil {
			return false, "it is closed"
		}
		if rule.Mends == "" {
			return false, cmp.Or(rule.Person, "no rule of this program made it")
		}
		if rule.Mends == check.ByTaking {
			return true, rule.Mends.String()
		}
		m := &mending{Mending: s, estate: e}
		_, err := m.mendingOn(f.Server)
		var refused *RefusedError
		if errors.As(err, &refused) {
			return false, refused.Reason
		}
		return err == nil, rule.Mends.String()
	}, nil
}

// mendingOn finds a server that can be changed from here; what is in the way is a
// *RefusedError.
func (m *mending) mendingOn(server string) (*estate.Server, error) {
	at := m.estate.Server(server)
	switch {
	case at == nil:
		return nil, &RefusedError{"the server is not in the estate any more", "see its servers: insegna server list"}
	case m.cfg.Kinds.Of(at.Kind).Needs(kind.Install) != nil:
		return nil, &RefusedError{fmt.Sprintf("%v, and %s is declared as %s", m.cfg.Kinds.Of(at.Kind).Needs(kind.Install),
			at.Name, cmp.Or(at.Kind, "no kind")), "do it there by hand"}
	case at.Reach == nil:
		return nil, &RefusedError{"there is no way to the server " + server, "declare reach for it in the estate file"}
	}
	return at, nil
}

// onServer works out one plan for the findings of a server.
func (m *mending) onServer(ctx context.Context, server string, list []*store.Finding) error {
	all := func(err error, next string) error {
		for _, f := range list {
			m.leaveOr(f, err.Error(), next)
		}
		return nil
	}
	at, err := m.mendingOn(server)
	var refused *RefusedError
	if errors.As(err, &refused) {
		for _, f := range list {
			m.leave(f, refused.Reason, refused.Next+"; what to do: "+f.Remedy)
		}
		return nil
	}
	if list, err = m.unharmed(ctx, server, list); err != nil || len(list) == 0 {
		return err
	}
	over, err := open(ctx, at.Reach)
	if err != nil {
		return all(err, "see the way to it: insegna server show "+server)
	}
	defer func() { _ = over.Close() }()
	mender, can := m.cfg.Kinds.Of(at.Kind).Installs(over, at).(install.Mender)
	if !can {
		return all(errors.New("nothing is mended from here on servers of its kind"), "do it there by hand")
	}
	proved, err := m.store.ProvedOver(ctx, []string{server})
	if err != nil {
		return err
	}
	order := &install.Mending{Server: server, Version: m.at.Format("20060102T150405.000Z"), Rehearsal: m.request.Rehearsal,
		Addresses: at.Addresses, Agreed: m.request.Also, List: m.listFor, Fit: m.fitFor, Plain: m.estate.PlainPort, Proof: proofs(proved, server)}
	if m.request.Days != nil {
		order.Days = *m.request.Days
	}
	for _, f := range list {
		order.Faults = append(order.Faults, faultOf(f))
	}
	planned, err := mender.Mend(ctx, order)
	var stopped *install.RefusedError
	if errors.As(err, &stopped) {
		return all(stopped, stopped.Next)
	} else if err != nil {
		return err
	}
	left := map[int64]install.Left{}
	for _, l := range planned.Left {
		left[l.Finding] = l
	}
	for _, f := range list {
		if l, is := left[f.ID]; is {
			m.leaveOr(f, l.Reason, l.Next)
		}
	}
	if len(planned.Mends) == 0 {
		return nil
	}
	return m.keep(ctx, server, planned)
}

// unharmed leaves what needs a reload for a person where that would make other findings
// real that are not mended with it, and nobody has agreed to that by the host's name.
func (m *mending) unharmed(ctx context.Context, server string, list []*store.Finding) ([]*store.Finding, error) {
	ahead, _, err := m.store.Findings(ctx, store.FindingFilter{Codes: check.With(check.AtNextReload), State: "open",
		Server: server}, store.Page{Sort: "severity", Limit: mendAtOnce})
	if err != nil {
		return nil, err
	}
	var told, numbers []string
	host := ""
	for i := range ahead {
		f := &ahead[i]
		if f.Code == check.NotReloaded || slices.Contains(m.request.Also, f.Host) ||
			slices.ContainsFunc(list, func(o *store.Finding) bool { return o.ID == f.ID }) {
			continue
		}
		told = append(told, fmt.Sprintf("#%d %s %s", f.ID, f.Host, f.Code))
		numbers = append(numbers, strconv.FormatInt(f.ID, 10))
		host = cmp.Or(host, f.Host)
	}
	if len(told) == 0 {
		return list, nil
	}
	var kept []*store.Finding
	for _, f := range list {
		if check.RuleOf(f.Code).Mends == check.ByMode {
			kept = append(kept, f)
			continue
		}
		with := fmt.Sprintf("mend that with it: insegna finding mend %d %s", f.ID, strings.Join(numbers, " "))
		if f.ID < 0 { // no finding asks for it
			with = "mend that first: insegna finding mend " + strings.Join(numbers, " ")
		}
		m.leave(f, "the reload for it would take in what is wrong on the disk and not in use yet: "+strings.Join(told, ", "),
			with+"; or agree to it by the host's name: --also "+host)
	}
	return kept, nil
}

// faultOf is a finding as a destination takes it.
func faultOf(f *store.Finding) install.Fault {
	out := install.Fault{Finding: f.ID, Code: f.Code, Host: f.Host, Subject: f.Subject, Place: f.Source(), Means: f.Code.Before()}
	if f.Code == pledge {
		out.Means = check.ByPledge
	}
	if addr, err := netip.ParseAddr(f.Address); err == nil {
		out.At = netip.AddrPortFrom(addr, uint16(f.Port))
	}
	return out
}

// target is what is wanted of a host.
func (m *mending) target(host string) check.Target {
	t := check.Target{Host: host}
	if h := m.estate.Host(host); h != nil {
		t.Wanted, t.Audiences = h.Wanted, h.Audiences
	}
	return t
}

// listFor puts the list together that is to be sent for a host.
func (m *mending) listFor(host string, list, beside []*certs.Certificate) ([]*certs.Certificate, error) {
	return m.judge.List(m.target(host).Audiences, list, beside, m.at)
}

// fitFor says why a list is not what visitors of a host need.
func (m *mending) fitFor(host string, list []*certs.Certificate) error {
	return m.judge.Fit(m.target(host), list, nil, m.at)
}

// proofs gives the mandate that is proved on a server for a host, and who answers a CA
// beside it.
func proofs(list []store.Mandate, server string) func(host string) (mandate, listener string) {
	return func(host string) (mandate, listener string) {
		for i := range list {
			if provedHere(&list[i].Spec, host, server) {
				return list[i].Name, list[i].Spec.Proof.At
			}
		}
		return "", ""
	}
}

// keep stores a plan as the preview of an installation.
func (m *mending) keep(ctx context.Context, server string, planned *install.Mended) error {
	return m.keepAs(ctx, &store.Installation{Server: server}, planned)
}

// keepAs stores a plan in a row that says where its certificate comes from.
func (m *mending) keepAs(ctx context.Context, row *store.Installation, planned *install.Mended) error {
	server := row.Server
	plan, err := sealPlan(m.ordering.safe, server, &planned.Plan)
	if err != nil {
		return err
	}
	row.Rehearsal, row.Plan, row.State, row.By = m.request.Rehearsal, plan, string(install.Previewed), actor(ctx)
	row.Bindings, row.Notes, row.CreatedAt = []store.InstallationBinding{}, []string{}, m.at
	mended := map[int64]bool{}
	for _, f := range planned.Mends {
		mended[f.Finding] = true
		row.Mends = append(row.Mends, store.InstallationMend{Finding: max(f.Finding, 0), Code: string(f.Code), Host: f.Host, Does: f.Does})
	}
	for _, b := range planned.Bindings {
		if !row.Rehearsal {
			b.Before, _ = m.installing.lookAtBinding(ctx, &b)
		}
		row.Bindings = append(row.Bindings, store.InstallationBinding(b))
	}
	reload, err := m.installing.besidesAtReload(ctx, server, mended)
	if err != nil {
		return err
	}
	row.Notes = append(row.Notes, planned.Notes...)
	if slices.ContainsFunc(planned.Plan.Acts, func(a install.Act) bool { return a.Does == "reload" }) {
		row.Notes = append(row.Notes, reload...)
	}
	if err := m.store.AddPreview(ctx, row); err != nil {
		return err
	}
	v, err := m.installing.viewInstallation(row)
	m.mu.Lock()
	defer m.mu.Unlock()
	m.plan.Installations = append(m.plan.Installations, v)
	return err
}

// renewals says for the findings that need another certificate where it comes from: a
// mandate's that is in force and fits, or one that has to be ordered.
func (m *mending) renewals(ctx context.Context, list []*store.Finding) error {
	installed := map[string]*InstallationView{} // by mandate and server
	refusals := map[string]*RefusedError{}      // the same
	for _, f := range list {
		at, err := m.mendingOn(f.Server)
		var refused *RefusedError
		if errors.As(err, &refused) {
			m.leave(f, refused.Reason, refused.Next+"; what to do: "+f.Remedy)
			continue
		}
		if f.Host == "" {
			m.leave(f, "it is about visitors who name no host", f.Remedy)
			continue
		}
		mandate, err := m.mandateOf(ctx, f)
		if err != nil {
			return err
		}
		if mandate != nil && m.current(f, mandate) {
			key := mandate.Name + " " + at.Name
			if installed[key] == nil && refusals[key] == nil {
				v, err := m.installing.PreviewInstallation(ctx, mandate.Name, at.Name, m.request.Also)
				if errors.As(err, &refused) {
					refusals[key] = refused
				} else if err != nil {
					return err
				} else {
					installed[key] = v
					m.plan.Installations = append(m.plan.Installations, v)
				}
			}
			if no := refusals[key]; no != nil {
				m.leave(f, no.Reason, no.Next)
				continue
			}
			if err := m.mendsToo(ctx, installed[key], f, mandate); err != nil {
				return err
			}
			continue
		}
		if from, err := m.siblingOf(ctx, f); err != nil {
			return err
		} else if from != nil && (mayTakeKeys(ctx) || check.RuleOf(f.Code).Mends == check.BySibling) {
			if err := m.fromSibling(ctx, f, at, from); err != nil {
				return err
			}
			continue
		}
		if err := m.renew(ctx, f, mandate); err != nil {
			return err
		}
	}
	return nil
}

// mendsToo notes that what a mandate has in force mends a finding where it is installed.
func (m *mending) mendsToo(ctx context.Context, v *InstallationView, f *store.Finding, mandate *MandateView) error {
	v.Mends = append(v.Mends, store.InstallationMend{Finding: f.ID, Code: string(f.Code), Host: f.Host,
		Does: fmt.Sprintf("the certificate of order %d of %s, which lies in the safe, is installed", mandate.InForce.ID, mandate.Name)})
	return m.store.PreviewMends(ctx, v.Installation)
}

// renew notes that a host needs a certificate from its CA.
func (m *mending) renew(ctx context.Context, f *store.Finding, mandate *MandateView) error {
	r := Renewal{Host: f.Host, Server: f.Server, Findings: []FindingRef{refOf(f)}}
	if mandate != nil {
		r.Mandate = mandate.Name
	} else if reason, err := m.noCA(ctx, f.Host); err != nil || reason != "" {
		m.leave(f, reason, f.Remedy)
		return err
	}
	for i := range m.plan.Renewals {
		o := &m.plan.Renewals[i]
		if o.Server == r.Server && (o.Host == r.Host || o.Mandate != "" && o.Mandate == r.Mandate) {
			o.Findings = append(o.Findings, refOf(f))
			return nil
		}
	}
	m.plan.Renewals = append(m.plan.Renewals, r)
	return nil
}

// noCA says why no CA of the estate is known to issue what visitors of a host need; ""
// when one may.
func (m *mending) noCA(ctx context.Context, host string) (string, error) {
	t := m.target(host)
	switch {
	case len(m.estate.CAs) == 0:
		return "it needs another certificate, and the estate declares no CA to order it from", nil
	case t.Wanted.Certificate != "":
		return "the estate wants one certificate and no other", nil
	case t.Wanted.Issuer != "":
		if brought, err := m.brought(ctx, t.Wanted.Issuer); brought || err != nil {
			return "", err
		}
		return "the estate wants a certificate of " + t.Wanted.Issuer + ", and no mandate has brought one yet", nil
	}
	for _, name := range t.Audiences {
		i := slices.IndexFunc(m.estate.Audiences, func(a estate.Audience) bool { return a.Name == name })
		if i >= 0 && !m.estate.Audiences[i].Public {
			return "which CA its visitors (" + name + ") trust issues it, no mandate says", nil
		}
	}
	return "", nil
}

// brought says whether the estate's first CA, of which mandates are drafted, has brought
// a certificate of an issuer.
func (m *mending) brought(ctx context.Context, issuer string) (bool, error) {
	list, err := m.ordering.Mandates(ctx, "", "", mandatesTold)
	if err != nil {
		return false, err
	}
	for i := range list {
		if list[i].Spec.CA != m.estate.CAs[0].Name {
			continue
		}
		v, err := m.ordering.Mandate(ctx, list[i].Name)
		if err != nil {
			return false, err
		}
		if v.InForce == nil {
			continue
		}
		chain, err := certs.ReadCertificates(v.InForce.Chain)
		if err == nil && len(chain) > 0 && chain[0].IssuerName() == issuer {
			return true, nil
		}
	}
	return false, nil
}

// mandateOf finds a mandate that is for a finding's host, and installed where it was
// found; nil when there is none.
func (m *mending) mandateOf(ctx context.Context, f *store.Finding) (*MandateView, error) {
	queries := []string{f.Host}
	if _, parent, ok := strings.Cut(f.Host, "."); ok {
		queries = append(queries, "*."+parent)
	}
	for _, q := range queries {
		list, err := m.ordering.Mandates(ctx, q, "", mandatesTold)
		if err != nil {
			return nil, err
		}
		for i := range list {
			if slices.Contains(list[i].Spec.Names, q) && slices.ContainsFunc(list[i].Spec.Install, func(r estate.Ref) bool {
				return r.Server == f.Server && (r.Port == 0 || int(r.Port) == f.Port)
			}) {
				return m.ordering.Mandate(ctx, list[i].Name) // a list does not tell all of what is in force
			}
		}
	}
	return nil, nil
}

// current says whether what a mandate has in force mends a finding: it fits, and is not
// the one it was found for.
func (m *mending) current(f *store.Finding, mandate *MandateView) bool {
	if m.request.Rehearsal || mandate.InForce == nil || !slices.Contains(mandate.Spec.Servers(), f.Server) {
		return false
	}
	chain, err := certs.ReadCertificates(mandate.InForce.Chain)

	return err == nil && len(chain) > 0 && string(chain[0].Fingerprint[:]) != string(f.Leaf) &&
		m.judge.Fit(m.target(f.Host), chain, nil, m.at) == nil
}
