package acmesource_test

import (
	"context"
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/internal/acme"
	"insegna.example/internal/acme/proof"
	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/issue"
	"insegna.example/internal/issue/acmesource"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/standin/ca"
)

// memory keeps one order and all that was said of it.
type memory struct {
	kept   issue.Order
	said   []string
	stands []proof.Publication
	broken error // of every Save from now on
}

func (m *memory) Save(ctx context.Context, o *issue.Order, told ...issue.Step) error {
	if m.broken != nil {
		return m.broken
	}
	m.kept = *o
	return m.Note(ctx, o, told...)
}

func (m *memory) Note(_ context.Context, _ *issue.Order, told ...issue.Step) error {
	for _, t := range told {
		m.said = append(m.said, t.Name+" "+string(t.Outcome)+": "+t.Words)
	}
	return nil
}

func (m *memory) Known(context.Context, *issue.Order, string) bool { return false }

func (m *memory) Publications(context.Context, *issue.Order) ([]proof.Publication, error) {
	return m.stands, nil
}

func (m *memory) Publishing(_ context.Context, _ *issue.Order, list []proof.Publication, _ ...issue.Step) ([]proof.Publication, error) {
	m.stands = append(m.stands, list...)
	return m.stands, nil
}

func (m *memory) Withdrawn(context.Context, *issue.Order, issue.Step) error {
	m.stands = nil
	return nil
}

func (m *memory) Proven(ctx context.Context, o *issue.Order, down bool, told ...issue.Step) error {
	if down && m.broken == nil {
		m.stands = nil
	}
	return m.Save(ctx, o, told...)
}

// board puts proofs up where a town's CA looks; an error stands for a place
// that cannot be written to.
type board struct {
	files            *sync.Map
	publish, takeOff error
}

func (b *board) Publish(_ context.Context, list []proof.Publication) error {
	for _, p := range list {
		b.files.Store(p.Token, p.Content)
	}
	return b.publish
}

func (b *board) Await(context.Context, []proof.Publication) error { return nil }

func (b *board) Withdraw(_ context.Context, list []proof.Publication) error {
	for _, p := range list {
		b.files.Delete(p.Token)
	}
	return b.takeOff
}

// desk is a machine at a town's CA with everything it needs.
type desk struct {
	*issue.Orderer
	Source *acmesource.Source
	*memory
	board *board
	town  *catest.Town
}

func newDesk(t *testing.T, change ...func(*ca.Config)) *desk {
	town := catest.Start(t, change...)
	c, err := acme.New(town.Directory(), "insegna-test/1", town.Transport)
	require.NoError(t, err)
	c.Pause = time.Millisecond
	key := pkitest.NewKey()
	a, err := c.Register(t.Context(), key, acme.NewAccount{TermsAgreed: true})
	require.NoError(t, err)
	d := &desk{memory: &memory{}, board: &board{files: &town.Files}, town: town}
	d.Source = &acmesource.Source{Client: c, Account: acme.Signer{Key: key, URL: a.URL}, Kind: acme.HTTP01,
		Records: d.memory, Prover: d.board, Patience: 3 * time.Second}
	d.Orderer = &issue.Orderer{Source: d.Source, Records: d.memory, Anchors: pkitest.List(town.Root),
		Paths: chain.NewBuilder(chain.NewKnown())}
	return d
}

func order(names ...string) *issue.Order {
	return &issue.Order{ID: 1, Names: names, State: issue.Begun, Since: time.Now()}
}

func (d *desk) empty() (empty bool) {
	empty = true
	d.town.Files.Range(func(any, any) bool { empty = false; return false })
	return empty && len(d.stands) == 0
}

