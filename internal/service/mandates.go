package service

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"insegna.example/internal/acme"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/issue"
	"insegna.example/internal/issue/acmesource"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// Ordering is the room of CAs, credentials, mandates and orders.
type Ordering struct {
	base
	declaring *Declaring                                  // knows CAs and mandates
	reading   *Reading                                    // finds names for drafts
	safe      *safe.Safe                                  // keeps keys and credentials
	cas       cas                                         // clients, one for each directory
	paths     *chain.Builder                              // judges what comes back
	swept     sync.Once                                   // proofs of a former run are taken down once at the start
	jobs      *work.Jobs                                  // carry an order on
	issuing   *Issuing                                    // issues where the CA is one of one's own
	ended     func(ctx context.Context, row *store.Order) // what is done with an order that has ended, issued or not
	// ready tries what an installation on servers needs; the error, a *RefusedError,
	// says what is in the way
	ready func(ctx context.Context, m *MandateView, servers []string) error
}

// UnknownError says that there is nothing of that name.
type UnknownError struct{ What, Name, See string }

// Error says which command lists what there is.
func (e *UnknownError) Error() string {
	return fmt.Sprintf("there is no %s %q; see: insegna %s", e.What, e.Name, e.See)
}

// Told implements fault.Error.
func (e *UnknownError) Told() fault.Told {
	return fault.Told{Class: fault.NotFound, Title: "Not found", Next: ""}
}

// cas keeps one client for each directory, with its nonces.
type cas struct {
	mu      sync.Mutex              // guards the maps
	clients map[string]*acme.Client // by directory
	made    map[string]int64        // declaration the client was made for
}

// newCAs makes the memory of clients.
func newCAs() cas { return cas{clients: map[string]*acme.Client{}, made: map[string]int64{}} }

// userAgent is what CAs see of this program and of its HTTP library (RFC 8555
// section 6.1).
var userAgent = "insegna/" + Version + " (net/http of " + runtime.Version() + ")"

// acmeClient keeps one client for each directory, with its nonces and
// connections, until the declaration changes.
func (s *Ordering) acmeClient(ca *estate.CA, directory string, declaration int64) (*acme.Client, error) {
	s.cas.mu.Lock()
	defer s.cas.mu.Unlock()
	if c := s.cas.clients[directory]; c != nil && s.cas.made[directory] == declaration {
		return c, nil
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	for _, a := range ca.Anchors {
		pool.AddCert(a.Certificate)
	}
	transport := &http.Transport{Proxy: http.ProxyFromEnvironment,
		TLSClientConfig: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}, ForceAttemptHTTP2: true,
		TLSHandshakeTimeout: 10 * time.Second, IdleConnTimeout: time.Minute, MaxIdleConnsPerHost: 64}
	c, err := acme.New(directory, userAgent, transport)
	if err == nil {
		s.cas.clients[directory], s.cas.made[directory] = c, declaration
	}
	return c, err
}

// directoryOf gives where a CA is asked, in earnest or in rehearsal.
func directoryOf(ca *estate.CA, rehearsal bool) (string, error) {
	if !rehearsal {
		return ca.ACME.Directory, nil
	}
	if ca.ACME.TestDirectory == "" {
		return "", &RefusedError{fmt.Sprintf("the CA %s has no test directory to rehearse with", ca.Name),
			"add test_directory to it in the estate file"}
	}
	return ca.ACME.TestDirectory, nil
}

// RefusedError says why something cannot be done now, and what to do first.
type RefusedError struct{ Reason, Next string }

// Error is the reason alone.
func (e *RefusedError) Error() string { return e.Reason }

// Told implements fault.Error.
func (e *RefusedError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "Not possible now", Next: e.Next}
}

// Budget is what a CA still gives.
type Budget struct{ Certificates, Days, Used int }

// Left says how many certificates can still be had; -1 when that is not known.
func (b Budget) Left() int {
	if b.Certificates == 0 {
		return -1
	}
	return max(b.Certificates-b.Used, 0)
}

// budget counts certificates issued within the budget's days; a CA without one
// has no limit here.
func (s *Ordering) budget(ctx context.Context, ca *estate.CA) (Budget, error) {
	b := Budget{Certificates: ca.Budget.Certificates, Days: ca.Budget.Days}
	if b.Certificates == 0 {
		return b, nil
	}
	var err error
	b.Used, err = s.store.IssuedSince(ctx, ca.Name, budgetSince(ca))
	return b, err
}

