package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"math/big"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/maypok86/otter/v2"

	"insegna.example/internal/core/authority"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/names"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/issue"
	"insegna.example/internal/issue/ownsource"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
)

// Issuing is the room of CAs of one's own: their keys, what they issue and what they
// publish.
type Issuing struct {
	base
	declaring *Declaring                     // knows their profiles
	safe      *safe.Safe                     // keeps their keys
	signers   *otter.Cache[int64, *signing]  // by number of the authority, for a while
	answers   *otter.Cache[string, *answer]  // of OCSP, by what was asked
	known     *otter.Cache[string, []*inUse] // the certificates of a CA, by its name
	paths     *chain.Builder                 // judges what is issued
	own       *ownPairs                      // what its listener for ACME shows
}

// signing is an authority with its key open.
type signing struct {
	authority.Signer
	row *store.Authority
}

// inUse is one certificate of a CA, read.
type inUse struct {
	store.Authority
	certificate *certs.Certificate
}

// answer is a signed OCSP answer.
type answer struct {
	der  []byte
	next time.Time // when another one is signed
}

// How long what is read of authorities is kept: what another process changes shows by
// then.
const authoritiesKept = 30 * time.Second

// newIssuing makes the room.
func newIssuing(b base, d *Declaring, kept *safe.Safe) *Issuing {
	return &Issuing{base: b, declaring: d, safe: kept, paths: chain.NewBuilder(chain.NewKnown()), own: &ownPairs{pairs: map[string]*tls.Certificate{}},
		signers: otter.Must(&otter.Options[int64, *signing]{MaximumSize: 100, ExpiryCalculator: otter.ExpiryWriting[int64, *signing](authoritiesKept)}),
		answers: otter.Must(&otter.Options[string, *answer]{MaximumSize: 200_000, ExpiryCalculator: otter.ExpiryWriting[string, *answer](authoritiesKept)}),
		known:   otter.Must(&otter.Options[string, []*inUse]{MaximumSize: 1000, ExpiryCalculator: otter.ExpiryWriting[string, []*inUse](authoritiesKept)})}
}

// authorityPurpose binds the ciphertext of a key to its authority.
func authorityPurpose(id int64) string { return fmt.Sprintf("authority key %d", id) }

// AuthorityView is one certificate of a CA of one's own.
type AuthorityView struct {
	*store.Authority
	Parsed *certs.Certificate
}

// Authorities gives the certificates of a CA of one's own, those in force first.
func (s *Issuing) Authorities(ctx context.Context, ca string) ([]AuthorityView, error) {
	rows, err := s.store.Authorities(ctx, ca)
	if err != nil {
		return nil, err
	}
	list := make([]AuthorityView, len(rows))
	for i := range rows {
		list[i].Authority = &rows[i]
		if list[i].Parsed, err = certs.Parse(rows[i].Certificate); err != nil {
			return nil, err
		}
	}
	return list, nil
}

// of gives the certificates of a CA, read a moment ago.
func (s *Issuing) of(ctx context.Context, ca string) ([]*inUse, error) {
	if list, ok := s.known.GetIfPresent(ca); ok {
		return list, nil
	}
	rows, err := s.store.Authorities(ctx, ca)
	if err != nil {
		return nil, err
	}
	list := make([]*inUse, len(rows))
	for i := range rows {
		c, err := certs.Parse(rows[i].Certificate)
		if err != nil {
			return nil, err
		}
		list[i] = &inUse{rows[i], c}
	}
	s.known.Set(ca, list)
	return list, nil
}

// forget has everything that was read of authorities read anew.
func (s *Issuing) forget() {
	s.signers.InvalidateAll()
	s.answers.InvalidateAll()
	s.known.InvalidateAll()
}