// TestAKeyOfEveryKind orders a certificate for each kind of key; the key that
// is kept is the certificate's.
func TestAKeyOfEveryKind(t *testing.T) {
	d := newDesk(t)
	for _, kind := range []string{"ecdsa-p256", "ecdsa-p384", "rsa-2048", "rsa-3072", ""} {
		o := order("a.lantern.example", "www.lantern.example")
		o.KeyKind = kind
		require.NoError(t, d.Run(t.Context(), o))
		require.Equal(t, issue.Issued, d.kept.State, "%s: %+v", kind, d.kept.Failure)
		list, err := certs.ReadCertificates(d.kept.Chain)
		require.NoError(t, err)
		key, err := x509.ParsePKCS8PrivateKey(d.kept.Key)
		require.NoError(t, err)
		public, err := x509.MarshalPKIXPublicKey(key.(crypto.Signer).Public())
		require.NoError(t, err)
		assert.Equal(t, list[0].RawSubjectPublicKeyInfo, public, kind)
	}
	assert.True(t, d.empty())
	o := order("a.lantern.example")
	o.KeyKind = "dsa-512"
	require.NoError(t, d.Run(t.Context(), o))
	assert.Equal(t, `unknown kind of key "dsa-512"`, d.kept.Failure.Words)
	assert.True(t, d.kept.Failure.Again.IsZero(), "no time mends that")
}

// TestAnOrderIsAskedForOnce holds that a CA, which makes a new order of every
// request, gets one: when the reply is lost, and when the process died before it
// came.
func TestAnOrderIsAskedForOnce(t *testing.T) {
	d := newDesk(t)
	d.town.Faults.Set(ca.Fault{Lose: "/new-order"})
	o := order("a.lantern.example", "b.lantern.example")
	require.NoError(t, d.Run(t.Context(), o))
	assert.Equal(t, issue.Issued, o.State, o.Failure)
	assert.Equal(t, 1, d.town.Orders())

	d = newDesk(t)
	d.town.Faults.Set(ca.Fault{BeforeReply: func(path string) {
		if path == "/new-order" {
			d.broken = errors.New("the process died")
		}
	}})
	require.Error(t, d.Run(t.Context(), order("a.lantern.example")))
	d.town.Faults.Set(ca.Fault{})
	d.broken = nil
	o = &d.kept // as stored before it died
	assert.Equal(t, issue.Ordering, o.State)
	require.NoError(t, d.Run(t.Context(), o))
	assert.Equal(t, issue.Issued, o.State, o.Failure)
	assert.Equal(t, 1, d.town.Orders())
	assert.True(t, d.empty())
}

// TestAStormIsRiddenOut has three of ten requests go wrong in every way there is,
// at a CA that never hands an order out again and keeps its list on pages: each
// order is issued, and made once.
func TestAStormIsRiddenOut(t *testing.T) {
	const orders = 10
	d := newDesk(t)
	r := rand.New(rand.NewPCG(8, 9))
	var mu sync.Mutex
	d.town.Faults.Set(ca.Fault{PageOrders: 3, Storm: func(string) ca.Trouble {
		mu.Lock()
		defer mu.Unlock()
		if r.IntN(10) < 3 {
			return ca.Trouble(1 + r.IntN(int(ca.Troubles)-1))
		}
		return ca.None
	}})
	d.Pace = func(context.Context) time.Duration { return 50 * time.Millisecond } // between goes of one order
	for n := range orders {
		o := order(fmt.Sprintf("n%d.lantern.example", n), "b.lantern.example")
		for goes := 0; ; goes++ {
			err := d.Run(t.Context(), o)
			var wait *issue.WaitError
			if !errors.As(err, &wait) {
				require.NoError(t, err)
				break
			}
			require.Less(t, goes, 20)
			time.Sleep(time.Until(wait.Until))
		}
		require.Equal(t, issue.Issued, o.State, "%+v", o.Failure)
		require.Equal(t, n+1, d.town.Orders(), "made once")
	}
	assert.Len(t, d.town.Issued(), orders)
}

// TestTheRequestIsNotLost loses, cuts and garbles the answer to the certificate
// request: the certificate is fetched all the same, under the key it was asked
// with.
func TestTheRequestIsNotLost(t *testing.T) {
	for _, trouble := range []ca.Trouble{ca.Broken, ca.Busy, ca.LostBefore, ca.LostAfter, ca.Cut, ca.Garbled} {
		d := newDesk(t)
		once := true
		d.town.Faults.Set(ca.Fault{Storm: func(path string) ca.Trouble {
			if once && strings.HasSuffix(path, "/finalize") {
				once = false
				return trouble
			}
			return ca.None
		}})
		o := order("a.lantern.example")
		require.NoError(t, d.Run(t.Context(), o))
		require.Equal(t, issue.Issued, o.State, "%v: %+v", trouble, o.Failure)
		assert.Len(t, d.town.Issued(), 1)
		assert.False(t, once)
	}
}