// budgetSince is when a CA's budget begins to count.
func budgetSince(ca *estate.CA) time.Time { return time.Now().AddDate(0, 0, -ca.Budget.Days) }

// CAView is a CA with its terms, account and budget.
type CAView struct {
	*estate.CA
	Terms   string // URL; "" when the CA cannot be asked
	Trouble string // why it cannot
	// TestTerms are those of the test directory; "" when it has none or cannot be
	// asked
	TestTerms string
	Identity  []string       // names for CAA records
	Profiles  []string       // kinds of certificate it offers, each with what it says of it
	External  bool           // it wants accounts bound to a customer record
	Account   *store.Account // nil before terms were agreed to
	Test      *store.Account // at the test directory
	Budget    Budget         // with what is used of it
}

// CAs gives the CAs of the estate, each asked for its terms.
func (s *Ordering) CAs(ctx context.Context) ([]CAView, error) {
	e, id, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	list := make([]CAView, len(e.CAs))
	var all sync.WaitGroup
	errs := make([]error, len(e.CAs))
	for i := range e.CAs {
		all.Go(func() { list[i], errs[i] = s.caView(ctx, &e.CAs[i], id) })
	}
	all.Wait()
	return list, errors.Join(errs...)
}

// caPatience is how long a list waits for a CA to answer.
const caPatience = 5 * time.Second