// MakeCA says what a CA of one's own is to be.
type MakeCA struct {
	Name         string
	Organization string        // in the names of its certificates
	Country      string        // likewise; two letters
	Key          string        // kind of both keys; "" for ecdsa-p384
	RootLife     time.Duration // 0 for ten years
	IssuingLife  time.Duration // 0 for three years
	Permitted    []string      // names it may ever issue for; any where empty
	Passphrase   *secret       // the root's key is handed out under it, and not kept; nil keeps it in the safe
}

// rootPath is how many CAs may stand below a root: what issues, and the root after it
// while this one vouches for that.
const rootPath = 2

// Lives of a CA's certificates where nothing is said, and of any.
const (
	usualRootLife    = 10 * 365 * 24 * time.Hour
	usualIssuingLife = 3 * 365 * 24 * time.Hour
	longestCALife    = 30 * 365 * 24 * time.Hour
)

// MakeCA makes a root and a CA below it that issues. Where the root's key is not to be
// kept, it is given, encrypted, and there is no other copy.
func (s *Issuing) MakeCA(ctx context.Context, m *MakeCA) ([]AuthorityView, []byte, error) {
	if !credentialName.MatchString(m.Name) {
		return nil, nil, &MaterialError{fmt.Sprintf("%q is no name for a CA", m.Name), "use letters, digits, dot, dash or underscore"}
	}
	now := time.Now().UTC()
	root := &authority.Authority{Subject: s.subject(m, "Root", now), From: now.Add(-time.Hour), Until: now.Add(cmp.Or(m.RootLife, usualRootLife)), PathLength: rootPath}
	below := &authority.Authority{Subject: s.subject(m, "Issuing", now), From: root.From, Until: now.Add(cmp.Or(m.IssuingLife, usualIssuingLife))}
	for _, life := range []time.Duration{root.Until.Sub(now), below.Until.Sub(now)} {
		if life < 24*time.Hour || life > longestCALife {
			return nil, nil, &MaterialError{fmt.Sprintf("a CA's certificate of %d days", int(life.Hours()/24)), "give from 1 to 10,950 days"}
		}
	}
	for _, p := range m.Permitted {
		name, err := constraint(p)
		if err != nil {
			return nil, nil, err
		}
		root.Permitted = append(root.Permitted, name)
	}
	if list, err := s.store.Authorities(ctx, m.Name); err != nil {
		return nil, nil, err
	} else if len(list) > 0 {
		return nil, nil, store.ErrAuthorityThere
	}
	made, err := s.makePair(m, root, below)
	if err != nil {
		return nil, nil, err
	}
	defer made.wipe()
	var handed []byte
	if m.Passphrase != nil {
		w := certs.Written{Form: certs.FormPEM, Passphrase: append([]byte{}, *m.Passphrase...)}
		if handed, err = w.Key(made.rootKey, rand.Reader); err != nil {
			return nil, nil, err
		}
		made.keys[0] = nil
	}
	act := &store.Act{Actor: actor(ctx), Action: "ca.make", Subject: m.Name, Detail: map[string]any{"root": made.print(0), "issuing": made.print(1),
		"root key kept": m.Passphrase == nil, "permitted": root.Permitted}}
	if err := s.keep(ctx, m.Name, made, false, act); err != nil {
		return nil, nil, err
	}
	list, err := s.Authorities(ctx, m.Name)
	return list, handed, err
}

// constraint reads a name a CA is confined to.
func constraint(text string) (string, error) {
	if _, err := names.Alternative(text); err == nil && names.FormOf(text) == names.DNS && !strings.HasPrefix(text, "*.") {
		return strings.ToLower(text), nil
	}
	if within, err := netip.ParsePrefix(text); err == nil {
		return within.Masked().String(), nil
	}
	return "", &MaterialError{fmt.Sprintf("%q is nothing a CA can be confined to", text),
		"give a domain, which stands for all names below it as well, or a range of addresses such as 10.20.0.0/16"}
}

// subject names a certificate of a CA; the year tells apart what comes later.
func (s *Issuing) subject(m *MakeCA, role string, now time.Time) pkix.Name {
	n := subjectOf(&estate.Subject{Organization: m.Organization, Country: m.Country})
	n.CommonName = fmt.Sprintf("%s %s %d", m.Name, role, now.Year())
	return n
}