// TestAnOrderOnALaterPage finds the order whose answer got lost though the
// account has pages of others.
func TestAnOrderOnALaterPage(t *testing.T) {
	d := newDesk(t)
	for n := range 120 {
		_, err := d.Source.Client.NewOrder(t.Context(), d.Source.Account,
			acme.Wish{Names: []acme.Identifier{{Type: acme.DNS, Value: fmt.Sprintf("n%d.lantern.example", n)}}})
		require.NoError(t, err)
	}
	d.town.Faults.Set(ca.Fault{PageOrders: 10, Lose: "/new-order"})
	o := order("a.lantern.example")
	require.NoError(t, d.Run(t.Context(), o))
	assert.Equal(t, issue.Issued, o.State, "%+v", o.Failure)
	assert.Equal(t, 121, d.town.Orders())
}

// TestAnotherAccountsCertificateIsNotReplaced renews though the CA has forgotten
// the account the certificate was ordered under: it refuses what the new account
// wants to replace, and gets the order without that.
func TestAnotherAccountsCertificateIsNotReplaced(t *testing.T) {
	d := newDesk(t)
	first := order("a.lantern.example")
	require.NoError(t, d.Run(t.Context(), first))
	list, err := certs.ReadCertificates(first.Chain)
	require.NoError(t, err)
	key := pkitest.NewKey()
	a, err := d.Source.Client.Register(t.Context(), key, acme.NewAccount{TermsAgreed: true})
	require.NoError(t, err)
	d.Source.Account = acme.Signer{Key: key, URL: a.URL}
	o := order("a.lantern.example")
	o.Replaces = acme.CertificateID(list[0])
	require.NotEmpty(t, o.Replaces)
	require.NoError(t, d.Run(t.Context(), o))
	assert.Equal(t, issue.Issued, o.State, "%+v", o.Failure)
	assert.Empty(t, o.Replaces)
}

// TestTheChainThatIsTrusted takes the alternate when only that ends at a root
// that is trusted, and none when neither does.
func TestTheChainThatIsTrusted(t *testing.T) {
	second := pkitest.CA("Second Root", nil)
	d := newDesk(t, func(c *ca.Config) {
		by := c.Issuer.Certificate
		cross := pkitest.Issue(&x509.Certificate{Subject: by.Subject, SubjectKeyId: by.SubjectKeyId, IsCA: true,
			BasicConstraintsValid: true, KeyUsage: by.KeyUsage}, second, c.Issuer.Key)
		c.Alternates = [][]*x509.Certificate{{cross.X509()}}
	})
	for root, want := range map[*pkitest.Entity]string{d.town.Root: "ending at Harbour Light Root",
		second: "ending at Second Root"} {
		d.Anchors = pkitest.List(root)
		require.NoError(t, d.Run(t.Context(), order("a.lantern.example")))
		require.Equal(t, issue.Issued, d.kept.State, "%+v", d.kept.Failure)
		assert.Contains(t, d.said[len(d.said)-1], want+"; 2 chains were offered")
		list, err := certs.ReadCertificates(d.kept.Chain)
		require.NoError(t, err)
		require.Len(t, list, 2)
		require.NoError(t, list[1].CheckSignatureFrom(root.X509()), "the issuer kept is the one this root signed")
	}
	d.Anchors = pkitest.List(pkitest.CA("Stranger", nil))
	require.NoError(t, d.Run(t.Context(), order("a.lantern.example")))
	assert.Equal(t, issue.BadCertificate, d.kept.Failure.Kind)
	assert.Nil(t, d.kept.Chain, "nothing unusable is kept as usable")
}