// caView gathers what is known of a CA, accounts and budget included.
func (s *Ordering) caView(ctx context.Context, ca *estate.CA, declaration int64) (CAView, error) {
	v := CAView{CA: ca}
	if ca.By != estate.ByACME {
		var err error
		v.Budget, err = s.budget(ctx, ca)
		return v, err
	}
	for _, at := range []struct {
		directory string
		into      **store.Account
	}{{ca.ACME.Directory, &v.Account}, {ca.ACME.TestDirectory, &v.Test}} {
		a, err := s.store.Account(ctx, at.directory)
		if err == nil && a.URL != "" {
			*at.into = a
		} else if err != nil && !errors.Is(err, store.ErrNotFound) {
			return v, err
		}
	}
	var err error
	if v.Budget, err = s.budget(ctx, ca); err != nil {
		return v, err
	}
	c, err := s.acmeClient(ca, ca.ACME.Directory, declaration)
	if err != nil {
		return v, err
	}
	limited, cancel := context.WithTimeout(ctx, caPatience)
	defer cancel()
	d, err := c.Fresh(limited)
	if err != nil {
		v.Trouble = err.Error()
		return v, nil
	}
	if ca.ACME.TestDirectory != "" && ca.ACME.TestDirectory != ca.ACME.Directory {
		if c, err := s.acmeClient(ca, ca.ACME.TestDirectory, declaration); err == nil {
			if d, err := c.Fresh(limited); err == nil {
				v.TestTerms = d.Meta.TermsOfService
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(d.Meta.Profiles)) {
		v.Profiles = append(v.Profiles, clipText(name+": "+d.Meta.Profiles[name]))
	}
	v.Terms, v.Identity, v.External = d.Meta.TermsOfService, d.Meta.CAAIdentities, d.Meta.ExternalAccountRequired
	return v, nil
}

// ca finds a CA in the estate in force.
func (s *Ordering) ca(ctx context.Context, name string) (*estate.Estate, *estate.CA, int64, error) {
	e, id, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, 0, ErrNoEstate
	} else if err != nil {
		return nil, nil, 0, err
	}
	ca := e.CA(name)
	if ca == nil {
		return nil, nil, 0, &UnknownError{"CA", name, "ca list"}
	}
	return e, ca, id, nil
}

// accountPurpose is what an account's key is encrypted for: it decrypts for no
// other account.
func accountPurpose(directory string) string { return "account key at " + directory }

// Agree makes the accounts at a CA, and at its test directory, after the
// caller has read and agreed to the very terms each shows now.
func (s *Ordering) Agree(ctx context.Context, name, terms, testTerms string) (*CAView, error) {
	_, ca, id, err := s.ca(ctx, name)
	if err != nil {
		return nil, err
	}
	if ca.By != estate.ByACME {
		return nil, &RefusedError{fmt.Sprintf("%s has no terms to agree to: it is asked by %s", ca.Name, ca.By), "order from it: insegna mandate order NAME"}
	}
	var directories []string
	for _, directory := range []string{ca.ACME.Directory, ca.ACME.TestDirectory} {
		if directory != "" && !slices.Contains(directories, directory) {
			directories = append(directories, directory)
		}
	}
	for _, directory := range directories { // all before any account is made
		read := []string{terms}
		if directory != ca.ACME.Directory {
			read = append(read, testTerms)
		}
		if err := s.termsRead(ctx, ca, directory, id, read); err != nil {
			return nil, err
		}
	}
	for _, directory := range directories {
		if err := s.agreeAt(ctx, ca, directory, id); err != nil {
			return nil, err
		}
	}
	v, err := s.caView(ctx, ca, id)
	return &v, err
}

// termsRead holds what a directory shows now against what was read, and says
// what else it wants first.
func (s *Ordering) termsRead(ctx context.Context, ca *estate.CA, directory string, declaration int64,
	read []string) error {
	c, err := s.acmeClient(ca, directory, declaration)
	if err != nil {
		return err
	}
	d, err := c.Fresh(ctx)
	if err != nil {
		return s.caTrouble(ca, err)
	}
	what := ca.Name
	if directory != ca.ACME.Directory {
		what = "the test directory of " + ca.Name
	}
	switch {
	case d.Meta.TermsOfService != "" && !slices.Contains(read, d.Meta.TermsOfService) || directory == ca.ACME.Directory &&
		d.Meta.TermsOfService == "" && read[0] != "":
		return &RefusedError{fmt.Sprintf("the terms of %s are at %q, agreed to was %q", what, d.Meta.TermsOfService,
			strings.Join(read, ", ")), "read the terms it shows now and agree to these: insegna ca agree " + ca.Name}
	case d.Meta.ExternalAccountRequired && ca.ACME.External == nil:
		return &RefusedError{what + " wants accounts bound to a customer record (externalAccountRequired)",
			acmesource.Advice("externalAccountRequired", "", ca.Name)}
	}
	return nil
}

// agreeAt makes the account, or finds the one whose making was interrupted. The
// key is stored before the CA hears of it.
func (s *Ordering) agreeAt(ctx context.Context, ca *estate.CA, directory string, declaration int64) error {
	c, err := s.acmeClient(ca, directory, declaration)
	if err != nil {
		return err
	}
	d, err := c.Directory(ctx)
	if err != nil {
		return s.caTrouble(ca, err)
	}
	key, err := issue.NewKey("ecdsa-p256")
	if err != nil {
		return err
	}
	der, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	encrypted, err := s.safe.Encrypt(safe.Secret(der), accountPurpose(directory))
	if err != nil {
		return err
	}
	a := &store.Account{CA: ca.Name, Directory: directory, Encrypted: encrypted, Bound: true, Terms: d.Meta.TermsOfService,
		AgreedBy: actor(ctx), AgreedAt: time.Now().UTC()}
	if err := s.store.KeepAccount(ctx, a,
		&store.Act{Actor: actor(ctx), Action: "ca.agree", Subject: ca.Name,
			Detail: map[string]any{"terms": a.Terms, "directory": directory}}); err != nil {
		return err
	}
	// The key that is kept counts: an earlier one, when there was one.
	signer, err := s.accountSigner(a)
	if err != nil {
		return err
	}
	ask := acme.NewAccount{Contact: ca.ACME.Contact, TermsAgreed: true}
	if ca.ACME.External != nil {
		mac, err := s.credential(ctx, ca.ACME.External.Credential)
		if err != nil {
			return err
		}
		ask.External = &acme.ExternalAccount{KeyID: ca.ACME.External.KeyID, MAC: mac}
	}
	made, err := c.Register(ctx, signer.Key, ask)
	if err != nil {
		return s.caTrouble(ca, err)
	}
	return s.store.SetAccountURL(ctx, a.ID, made.URL, strings.Join(ca.ACME.Contact, ", "))
}

// caTrouble tells the caller what a CA said.
func (s *Ordering) caTrouble(ca *estate.CA, err error) error {
	var p *acme.Problem
	var bad *acme.ReplyError
	var lost *acme.LostError
	switch {
	case errors.As(err, &p):
		return &RefusedError{ca.Name + ": " + err.Error(), acmesource.Advice(p.Kind(), "", ca.Name)}
	case errors.As(err, &bad):
		return &RefusedError{ca.Name + ": " + err.Error(), "the CA has to mend this; try again later"}
	case errors.As(err, &lost):
		return &RefusedError{ca.Name + ": " + err.Error(), "see that the CA can be reached from the service's machine"}
	}
	return err
}

// credentialName keeps names fit for an estate file and a command line.
var credentialName = regexp.MustCompile(`^[a-zA-Z0-9][a-zA-Z0-9._-]{0,62}$`)

// credentialPurpose binds the ciphertext to the name: one moved to another name
// does not decrypt. The word is older than the name credential and stays, or
// what is stored could not be read.
func credentialPurpose(name string) string { return "secret " + name }

// Bounds of a credential, in bytes.
const longestCredential = 4096

// AddCredential keeps a credential in the safe; a value of base64 is kept as what it
// stands for.
func (s *Ordering) AddCredential(ctx context.Context, name string, value safe.Secret) error {
	if !credentialName.MatchString(name) {
		return &TokenError{
			fmt.Sprintf("%q is no name for a credential; expected letters, digits, dot, dash or underscore", name)}
	}
	if len(value) == 0 || len(value) > longestCredential {
		return &TokenError{fmt.Sprintf("a credential has 1 to %d bytes", longestCredential)}
	}
	encrypted, err := s.safe.Encrypt(value, credentialPurpose(name))
	if err != nil {
		return err
	}
	return s.store.AddCredential(ctx, &store.Credential{Name: name, Encrypted: encrypted, ChangedAt: time.Now().UTC()},
		&store.Act{Actor: actor(ctx), Action: "credential.add", Subject: name})
}

// RemoveCredential forgets a credential.
func (s *Ordering) RemoveCredential(ctx context.Context, name string) error {
	err := s.store.RemoveCredential(ctx, name, &store.Act{Actor: actor(ctx), Action: "credential.remove", Subject: name},
		time.Now().UTC())
	if errors.Is(err, store.ErrNotFound) {
		return &UnknownError{"credential", name, "credential list"}
	}
	return err
}

// credential decrypts one that a mandate or CA names.
func (s *Ordering) credential(ctx context.Context, name string) ([]byte, error) {
	open, err := s.credentialText(ctx, name)
	if err != nil {
		return nil, err
	}
	return decodeCredential(open), nil
}

// credentialText decrypts one as it was entered.
func (s *Ordering) credentialText(ctx context.Context, name string) (safe.Secret, error) {
	v, err := s.store.Credential(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &RefusedError{fmt.Sprintf("the safe has no credential %q", name),
			"enter it: insegna credential add " + name}
	} else if err != nil {
		return nil, err
	}
	return s.safe.Decrypt(v.Encrypted, credentialPurpose(name))
}

// MandateView is a mandate with how it stands.
type MandateView struct {
	store.Mandate
	Spec      *estate.Mandate // what it asks for
	Last      *store.Order    // the last real order
	Rehearsed *store.Order    // the last rehearsal
	InForce   *store.Order    // that brought the newest certificate
	InUse     store.InUse     // where that is
	Budget    Budget          // of its CA
}

// serves says whether what is in force is for all its names, and not at its end.
func (v *MandateView) serves(now time.Time) bool {
	if v.InForce == nil {
		return false
	}
	chain, err := certs.ReadCertificates(v.InForce.Chain)
	if err != nil || len(chain) == 0 {
		return false
	}
	leaf := chain[0]
	return leaf.NotAfter.Sub(now) >= lifetime.LastMoments(leaf.NotBefore, leaf.NotAfter) &&
		!slices.ContainsFunc(v.Spec.Names, func(n string) bool { return !slices.Contains(leaf.Names(), n) })
}

// Mandates lists mandates from after a name on.
func (s *Ordering) Mandates(ctx context.Context, query, after string, limit int) ([]MandateView, error) {
	rows, err := s.store.Mandates(ctx, query, after, limit)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(rows))
	for i, m := range rows {
		ids[i] = m.ID
	}
	last, err := s.store.LatestOrders(ctx, ids, false)
	if err != nil {
		return nil, err
	}
	rehearsed, err := s.store.LatestOrders(ctx, ids, true)
	if err != nil {
		return nil, err
	}
	inForce, err := s.store.InForceHeads(ctx, ids)
	if err != nil {
		return nil, err
	}
	list := make([]MandateView, len(rows))
	for i := range rows {
		v := MandateView{Mandate: rows[i], Spec: &rows[i].Spec}
		if o, ok := last[v.ID]; ok {
			v.Last = &o
		}
		if o, ok := inForce[v.ID]; ok {
			v.InForce = &o
		}
		if o, ok := rehearsed[v.ID]; ok {
			v.Rehearsed = &o
		}
		list[i] = v
	}
	return list, s.placed(ctx, list)
}