// pairMade are a root and what is below it, with their keys.
type pairMade struct {
	rows    []*store.Authority
	keys    [][]byte // PKCS#8; nil for one that is not kept
	rootKey crypto.Signer
}

// wipe forgets the keys.
func (p *pairMade) wipe() {
	for _, k := range p.keys {
		clear(k)
	}
}

// print is a fingerprint for the journal.
func (p *pairMade) print(i int) string { return certs.FingerprintOf(p.rows[i].Certificate).String() }

// usualCAKey is the kind of a CA's keys where nothing is said.
const usualCAKey = "ecdsa-p384"

// makePair makes both keys and signs both certificates.
func (s *Issuing) makePair(m *MakeCA, root, below *authority.Authority) (*pairMade, error) {
	rootKey, err := issue.NewKey(cmp.Or(m.Key, usualCAKey))
	if err != nil {
		return nil, &MaterialError{err.Error(), "choose one of " + strings.Join(estate.KeyKinds, ", ")}
	}
	key, err := issue.NewKey(cmp.Or(m.Key, usualCAKey))
	if err != nil {
		return nil, err
	}
	out := &pairMade{rootKey: rootKey}
	rootDER, err := root.Root(rootKey, rand.Reader)
	if err != nil {
		return nil, err
	}
	parsed, err := x509.ParseCertificate(rootDER)
	if err != nil {
		return nil, err
	}
	belowDER, err := below.Below(&authority.Signer{Certificate: parsed, Key: rootKey}, key.Public(), rand.Reader)
	if err != nil {
		return nil, err
	}
	for i, k := range []crypto.Signer{rootKey, key} {
		der, err := x509.MarshalPKCS8PrivateKey(k)
		if err != nil {
			return nil, err
		}
		out.keys = append(out.keys, der)
		out.rows = append(out.rows, &store.Authority{Role: []string{store.RootCA, store.IssuingCA}[i], Certificate: [][]byte{rootDER, belowDER}[i]})
	}
	return out, nil
}

// keep stores a CA's certificates with their keys.
func (s *Issuing) keep(ctx context.Context, ca string, p *pairMade, retire bool, act *store.Act) error {
	now := time.Now().UTC()
	for _, r := range p.rows {
		r.CA, r.MadeBy, r.MadeAt = ca, actor(ctx), now
	}
	defer s.forget()
	return s.store.AddAuthorities(ctx, p.rows, retire, func(i int, id int64) ([]byte, error) {
		if p.keys[i] == nil {
			return nil, nil
		}
		return s.safe.Encrypt(secret(p.keys[i]), authorityPurpose(id))
	}, act)
}

// TakeCA takes an existing CA in: its issuing certificate with its key, and what
// stands above it. The root's key stays where it is.
func (s *Issuing) TakeCA(ctx context.Context, name string, in *TakeIn) ([]AuthorityView, error) {
	m, err := in.read()
	if err != nil {
		return nil, err
	}
	pair, err := m.Pair(in.Which)
	var unpaired *certs.PairError
	if errors.As(err, &unpaired) {
		return nil, &MaterialError{unpaired.Reason, unpaired.Next}
	} else if err != nil {
		return nil, err
	}
	leaf := pair.Leaf
	now := time.Now()
	switch {
	case !credentialName.MatchString(name):
		return nil, &MaterialError{fmt.Sprintf("%q is no name for a CA", name), "use letters, digits, dot, dash or underscore"}
	case !leaf.IsCA || leaf.KeyUsage&x509.KeyUsageCertSign == 0:
		return nil, &MaterialError{fmt.Sprintf("the certificate of %s is not a CA's: it may sign none", leaf.CommonName()),
			"give a CA's certificate with its key; a server's is taken in with: insegna certificate take"}
	case !leaf.NotAfter.After(now):
		return nil, &MaterialError{fmt.Sprintf("the CA's certificate ended on %s", instant(leaf.NotAfter)), "give one that is in its dates"}
	}
	root := leaf
	for _, c := range pair.Others {
		if c.SelfSigned() && c.SubjectDN == leaf.IssuerDN && leaf.CheckSignatureFrom(c.Certificate) == nil {
			root = c
		}
	}
	if root == leaf && !leaf.SelfSigned() {
		return nil, &MaterialError{fmt.Sprintf("the root %s above it is not there", leaf.IssuerName()), "give the root's certificate as well; its key is not needed"}
	}
	key, err := x509.MarshalPKCS8PrivateKey(pair.Key)
	if err != nil {
		return nil, err
	}
	made := &pairMade{rows: []*store.Authority{{Role: store.RootCA, Certificate: root.Raw}, {Role: store.IssuingCA, Certificate: leaf.Raw}}, keys: [][]byte{nil, key}}
	defer made.wipe()
	if err := s.keep(ctx, name, made, false, &store.Act{Actor: actor(ctx), Action: "ca.take", Subject: name,
		Detail: map[string]any{"root": made.print(0), "issuing": made.print(1)}}); err != nil {
		return nil, err
	}
	return s.Authorities(ctx, name)
}