// TestACAThatWantsToBeLeftAlone holds every way a CA says so: a short time is
// waited for, a long one ends the order, a time not given is an hour.
func TestACAThatWantsToBeLeftAlone(t *testing.T) {
	var status int
	var after, kind, body string
	d := newDesk(t)
	plain := d.town.Transport
	c, err := acme.New(d.town.Directory(), "insegna-test/1", through(func(r *http.Request) (*http.Response, error) {
		resp, err := plain.RoundTrip(r)
		if err == nil && status != 0 && strings.HasSuffix(r.URL.Path, "/new-order") {
			nonce := resp.Header.Get("Replay-Nonce")
			_ = resp.Body.Close()
			resp.StatusCode, resp.Header, resp.Body = status,
				http.Header{"Content-Type": {kind}, "Retry-After": {after}, "Replay-Nonce": {nonce}},
				readCloser{strings.NewReader(body)}
		}
		return resp, err
	}))
	require.NoError(t, err)
	c.Pause = time.Millisecond
	d.Source.Client = c
	const problem = "application/problem+json"
	for name, f := range map[string]struct {
		status            int
		after, kind, body string
		waits             time.Duration // for the order; 0 when it ends
		again             time.Duration // of the failure
		failure           string
	}{
		"for seconds": {
			429, "90", problem, `{"type":"urn:ietf:params:acme:error:rateLimited","detail":"slowly"}`, 90 * time.Second, 0, ""},
		"to a moment": {429, time.Now().Add(2 * time.Minute).UTC().Format(http.TimeFormat), problem,
			`{"type":"urn:ietf:params:acme:error:rateLimited"}`, 2 * time.Minute, 0, ""},
		"by status alone": {429, "60", "text/html", "<h1>no</h1>", time.Minute, 0, ""},
		"under maintenance": {
			503, "120", problem, `{"type":"urn:ietf:params:acme:error:serverInternal","detail":"works"}`,
			2 * time.Minute, 0, ""},
		"for hours": {
			429, "10800", problem, `{"type":"urn:ietf:params:acme:error:rateLimited","detail":"enough"}`, 0, 3 * time.Hour,
			issue.RateLimited},
		"without a time": {
			429, "", problem, `{"type":"urn:ietf:params:acme:error:rateLimited","detail":"enough"}`, 0, time.Hour,
			issue.RateLimited},
		"of an unknown type": {
			429, "7200", problem, `{"type":"urn:elsewhere:quota","detail":"enough"}`, 0, 2 * time.Hour, issue.RateLimited},
		"with nonsense for time": {
			429, "soon", problem, `{"type":"urn:ietf:params:acme:error:rateLimited"}`, 0, time.Hour, issue.RateLimited},
		"broken for a while": {
			500, "90", problem, `{"type":"urn:ietf:params:acme:error:serverInternal","detail":"broken"}`,
			90 * time.Second, 0, ""},
		"broken in no form": {502, "90", "text/html", "<h1>Bad Gateway</h1>", 90 * time.Second, 0, ""},
		"of its own kind": {
			403, "", problem, `{"type":"urn:ietf:params:acme:error:caa","detail":"no"}`, 0, time.Hour, "caa"},
	} {
		t.Run(name, func(t *testing.T) {
			status, after, kind, body = f.status, f.after, f.kind, f.body
			defer func() { status = 0 }()
			o := order("a.lantern.example")
			err := d.Run(t.Context(), o)
			var wait *issue.WaitError
			if f.waits > 0 {
				require.ErrorAs(t, err, &wait)
				assert.WithinDuration(t, time.Now().Add(f.waits), wait.Until, 20*time.Second)
				assert.Equal(t, issue.Ordering, d.kept.State)
				status = 0
				require.NoError(t, d.Run(t.Context(), o), "it goes on where it was")
				assert.Equal(t, issue.Issued, d.kept.State)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, f.failure, d.kept.Failure.Kind)
			assert.WithinDuration(t, time.Now().Add(f.again), d.kept.Failure.Again, 5*time.Second)
		})
	}
}