// placed tells of each mandate where its newest certificate is.
func (s *Ordering) placed(ctx context.Context, list []MandateView) error {
	var orders []int64
	for i := range list {
		if list[i].InForce != nil {
			orders = append(orders, list[i].InForce.ID)
		}
	}
	found, err := s.store.InUse(ctx, orders)
	for i := range list {
		if list[i].InForce != nil {
			list[i].InUse = found[list[i].InForce.ID]
		}
	}
	return err
}

// Mandate gives one mandate.
func (s *Ordering) Mandate(ctx context.Context, name string) (*MandateView, error) {
	m, err := s.store.Mandate(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnknownError{"mandate", name, "mandate list"}
	} else if err != nil {
		return nil, err
	}
	v := &MandateView{Mandate: *m, Spec: &m.Spec}
	for rehearsal, into := range map[bool]**store.Order{false: &v.Last, true: &v.Rehearsed} {
		found, err := s.store.LatestOrders(ctx, []int64{m.ID}, rehearsal)
		if err != nil {
			return nil, err
		}
		if o, ok := found[m.ID]; ok {
			*into = &o
		}
	}
	inForce, err := s.store.InForce(ctx, []int64{m.ID})
	if err != nil {
		return nil, err
	}
	if o, ok := inForce[m.ID]; ok {
		v.InForce = &o
		found, err := s.store.InUse(ctx, []int64{o.ID})
		if err != nil {
			return nil, err
		}
		v.InUse = found[o.ID]
	}
	if _, ca, _, err := s.ca(ctx, m.CA); err == nil {
		v.Budget, err = s.budget(ctx, ca)
		return v, err
	}
	return v, nil
}