// signer opens the CA that issues for a name.
func (s *Issuing) signer(ctx context.Context, ca string) (*signing, error) {
	list, err := s.of(ctx, ca)
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(list, func(a *inUse) bool { return a.Role == store.IssuingCA && a.RetiredAt == nil })
	if at < 0 {
		return nil, &RefusedError{fmt.Sprintf("the CA %s has not been made yet", ca), "make it: insegna ca make " + ca + "; or take an existing one in: insegna ca take " + ca + " FILE..."}
	}
	return s.open(list[at])
}

// open opens the key of an authority, and keeps it open for a while.
func (s *Issuing) open(a *inUse) (*signing, error) {
	if v, ok := s.signers.GetIfPresent(a.ID); ok {
		return v, nil
	}
	if a.Encrypted == nil {
		return nil, &RefusedError{fmt.Sprintf("the key of %s is not in the safe", a.certificate.CommonName()), "take the CA in with its key: insegna ca take " + a.CA + " FILE..."}
	}
	der, err := s.safe.Decrypt(a.Encrypted, authorityPurpose(a.ID))
	if err != nil {
		return nil, err
	}
	defer clear(der)
	key, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return nil, errors.New("a CA's key cannot be read")
	}
	v := &signing{authority.Signer{Certificate: a.certificate.Certificate, Key: key.(crypto.Signer)}, &a.Authority}
	s.signers.Set(a.ID, v)
	return v, nil
}

// chain is what servers send behind what an authority issues: itself, and where the
// root is new, the new root as the former one vouches for it.
func (s *Issuing) chain(ctx context.Context, ca string) (list, roots []*certs.Certificate, err error) {
	all, err := s.of(ctx, ca)
	for _, a := range all {
		switch {
		case a.Role == store.RootCA:
			roots = append(roots, a.certificate)
		case a.RetiredAt != nil, a.Role == store.IssuingCA && a.certificate.SelfSigned():
		case a.Role == store.IssuingCA:
			list = append([]*certs.Certificate{a.certificate}, list...)
		case a.Role == store.CrossCA:
			list = append(list, a.certificate)
		}
	}
	return list, roots, err
}

// Roots gives the roots of a CA of one's own, for machines to trust: the one in force
// first.
func (s *Issuing) Roots(ctx context.Context, ca string) ([]*certs.Certificate, error) {
	_, roots, err := s.chain(ctx, ca)
	if err == nil && len(roots) == 0 {
		err = &UnknownError{"CA of your own", ca, "ca list"}
	}
	return roots, err
}