// TestWhatIsNotTheCAsFault holds what becomes of an order when its own side
// fails: no answer is waited for, a place that cannot be written to is named,
// a store that fails ends nothing.
func TestWhatIsNotTheCAsFault(t *testing.T) {
	d := newDesk(t)
	away := errors.New("no route")
	cut := ""
	plain := d.town.Transport
	var err error
	d.Source.Client,
		err = acme.New(d.town.Directory(), "insegna-test/1", through(func(r *http.Request) (*http.Response, error) {
		if cut != "" && strings.Contains(r.URL.Path, cut) {
			return nil, away
		}
		return plain.RoundTrip(r)
	}))
	require.NoError(t, err)

	cut = "/authz/"
	o := order("a.lantern.example")
	var waits []time.Duration
	for range 20 {
		var wait *issue.WaitError
		if err := d.Run(t.Context(), o); !errors.As(err, &wait) {
			require.NoError(t, err)
			break
		} else {
			assert.ErrorIs(t, wait, away)
			waits = append(waits, time.Until(wait.Until).Round(time.Second))
		}
	}
	assert.Equal(t, []time.Duration{10 * time.Second, 20 * time.Second, 40 * time.Second, 80 * time.Second,
		160 * time.Second, 5 * time.Minute, 5 * time.Minute, 5 * time.Minute}, waits)
	assert.Equal(t, issue.NoAnswer, d.kept.Failure.Kind)
	assert.NotEmpty(t, d.kept.URL, "it was known all the while")
	cut = ""

	d.board.publish = &proof.PublishError{What: "write", Where: "pier-1:/var/www",
		Err: errors.New("read-only file system")}
	require.NoError(t, d.Run(t.Context(), order("b.lantern.example")))
	assert.Equal(t, issue.NotPublished, d.kept.Failure.Kind)
	assert.Equal(t, "cannot write at pier-1:/var/www: read-only file system", d.kept.Failure.Words)
	assert.True(t, d.empty(), "what half stood was taken down")
	d.board.publish = nil

	d.board.takeOff = errors.New("connection refused")
	require.NoError(t, d.Run(t.Context(), order("c.lantern.example")))
	assert.Equal(t, issue.Issued, d.kept.State, "the certificate does not wait for that")
	assert.Contains(t, strings.Join(d.said, "\n"), "withdraw failed: connection refused")
	assert.NotEmpty(t, d.stands, "remembered, to be taken down later")
	d.board.takeOff, d.stands = nil, nil

	d.broken = errors.New("the database is away")
	before := d.town.Orders()
	require.ErrorIs(t, d.Run(t.Context(), order("d.lantern.example")), d.broken)
	assert.Equal(t, before, d.town.Orders(), "nothing is asked of a CA that is not kept first")

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	d.broken = nil
	require.ErrorIs(t, d.Run(ctx, order("e.lantern.example")), context.Canceled)

	d.Source.Kind = acme.HTTP01
	require.NoError(t, d.Run(t.Context(), order("*.f.lantern.example")))
	assert.Equal(t, issue.NoProof, d.kept.Failure.Kind)
	assert.Equal(t, "for f.lantern.example the CA offers dns-01, the mandate proves by http-01",
		d.kept.Failure.Words)
}

// TestARenewalKnowsWhatItReplaces tells the CA what takes whose place, and
// renews all the same when the CA holds that it was replaced already.
func TestARenewalKnowsWhatItReplaces(t *testing.T) {
	d := newDesk(t)
	require.NoError(t, d.Run(t.Context(), order("a.lantern.example")))
	list, err := certs.ReadCertificates(d.kept.Chain)
	require.NoError(t, err)
	id := acme.CertificateID(list[0])
	for i := range 2 {
		o := order("a.lantern.example")
		o.Replaces = id
		require.NoError(t, d.Run(t.Context(), o))
		require.Equal(t, issue.Issued, d.kept.State, "%+v", d.kept.Failure)
		assert.Equal(t, map[int]string{0: id, 1: ""}[i], d.kept.Replaces)
	}
	assert.Len(t, d.town.Issued(), 3)
}

// TestAProofThatIsValidAlready is not asked for again.
func TestAProofThatIsValidAlready(t *testing.T) {
	d := newDesk(t, func(c *ca.Config) { c.Reuse = time.Hour })
	require.NoError(t, d.Run(t.Context(), order("a.lantern.example")))
	d.said = nil
	require.NoError(t, d.Run(t.Context(), order("a.lantern.example", "b.lantern.example")))
	require.Equal(t, issue.Issued, d.kept.State, "%+v", d.kept.Failure)
	d.said = nil
	require.NoError(t, d.Run(t.Context(), order("a.lantern.example", "b.lantern.example")))
	assert.NotContains(t, strings.Join(d.said, "\n"), "proof done")
	assert.Equal(t, issue.Issued, d.kept.State)
}

type through func(*http.Request) (*http.Response, error)

func (f through) RoundTrip(r *http.Request) (*http.Response, error) { return f(r) }

type readCloser struct{ *strings.Reader }

func (readCloser) Close() error { return nil }
