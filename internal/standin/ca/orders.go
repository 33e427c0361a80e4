package ca

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/base64"
	"fmt"
	"math/big"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// newOrder makes a new order of every request (section 7.4): a pending one for
// the same names is not handed out again, as many CAs do not.
func (a *CA) newOrder(w http.ResponseWriter, q *request) error {
	var body struct {
		Identifiers []identifier `json:"identifiers"`
		NotBefore   string       `json:"notBefore"`
		NotAfter    string       `json:"notAfter"`
		Replaces    string       `json:"replaces"`
		Profile     string       `json:"profile"`
	}
	if err := q.read(&body); err != nil {
		return err
	}
	if wait := a.Faults.get().Limited; wait > 0 {
		p := refuse(429, "rateLimited", "too many certificates already issued for this set of names")
		p.retryAfter = wait
		return p
	}
	a.mu.Lock()
	disputed := a.disputed[q.account.url]
	a.mu.Unlock()
	if disputed {
		p := refuse(403, "userActionRequired", "the terms of service have changed")
		p.Instance = a.base + "/agreement"
		return p
	}
	if len(body.Identifiers) == 0 || len(body.Identifiers) > 100 {
		return refuse(400, "malformed", "an order has 1 to 100 identifiers")
	}
	if body.NotBefore != "" || body.NotAfter != "" {
		return refuse(400, "malformed", "notBefore and notAfter are not for an order to say")
	}
	if _, offered := a.Profiles[body.Profile]; body.Profile != "" && !offered {
		return refuse(400, "invalidProfile", "there is no profile %q", body.Profile)
	}
	if p := refusedNames(body.Identifiers); p != nil {
		return p
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if body.Replaces != "" {
		if err := a.mayReplace(q.account, body.Replaces); err != nil {
			return err
		}
	}
	o := &order{path: a.path("order"), by: q.account, names: body.Identifiers,
		expires: time.Now().Add(7 * 24 * time.Hour), replaces: body.Replaces, profile: body.Profile, status: "pending"}
	for _, n := range o.names {
		o.auths = append(o.auths, a.authorize(q.account, n))
	}
	a.objects[o.path] = o
	q.account.orders = append(q.account.orders, o.path)
	w.Header().Set("Location", a.base+o.path)
	reply(w, 201, "application/json", a.orderDoc(o))
	return nil
}

// refusedNames says which names no certificate is given for, each in a
// subproblem of its own (RFC 8555 section 6.7.1); nil when all may be asked for.
func refusedNames(names []identifier) *problem {
	var bad []*problem
	for i, n := range names {
		if n.Type == "ip" { // RFC 8738
			if addr, err := netip.ParseAddr(n.Value); err != nil || addr.String() != n.Value || addr.Zone() != "" {
				bad = append(bad, &problem{Type: "urn:ietf:params:acme:error:malformed", Detail: "not an address as RFC 5952 writes it",
					Status: 400, Identifier: &names[i]})
			}
		} else if n.Type != "dns" {
			bad = append(bad, &problem{Type: "urn:ietf:params:acme:error:unsupportedIdentifier", Detail: "only dns and ip identifiers",
				Status: 400, Identifier: &names[i]})
		} else if !goodName(n.Value) {
			bad = append(bad, &problem{Type: "urn:ietf:params:acme:error:rejectedIdentifier",
				Detail: "not a name a certificate can be issued for", Status: 400, Identifier: &names[i]})
		}
	}
	if len(bad) == 0 {
		return nil
	}
	p := refuse(400, "rejectedIdentifier", "some of the names cannot be issued for")
	p.Subproblems = bad
	return p
}

// goodName takes lower-case host names of two labels or more, and wildcards.
func goodName(name string) bool {
	name = strings.TrimPrefix(name, "*.")
	labels := strings.Split(name, ".")
	if len(name) > 253 || len(labels) < 2 {
		return false
	}
	for _, l := range labels {
		if l == "" || len(l) > 63 || strings.Trim(l, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" || l[0] == '-' ||
			l[len(l)-1] == '-' {
			return false
		}
	}
	return true
}

// authorize gives a valid authorization again for as long as Reuse says, else
// a new one; the caller holds the lock.
func (a *CA) authorize(by *account, n identifier) *authorization {
	value, wildcard := strings.CutPrefix(n.Value, "*.")
	if a.Reuse > 0 {
		for _, o := range a.objects {
			if old, ok := o.(*authorization); ok && old.by == by && old.name.Value == value && old.wildcard == wildcard &&
				old.status == "valid" && time.Now().Before(old.expires) {
				return old
			}
		}
	}
	z := &authorization{path: a.path("authz"), by: by, name: identifier{n.Type, value}, wildcard: wildcard,
		status: "pending", expires: time.Now().Add(24 * time.Hour)}
	kinds := []string{"http-01", "tls-alpn-01", "dns-01"}
	switch {
	case wildcard:
		kinds = kinds[2:]
	case n.Type == "ip": // RFC 8738 section 7
		kinds = kinds[:2]
	}
	for _, kind := range kinds {
		token := make([]byte, 32)
		_, _ = rand.Read(token)
		c := &challenge{path: a.path("chall"), kind: kind, token: base64.RawURLEncoding.EncodeToString(token),
			status: "pending", of: z}
		a.objects[c.path] = c
		z.challenges = append(z.challenges, c)
	}
	a.objects[z.path] = z
	return z
}

// state works out how an order stands from its authorizations (section 7.1.6).
func (o *order) state() string {
	if o.status != "pending" {
		return o.status
	}
	all := "ready"
	for _, z := range o.auths {
		switch {
		case z.status == "invalid" || z.status == "deactivated":
			return "invalid"
		case z.status == "pending":
			all = "pending"
		}
	}
	return all
}

// orderDoc shows an order with what its authorizations failed of.
func (a *CA) orderDoc(o *order) map[string]any {
	urls := make([]string, len(o.auths))
	var failed []*problem
	for i, z := range o.auths {
		urls[i] = a.base + z.path
		for _, c := range z.challenges {
			if c.problem != nil && z.status == "invalid" {
				p := *c.problem
				p.Identifier = &z.name
				failed = append(failed, &p)
			}
		}
	}
	doc := map[string]any{"status": o.state(), "expires": o.expires.UTC().Format(time.RFC3339), "identifiers": o.names,
		"authorizations": urls, "finalize": a.base + o.path + "/finalize"}
	if o.problem != nil {
		doc["error"] = o.problem
	} else if len(failed) > 0 {
		p := refuse(403, failed[0].Type[len("urn:ietf:params:acme:error:"):], "%d of %d names could not be validated",
			len(failed), len(o.auths))
		p.Subproblems = failed
		doc["error"] = p
	}
	if o.cert != nil && o.state() == "valid" {
		doc["certificate"] = a.base + o.cert.path
	}
	if o.replaces != "" {
		doc["replaces"] = o.replaces
	}
	if o.profile != "" {
		doc["profile"] = o.profile
	}
	return doc
}

// authorizationDoc shows an authorization; when it is valid, only the challenge
// that was used.
func (a *CA) authorizationDoc(z *authorization) map[string]any {
	var list []map[string]any
	for _, c := range z.challenges {
		if z.status == "valid" && c.status != "valid" {
			continue
		}
		list = append(list, a.challengeDoc(c))
	}
	doc := map[string]any{"identifier": z.name, "status": z.status, "expires": z.expires.UTC().Format(time.RFC3339),
		"challenges": list}
	if z.wildcard {
		doc["wildcard"] = true
	}
	return doc
}

// challengeDoc shows a challenge.
func (a *CA) challengeDoc(c *challenge) map[string]any {
	doc := map[string]any{"type": c.kind, "url": a.base + c.path, "token": c.token, "status": c.status}
	if c.problem != nil {
		doc["error"] = c.problem
	}
	if c.status == "valid" {
		doc["validated"] = time.Now().UTC().Format(time.RFC3339)
	}
	return doc
}

// accept begins to validate a challenge; the caller holds the lock.
func (a *CA) accept(w http.ResponseWriter, q *request, c *challenge) error {
	w.Header().Add("Link", fmt.Sprintf("<%s%s>;rel=\"up\"", a.base, c.of.path))
	if q.empty {
		return a.show(w, q, c.path, a.challengeDoc(c))
	}
	var body struct{}
	if err := q.read(&body); err != nil {
		return err
	}
	if c.status == "pending" && c.of.status == "pending" {
		print, err := thumbprint(q.account)
		if err != nil {
			return err
		}
		c.status = "processing"
		go a.validate(c, c.token+"."+print, q.account.url)
	}
	reply(w, 200, "application/json", a.challengeDoc(c))
	return nil
}

// finalize issues what was ordered; the caller holds the lock.
func (a *CA) finalize(w http.ResponseWriter, q *request, o *order) error {
	var body struct {
		CSR string `json:"csr"`
	}
	if err := q.read(&body); err != nil {
		return err
	}
	if s := o.state(); s != "ready" { // also when it is asked again after a lost reply (RFC 8555 section 7.4)
		return refuse(403, "orderNotReady", "the order is %s", s)
	}
	der, err := base64.RawURLEncoding.DecodeString(body.CSR)
	if err != nil {
		return refuse(400, "badCSR", "the request is not base64url")
	}
	csr, err := x509.ParseCertificateRequest(der)
	if err != nil || csr.CheckSignature() != nil {
		return refuse(400, "badCSR", "the request cannot be read, or its signature does not hold")
	}
	if p := checkRequest(csr, o); p != nil {
		return p
	}
	w.Header().Set("Location", a.base+o.path)
	o.status = "processing"
	w.Header().Set("Retry-After", "1")
	if !a.Faults.get().Processing {
		if o.cert, err = a.issue(csr, o); err != nil {
			return err
		}
		o.status = "valid"
	}
	reply(w, 200, "application/json", a.orderDoc(o))
	return nil
}

// checkRequest holds a request to the order's very names and a good key
// (section 7.4).
func checkRequest(csr *x509.CertificateRequest, o *order) *problem {
	var want, have []string
	for _, n := range o.names {
		want = append(want, n.Value)
	}
	for _, n := range csr.DNSNames {
		have = append(have, strings.ToLower(n))
	}
	for _, ip := range csr.IPAddresses {
		have = append(have, ip.String())
	}
	slices.Sort(want)
	slices.Sort(have)
	switch {
	case !slices.Equal(want, have):
		return refuse(400, "badCSR", "the request is for %s, the order for %s", strings.Join(have, ", "),
			strings.Join(want, ", "))
	case len(csr.EmailAddresses)+len(csr.URIs) > 0:
		return refuse(400, "badCSR", "the request has names that are no host names")
	case csr.Subject.CommonName != "" && !slices.Contains(want, csr.Subject.CommonName):
		return refuse(400, "badCSR", "the common name is not one of the names")
	}
	switch k := csr.PublicKey.(type) {
	case *rsa.PublicKey:
		if k.N.BitLen() < 2048 {
			return refuse(400, "badCSR", "the key has %d bits, at least 2048 are needed", k.N.BitLen())
		}
	case *ecdsa.PublicKey:
	default:
		return refuse(400, "badCSR", "a key of this kind is not certified")
	}
	return nil
}

// issue signs a certificate as the order has it, or with the fault that is in
// force. A certificate that lives for minutes is backdated by seconds.
func (a *CA) issue(csr *x509.CertificateRequest, o *order) (*issued, error) {
	fault := a.Faults.get()
	now := time.Now().UTC().Truncate(time.Second)
	const backdated = 60 // at most this part of the life
	begins := now.Add(-min(time.Hour, a.Lifetime/backdated)).Truncate(time.Second)
	life := a.Lifetime
	if o.profile != "" {
		life = a.Profiles[o.profile]
	}
	t := &x509.Certificate{SerialNumber: serial(), DNSNames: csr.DNSNames, IPAddresses: csr.IPAddresses, NotBefore: begins,
		NotAfter: begins.Add(life - time.Second), BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
		CRLDistributionPoints: []string{a.base + "/crl"}}
	if len(csr.DNSNames) > 0 && len(csr.DNSNames[0]) <= 64 {
		t.Subject = pkix.Name{CommonName: csr.DNSNames[0]}
	}
	var public any = csr.PublicKey
	if fault.OtherNames {
		t.DNSNames = []string{"elsewhere.example"}
	}
	if fault.InThePast {
		t.NotBefore, t.NotAfter = now.AddDate(0, -3, 0), now.AddDate(0, -1, 0)
	}
	if fault.OtherKey {
		other, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
		if err != nil {
			return nil, err
		}
		public = other.Public()
	}
	der, err := x509.CreateCertificate(rand.Reader, t, a.Issuer.Certificate, public, a.Issuer.Key)
	if err != nil {
		return nil, err
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		return nil, err
	}
	i := &issued{path: a.path("cert"), by: o.by, der: der, leaf: leaf}
	a.objects[i.path], a.issued[leaf.SerialNumber.String()] = i, i
	if old := a.named(o.replaces); old != nil {
		old.replaced = true
	}
	return i, nil
}

// download answers with the chain, or the alternate of a number (section 7.4.2).
func (a *CA) download(w http.ResponseWriter, i *issued, which string) error {
	rest := a.Chain
	if which != "" {
		n := int(which[0] - '0')
		if len(which) != 1 || n < 0 || n >= len(a.Alternates) {
			return refuse(404, "malformed", "there is no alternate %q", which)
		}
		rest = a.Alternates[n]
	} else {
		for n := range a.Alternates {
			w.Header().Add("Link", fmt.Sprintf("<%s%s/%d>;rel=\"alternate\"", a.base, i.path, n))
		}
	}
	if a.Faults.get().NoChain {
		rest = nil
	}
	w.Header().Set("Content-Type", "application/pem-certificate-chain")
	_, _ = w.Write(a.chainPEM(i.der, rest))
	return nil
}

// named finds a certificate by its id (RFC 9773 section 4.1); the caller holds
// the lock.
func (a *CA) named(id string) *issued {
	aki, number, ok := strings.Cut(id, ".")
	key, errKey := base64.RawURLEncoding.DecodeString(aki)
	num, errNum := base64.RawURLEncoding.DecodeString(number)
	if !ok || errKey != nil || errNum != nil || !bytes.Equal(key, a.Issuer.Certificate.SubjectKeyId) {
		return nil
	}
	return a.issued[new(big.Int).SetBytes(num).String()]
}

// mayReplace holds an order's replaces against what was issued (RFC 9773
// section 5).
func (a *CA) mayReplace(by *account, id string) error {
	switch i := a.named(id); {
	case i == nil:
		return refuse(404, "malformed", "the certificate to replace was not issued here")
	case i.by != by:
		return refuse(403, "unauthorized", "the certificate to replace is another account's")
	case i.replaced:
		return refuse(409, "alreadyReplaced", "the certificate has been replaced before")
	}
	return nil
}

// renewalInfo suggests when to renew a certificate, or now (RFC
// 9773 section 4.2).
func (a *CA) renewalInfo(w http.ResponseWriter, id string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	i := a.named(id)
	if i == nil {
		return refuse(404, "malformed", "the certificate was not issued here")
	}
	life := i.leaf.NotAfter.Sub(i.leaf.NotBefore)
	start := i.leaf.NotBefore.Add(life * 2 / 3)
	if a.Renewal > 0 {
		start = i.leaf.NotBefore.Add(a.Renewal)
	}
	end := start.Add(life / 12)
	if a.Faults.get().Renew || !i.revoked.IsZero() {
		start, end = time.Now().Add(-2*time.Hour), time.Now().Add(-time.Hour)
	}
	w.Header().Set("Retry-After", "21600")
	reply(w, 200, "application/json",
		map[string]any{"suggestedWindow": map[string]string{"start": start.UTC().Format(time.RFC3339),
			"end": end.UTC().Format(time.RFC3339)}})
	return nil
}

// crl shows what was revoked (RFC 5280 section 5).
func (a *CA) crl(w http.ResponseWriter) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	list := &x509.RevocationList{Number: big.NewInt(time.Now().Unix()), ThisUpdate: time.Now().Add(-time.Minute),
		NextUpdate: time.Now().Add(24 * time.Hour)}
	for _, i := range a.issued {
		if !i.revoked.IsZero() {
			list.RevokedCertificateEntries = append(list.RevokedCertificateEntries,
				x509.RevocationListEntry{SerialNumber: i.leaf.SerialNumber, RevocationTime: i.revoked, ReasonCode: i.reason})
		}
	}
	der, err := x509.CreateRevocationList(rand.Reader, list, a.Issuer.Certificate, a.Issuer.Key)
	if err != nil {
		return err
	}
	w.Header().Set("Content-Type", "application/pkix-crl")
	_, _ = w.Write(der)
	return nil
}