// addresses are what certificates say of where things are published.
func addresses(ca *estate.CA, id int64) authority.Addresses {
	at := ca.Private.Publish
	if at == "" {
		return authority.Addresses{}
	}
	base := fmt.Sprintf("%s/pki/%s/%d", at, url.PathEscape(ca.Name), id)
	return authority.Addresses{CRL: base + "/list.crl", OCSP: base + "/ocsp", Issuer: base + "/issuer.der"}
}

// Wish is what is asked of a CA of one's own.
type Wish struct {
	Names   []string
	Subject pkix.Name
	Public  crypto.PublicKey
	Staple  bool
	Profile string // "" for the first
}

// ProfileError says what a profile does not allow.
type ProfileError struct{ CA, Profile, Reason string }

// Error names the profile.
func (e *ProfileError) Error() string {
	return fmt.Sprintf("the profile %s of %s does not allow it: %s", e.Profile, e.CA, e.Reason)
}

// within holds a wish against a profile of its CA.
func (w *Wish) within(ca *estate.CA, role Role) (*estate.Profile, error) {
	p := ca.Private.Profile(w.Profile)
	if p == nil {
		return nil, &UnknownError{"profile of " + ca.Name, w.Profile, "ca show " + ca.Name}
	}
	refuse := func(format string, args ...any) error {
		return &ProfileError{ca.Name, p.Name, fmt.Sprintf(format, args...)}
	}
	if !role.Includes(Role(p.AtLeast)) {
		return nil, refuse("it is for the role %s and above", p.AtLeast)
	}
	if len(w.Names) == 0 {
		return nil, refuse("no name is asked for")
	}
	for _, n := range w.Names {
		if !p.Allows(n) {
			return nil, refuse("%s is none of %s", n, strings.Join(p.Names, ", "))
		}
	}
	if k, ok := w.Public.(*rsa.PublicKey); ok && k.N.BitLen() < 2048 {
		return nil, refuse("an RSA key of %d bits is too weak; 2,048 are the least", k.N.BitLen())
	}
	allowed := p.Keys
	if len(allowed) == 0 {
		allowed = estate.KeyKinds
	}
	if kind := kindOfPublic(w.Public); !slices.Contains(allowed, kind) {
		return nil, refuse("its key is of the kind %s; expected one of %s", kind, strings.Join(allowed, ", "))
	}
	return p, nil
}

// kindOfPublic is the kind of a key in words of the estate file, or in others for one it
// has no word for. An RSA key counts as the longest kind that is no longer than it.
func kindOfPublic(key crypto.PublicKey) string {
	switch k := key.(type) {
	case *rsa.PublicKey:
		for _, bits := range []int{4096, 3072, 2048} {
			if k.N.BitLen() >= bits {
				return fmt.Sprintf("rsa-%d", bits)
			}
		}
		return fmt.Sprintf("rsa-%d", k.N.BitLen())
	case *ecdsa.PublicKey:
		return fmt.Sprintf("ecdsa-p%d", k.Curve.Params().BitSize)
	case ed25519.PublicKey:
		return "ed25519"
	}
	return fmt.Sprintf("%T", key)
}

// issue signs a certificate and keeps it before it is given to anybody.
func (s *Issuing) issue(ctx context.Context, ca *estate.CA, w *Wish, p *estate.Profile, order *int64, act *store.Act) (*certs.Certificate, error) {
	return s.issueAs(ctx, ca, w, p, &store.Issued{OrderID: order, By: actor(ctx)}, act)
}