// AddMandate keeps a mandate written as in an estate file, or as JSON. Where it is split,
// the first of those it stands for is given back, with the names of the others.
func (s *Ordering) AddMandate(ctx context.Context, text []byte) (*MandateView, []string, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, ErrNoEstate
	} else if err != nil {
		return nil, nil, err
	}
	list, err := estate.ParseMandate(text, e)
	if err != nil {
		return nil, nil, err
	}
	if err := s.store.AddMandates(ctx, list, actor(ctx), func(m *estate.Mandate) *store.Act {
		return &store.Act{Actor: actor(ctx), Action: "mandate.add", Subject: m.Name, Detail: map[string]any{"names": m.Names, "ca": m.CA}}
	}, time.Now().UTC()); err != nil {
		return nil, nil, err
	}
	var also []string
	for _, m := range list[1:] {
		also = append(also, m.Name)
	}
	v, err := s.Mandate(ctx, list[0].Name)
	return v, also, err
}

// RemoveMandate ends a mandate that was made here. One whose certificate is still
// used is removed only when that is agreed to: nobody renews it then.
func (s *Ordering) RemoveMandate(ctx context.Context, name string, used bool) error {
	if !used {
		m, err := s.Mandate(ctx, name)
		if err != nil {
			return err
		}
		if where := m.InUse.String(); where != "" && m.Generation == nil {
			return &StillUsedError{name, where}
		}
	}
	err := s.store.RemoveMandate(ctx, name, &store.Act{Actor: actor(ctx), Action: "mandate.remove", Subject: name},
		time.Now().UTC())
	if errors.Is(err, store.ErrNotFound) {
		return &UnknownError{"mandate", name, "mandate list"}
	}
	return err
}

// NameMandate gives a mandate that was made here other names; the next order is for
// these.
func (s *Ordering) NameMandate(ctx context.Context, name string, names []string) error {
	err := s.store.NameMandate(ctx, name, names, &store.Act{Actor: actor(ctx), Action: "mandate.names", Subject: name,
		Detail: map[string]any{"names": names}}, time.Now().UTC())
	if errors.Is(err, store.ErrNotFound) {
		return &UnknownError{"mandate", name, "mandate list"}
	}
	return err
}

// StillUsedError says that a mandate's certificate is still used.
type StillUsedError struct{ Mandate, Where string }

// Error says where, and what removing the mandate means.
func (e *StillUsedError) Error() string {
	return fmt.Sprintf("the certificate of %s is still used: %s; without the mandate nobody renews it", e.Mandate, e.Where)
}

// Told implements fault.Error.
func (e *StillUsedError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "Still used",
		Next: "install another certificate there first, or agree to it: insegna mandate remove " + e.Mandate + " --yes"}
}

// anchorsFor are what a certificate of a CA may end at.
func anchorsFor(e *estate.Estate, ca *estate.CA) []*certs.Certificate {
	list := slices.Clone(ca.Anchors)
	for _, a := range e.Audiences {
		list = append(list, a.Anchors...)
	}
	return list
}