// issueAs signs a certificate and keeps it as that of who has ordered it, or gives what
// that order had before.
func (s *Issuing) issueAs(ctx context.Context, ca *estate.CA, w *Wish, p *estate.Profile, row *store.Issued, act *store.Act) (*certs.Certificate, error) {
	by, err := s.signer(ctx, ca.Name)
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	wish := &authority.Wish{Names: w.Names, Public: w.Public, From: now.Add(-5 * time.Minute), Until: now.AddDate(0, 0, p.Days), Usages: p.Usages,
		Staple: w.Staple, Addresses: addresses(ca, by.row.ID)}
	if p.Subject {
		wish.Subject = w.Subject
	}
	der, err := authority.Issue(wish, &by.Signer, rand.Reader)
	if errors.Is(err, authority.ErrShort) {
		return nil, &RefusedError{fmt.Sprintf("the certificate of %s ends on %s", by.Certificate.Subject.CommonName, instant(by.Certificate.NotAfter)),
			"make another CA under another name, and move its mandates there: insegna ca make NAME"}
	} else if err != nil {
		return nil, err
	}
	c, err := certs.Parse(der)
	if err != nil {
		return nil, err
	}
	if err := s.stands(ctx, ca.Name, p.Name, c, by, now); err != nil {
		return nil, err
	}
	row.AuthorityID, row.Serial, row.Der, row.Names, row.Profile = by.row.ID, c.SerialNumber.Bytes(), der, issue.AllNames(c), p.Name
	row.NotAfter, row.At = c.NotAfter.UTC(), now
	if err := s.store.KeepIssued(ctx, row, act); err != nil {
		return nil, err
	}
	if !bytes.Equal(row.Der, der) { // that order had another before
		return certs.Parse(row.Der)
	}
	return c, nil
}

// stands refuses what its own CA's certificates do not allow, such as a name outside
// those it is confined to (RFC 5280 section 4.2.1.10), before it exists for anybody.
// That by has signed it was seen when it was made.
func (s *Issuing) stands(ctx context.Context, ca, profile string, c *certs.Certificate, by *signing, now time.Time) error {
	list, roots, err := s.chain(ctx, ca)
	if err != nil {
		return err
	}
	find := s.paths.Build
	if len(list) > 0 && bytes.Equal(list[0].Raw, by.Certificate.Raw) {
		find = func(served []*certs.Certificate, a *trust.Audience, _ ...*certs.Certificate) *chain.Result {
			return s.paths.Issued(served, a)
		}
	}
	result := find(append([]*certs.Certificate{c}, list...), trust.NewAudience(ca, false, roots))
	if result.Best(now) != nil {
		return nil
	}
	why := "its chain leads nowhere"
	if failures := result.Why(now); len(failures) > 0 {
		why = failures[0].String()
	}
	return &ProfileError{ca, profile, why}
}

// signRequest issues from a request somebody gave; its key is theirs.
func (s *Issuing) signRequest(ctx context.Context, ca *estate.CA, request []byte, profile string) (*certs.Certificate, []*certs.Certificate, error) {
	m := &certs.Material{}
	if err := m.Read("the request", request, nil); err != nil {
		return nil, nil, &MaterialError{err.Error(), "give a certificate request (PKCS#10) in PEM or DER"}
	}
	if len(m.Requests) != 1 {
		return nil, nil, &MaterialError{fmt.Sprintf("there are %d certificate requests in it", len(m.Requests)), "give one certificate request (PKCS#10) in PEM or DER"}
	}
	r := m.Requests[0]
	if err := r.CheckSignature(); err != nil {
		return nil, nil, &MaterialError{"the request is not signed by its own key: " + err.Error(), "make the request anew with the key it is for"}
	}
	w := &Wish{Subject: r.Subject, Public: r.PublicKey, Profile: profile, Names: slices.Concat(r.DNSNames, r.EmailAddresses)}
	for _, a := range r.IPAddresses {
		w.Names = append(w.Names, a.String())
	}
	for _, u := range r.URIs {
		w.Names = append(w.Names, u.String())
	}
	for i, n := range w.Names {
		name, err := names.Alternative(n)
		if err != nil {
			return nil, nil, &MaterialError{err.Error(), "make the request anew with names that can be issued for"}
		}
		w.Names[i] = name
	}
	p, err := w.within(ca, CallerOf(ctx).role())
	var profiled *ProfileError
	if errors.As(err, &profiled) {
		return nil, nil, &MaterialError{profiled.Error(), "ask for what the profile allows, or choose another profile"}
	} else if err != nil {
		return nil, nil, err
	}
	c, err := s.issue(ctx, ca, w, p, nil, &store.Act{Actor: actor(ctx), Action: "ca.issue", Subject: ca.Name, Detail: map[string]any{"names": w.Names, "profile": p.Name}})
	if errors.As(err, &profiled) {
		return nil, nil, &MaterialError{profiled.Error(), "ask for names this CA may issue for"}
	} else if err != nil {
		return nil, nil, err
	}
	chain, _, err := s.chain(ctx, ca.Name)
	return c, chain, err
}

// RevokeIssued revokes a certificate a CA of one's own has issued, by serial in hexadecimal.
func (s *Issuing) RevokeIssued(ctx context.Context, ca, serial, reason string) error {
	code, ok := authority.Reasons[reason]
	if !ok {
		return &MaterialError{fmt.Sprintf("%q is no reason", reason), "give one of unspecified, keyCompromise, affiliationChanged, superseded, cessationOfOperation, privilegeWithdrawn"}
	}
	raw, err := hex.DecodeString(strings.ReplaceAll(strings.ToLower(serial), ":", ""))
	if err != nil || len(raw) == 0 {
		return &MaterialError{fmt.Sprintf("%q is no serial number", serial), "give it in hexadecimal, as insegna ca issued " + ca + " shows it"}
	}
	err = s.store.Revoke(ctx, ca, new(big.Int).SetBytes(raw).Bytes(), code, time.Now().UTC(), &store.Act{Actor: actor(ctx), Action: "ca.revoke", Subject: ca,
		Detail: map[string]any{"serial": serial, "reason": reason}})
	if errors.Is(err, store.ErrNotFound) {
		return &UnknownError{"certificate of " + ca + " with the serial number", serial, "ca issued " + ca}
	}
	s.answers.InvalidateAll()
	return err
}

// IssuedBy lists what a CA of one's own has issued, the newest first.
func (s *Issuing) IssuedBy(ctx context.Context, ca string, page store.Page) ([]store.Issued, *string, error) {
	if _, err := s.Roots(ctx, ca); err != nil {
		return nil, nil, err
	}
	return s.store.IssuedBy(ctx, ca, page)
}

// Lives of what is published: a list is signed anew at half of its life, an answer at
// half of its own.
const (
	listLife   = 24 * time.Hour
	answerLife = 4 * time.Hour
)

// authorityOf finds a certificate of a CA by its number.
func (s *Issuing) authorityOf(ctx context.Context, ca string, id int64) (*inUse, error) {
	list, err := s.of(ctx, ca)
	if err != nil {
		return nil, err
	}
	for _, a := range list {
		if a.ID == id {
			return a, nil
		}
	}
	return nil, store.ErrNotFound
}

// IssuerOf gives a certificate of a CA by its number, in DER.
func (s *Issuing) IssuerOf(ctx context.Context, ca string, id int64) ([]byte, error) {
	a, err := s.authorityOf(ctx, ca, id)
	if err != nil {
		return nil, err
	}
	return a.Authority.Certificate, nil
}

// RevocationList gives the revocation list of an authority (RFC 5280 section 5).
func (s *Issuing) RevocationList(ctx context.Context, ca string, id int64) ([]byte, error) {
	a, err := s.authorityOf(ctx, ca, id)
	if err != nil {
		return nil, err
	}
	if a.Role != store.IssuingCA {
		return nil, store.ErrNotFound
	}
	by, err := s.open(a)
	if err != nil {
		return nil, err
	}
	now := time.Now().UTC()
	return s.store.Relist(ctx, id, now.Add(-listLife/2), now, func(number int64, rows []store.Issued) ([]byte, error) {
		list := make([]authority.Revoked, len(rows))
		for i, r := range rows {
			list[i] = authority.Revoked{Serial: new(big.Int).SetBytes(r.Serial), At: r.RevokedAt.UTC(), Reason: r.Reason}
		}
		return by.List(list, number, now, now.Add(listLife), rand.Reader)
	})
}

// AnswerOCSP answers an OCSP request about what an authority has issued (RFC 6960).
func (s *Issuing) AnswerOCSP(ctx context.Context, ca string, id int64, request []byte) ([]byte, error) {
	q, err := authority.ParseQuestion(request)
	if err != nil {
		return authority.Malformed, nil //nolint:nilerr // told in the protocol's own words
	}
	now := time.Now().UTC()
	key := fmt.Sprintf("%s/%d/%s", ca, id, q.Key())
	if v, ok := s.answers.GetIfPresent(key); ok && now.Before(v.next) {
		return v.der, nil
	}
	a, err := s.authorityOf(ctx, ca, id)
	if err != nil {
		return nil, err
	}
	by, err := s.open(a)
	if err != nil {
		return nil, err
	}
	if a.Role != store.IssuingCA || !q.Asks(&by.Signer) {
		return authority.Unauthorized, nil
	}
	row, err := s.store.IssuedBySerial(ctx, id, q.Serial.Bytes())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	var revoked *authority.Revoked
	if err == nil && row.RevokedAt != nil {
		revoked = &authority.Revoked{At: row.RevokedAt.UTC(), Reason: row.Reason}
	}
	der, err := by.Answer(q, err == nil, revoked, now, now.Add(answerLife))
	if err != nil {
		return nil, err
	}
	s.answers.Set(key, &answer{der, now.Add(answerLife / 2)})
	return der, nil
}

// privateSource makes the way over a CA of one's own.
func (s *Ordering) privateSource(ctx context.Context, a *asked) (issue.Source, error) {
	if a.row.Rehearsal {
		return &ownsource.Self{}, nil // nothing is issued in its name
	}
	chain, roots, err := s.issuing.chain(ctx, a.ca.Name)
	if err != nil {
		return nil, err
	}
	return &ownsource.Private{Root: roots, Issue: func(ctx context.Context, o *issue.Order) ([]byte, error) {
		leaf, err := s.issueFor(ctx, a, o)
		var refused *RefusedError
		var profiled *ProfileError
		switch {
		case errors.As(err, &refused):
			return nil, &issue.Failure{Kind: "refused", Words: refused.Reason, Advice: refused.Next}
		case errors.As(err, &profiled):
			return nil, &issue.Failure{Kind: "refused", Words: profiled.Error(), Advice: "change the mandate, or the profile in the estate file"}
		case err != nil:
			return nil, err
		}
		out := certs.PEM(leaf.Raw)
		for _, c := range chain {
			out = append(out, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: c.Raw})...)
		}
		return out, nil
	}}, nil
}

// issueFor issues for an order, or gives what was issued for it before.
func (s *Ordering) issueFor(ctx context.Context, a *asked, o *issue.Order) (*certs.Certificate, error) {
	had, err := s.store.IssuedFor(ctx, o.ID)
	if err == nil {
		return certs.Parse(had.Der)
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	r, err := x509.ParseCertificateRequest(o.Request)
	if err != nil {
		return nil, err
	}
	w := &Wish{Names: o.Names, Subject: o.Subject, Public: r.PublicKey, Staple: o.Staple, Profile: a.spec.Profile}
	p, err := w.within(a.ca, Admin) // who began it was asked then
	if err != nil {
		return nil, err
	}
	return s.issuing.issue(ctx, a.ca, w, p, &o.ID, nil)
}

// SignFor issues from a request somebody gave.
func (s *Issuing) SignFor(ctx context.Context, name string, request []byte, profile string) (*certs.Certificate, []*certs.Certificate, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, ErrNoEstate
	} else if err != nil {
		return nil, nil, err
	}
	ca := e.CA(name)
	switch {
	case ca == nil:
		return nil, nil, &UnknownError{"CA", name, "ca list"}
	case ca.Private == nil:
		return nil, nil, &RefusedError{fmt.Sprintf("%s is asked by %s: it is no CA of your own", name, ca.By), "send the request to it"}
	}
	return s.signRequest(ctx, ca, request, profile)
}
