package service_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
	"insegna.example/internal/catest"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/httpapi"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/servicetest"
	"insegna.example/internal/standin/ca"
)

// fleet is a service with many mandates at one CA.
type fleet struct {
	*servicetest.Running
	town *catest.Town
	text string
	root *pkitest.Entity
}

// newFleet declares mandates m0, m1 and so on, each for one name.
func newFleet(t *testing.T, n, budget int) *fleet {
	_, port, handler := listening(t)
	f := &fleet{Running: servicetest.Start(t), town: catest.Start(t, func(c *ca.Config) { c.HTTPPort = port })}
	h := httpapi.Proofs(f.Service)
	handler.Store(&h)
	f.text, f.root = orderEstate(f.town, port, "m0.lantern.example")
	f.text = strings.Replace(f.text, "certificates: 3", fmt.Sprintf("certificates: %d", budget), 1)
	f.text = strings.Replace(f.text, "name: booking", "name: m0", 1)
	for i := 1; i < n; i++ {
		f.text += fmt.Sprintf("  - {name: m%d, names: [m%d.lantern.example], ca: harbour, proof: {by: listener}}\n", i, i)
	}
	f.Apply(t, f.text, f.root)
	agree(t, f.Client, "harbour")
	return f
}

// due makes mandates due whose name is like a pattern.
func (f *fleet) due(t *testing.T, like string) {
	execSQL(t, f.Database, "update mandates set next_at = now() - interval '1 minute' where name like $1", like)
}

// quiet waits until no order is under way.
func (f *fleet) quiet(t *testing.T) {
	require.Eventually(t, func() bool {
		var n int
		f.Query(t, "select count(*) from orders where finished_at is null", &n)
		return n == 0
	}, time.Minute, 50*time.Millisecond)
}

func (f *fleet) mandate(t *testing.T, name string) *client.Mandate {
	m, err := f.Client.GetMandateWithResponse(t.Context(), name)
	require.NoError(t, err)
	require.NotNil(t, m.JSON200, string(m.Body))
	return m.JSON200
}

// TestNothingDueIsOrderedTwice has several looks for what is due run side by
// side, and again and again while orders end.
func TestNothingDueIsOrderedTwice(t *testing.T) {
	const n = 30
	f := newFleet(t, n, 1000)
	f.due(t, "%")
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 40 {
				assert.NoError(t, f.BeginDue(t.Context()))
			}
		})
	}
	all.Wait()
	f.quiet(t)
	require.NoError(t, f.BeginDue(t.Context()))
	f.quiet(t)
	var orders, issued, entries int
	f.Query(t, "select count(*) from orders", &orders)
	f.Query(t, "select count(distinct mandate_id) from orders where state = 'issued'", &issued)
	f.Query(t, "select count(*) from journal where action = 'order.begin'", &entries)
	assert.Equal(t, []int{n, n, n, n}, []int{orders, issued, entries, len(f.town.Issued())})
	assert.True(t, verify(t, f.Running, "").Whole)
}

// TestTheBudgetEndsWhatIsDue begins the orders the budget still has room for,
// the longest due first, and says of the others why not.
func TestTheBudgetEndsWhatIsDue(t *testing.T) {
	f := newFleet(t, 5, 3)
	// all in one statement: the service may look by itself at any moment
	execSQL(t, f.Database, "update mandates set next_at = now() - case when name in ('m4', 'm2', 'm1') then interval '1 hour' else interval '0' end")
	require.NoError(t, f.BeginDue(t.Context()))
	f.quiet(t)
	for i, brought := range []bool{false, true, true, false, true} {
		m := f.mandate(t, fmt.Sprintf("m%d", i))
		assert.Equal(t, brought, m.InForce != nil, m.Name)
		if !brought {
			assert.Equal(t, "could not be ordered: the budget of harbour is spent: 3 of 3 certificates in 7 days", m.NextWhy)
			assert.WithinDuration(t, time.Now().Add(time.Hour), *m.NextAt, time.Minute)
		}
	}
}

// TestTheBudgetHoldsAtTheSameInstant has orders of many mandates begun at once:
// no more than the budget allows are, and each of the others is told why.
func TestTheBudgetHoldsAtTheSameInstant(t *testing.T) {
	const n, budget = 12, 4
	f := newFleet(t, n, budget)
	begun, refused := make(chan bool, n), make(chan string, n)
	var all sync.WaitGroup
	for i := range n {
		all.Go(func() {
			o, err := f.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: fmt.Sprintf("m%d", i)})
			switch {
			case assert.NoError(t, err) && o.JSON201 != nil:
				begun <- true
			case err == nil:
				refused <- string(o.Body)
			}
		})
	}
	all.Wait()
	close(refused)
	assert.Len(t, begun, budget)
	for text := range refused {
		assert.Contains(t, text, "the budget of harbour is spent: 4 of 4 certificates in 7 days")
	}
	f.quiet(t)
	assert.Len(t, f.town.Issued(), budget)
}

// TestACAThatLimitsItsRateIsLeftAlone holds that one refusal stops all work at
// that CA until the time it gave, by hand and by itself, and that it is shown.
func TestACAThatLimitsItsRateIsLeftAlone(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 3, 1000)
	f.town.Faults.Set(ca.Fault{Limited: 3 * time.Hour})
	o := ended(t, f.Client, begin(t, f.Client, "m0", false))
	require.NotNil(t, o.Failure)
	assert.Equal(t, "rateLimited", o.Failure.Kind)
	assert.Contains(t, o.Failure.Words, "too many certificates already issued")
	later := time.Now().Add(3 * time.Hour)
	assert.WithinDuration(t, later, *o.Failure.Again, time.Minute)
	f.town.Faults.Set(ca.Fault{})

	_, before := f.town.Requests()
	refused, err := f.Client.BeginOrderWithResponse(t.Context(), client.OrderRequest{Mandate: "m1"})
	require.NoError(t, err)
	assert.Equal(t, 409, refused.StatusCode())
	assert.Contains(t, string(refused.Body), "harbour wants no more requests before")
	assert.Contains(t, string(refused.Body), "it said: too many certificates already issued")
	f.due(t, "m%")
	require.NoError(t, f.BeginDue(t.Context()))
	for _, name := range []string{"m0", "m1", "m2"} {
		m := f.mandate(t, name)
		assert.WithinDuration(t, later, *m.NextAt, time.Minute, name)
		assert.Contains(t, m.NextWhy, "could not be ordered: harbour wants no more requests before", name)
	}
	_, after := f.town.Requests()
	assert.Equal(t, before, after, "the CA was left alone")
	list, err := f.Client.ListCasWithResponse(t.Context())
	require.NoError(t, err)
	assert.WithinDuration(t, later, *list.JSON200.Items[0].Account.RestsUntil, time.Minute)
	assert.Contains(t, *list.JSON200.Items[0].Account.RestsWhy, "too many certificates")

	execSQL(t, f.Database, "update accounts set rest_until = now() - interval '1 second'")
	list, err = f.Client.ListCasWithResponse(t.Context())
	require.NoError(t, err)
	assert.Nil(t, list.JSON200.Items[0].Account.RestsUntil)
	require.Nil(t, ended(t, f.Client, begin(t, f.Client, "m1", false)).Failure)

	f.town.Faults.Set(ca.Fault{Limited: 4 * time.Second})
	number := begin(t, f.Client, "m2", false)
	require.Eventually(t, func() bool {
		o, err := f.Client.GetOrderWithResponse(t.Context(), number)
		return err == nil && o.JSON200 != nil && len(o.JSON200.Steps) > 0 &&
			o.JSON200.Steps[len(o.JSON200.Steps)-1].Step == "waiting"
	}, 20*time.Second, 20*time.Millisecond, "a short time is waited for")
	f.town.Faults.Set(ca.Fault{})
	assert.Nil(t, ended(t, f.Client, number).Failure)
}

// TestAWindowThatMovesIsFollowed has the CA want a certificate renewed at once
// that it had wanted later: it is asked again, and the certificate is renewed.
func TestAWindowThatMovesIsFollowed(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 2, 1000)
	for _, name := range []string{"m0", "m1"} {
		require.Nil(t, ended(t, f.Client, begin(t, f.Client, name, false)).Failure)
		assert.Greater(t, time.Until(*f.mandate(t, name).NextAt), 50*24*time.Hour)
	}
	var asks time.Time
	f.Query(t, "select ask_at from mandates where name = 'm0'", &asks)
	assert.WithinDuration(t, time.Now().Add(6*time.Hour), asks, time.Minute, "when the CA said")
	f.town.Faults.Set(ca.Fault{Renew: true})
	require.NoError(t, f.BeginDue(t.Context()))
	assert.Greater(t, time.Until(*f.mandate(t, "m0").NextAt), 50*24*time.Hour, "not before it may be asked again")
	execSQL(t, f.Database, "update mandates set ask_at = now() where name = 'm0'")
	require.NoError(t, f.BeginDue(t.Context())) // asks
	require.NoError(t, f.BeginDue(t.Context())) // and orders
	f.quiet(t)
	list, err := f.Client.ListOrdersWithResponse(t.Context(), nil)
	require.NoError(t, err)
	require.Len(t, list.JSON200.Items, 3)
	o := list.JSON200.Items[0]
	assert.Equal(t, []string{"m0", "insegna", "issued"}, []string{o.Mandate, o.By, string(o.State)})
	m := f.mandate(t, "m0")
	assert.Contains(t, m.NextWhy, "in the window its CA suggests")
	assert.WithinDuration(t, time.Now().Add(time.Hour), *m.NextAt, time.Minute,
		"what was just issued is not renewed at once again")
	soon := *m.NextAt
	execSQL(t, f.Database, "update mandates set ask_at = now() where name = 'm0'")
	require.NoError(t, f.BeginDue(t.Context()))
	assert.WithinDuration(t, soon, *f.mandate(t, "m0").NextAt, time.Minute, "nor when the CA says so again and again")
	execSQL(t, f.Database, "update orders set created_at = created_at - interval '10 hours' where state = 'issued'")
	execSQL(t, f.Database,
		"update orders set created_at = created_at - interval '8 hours' where id = (select min(id) from "+
			"orders where mandate_id = (select id from mandates where name = 'm0'))")
	execSQL(t, f.Database, "update mandates set ask_at = now() where name = 'm0'")
	require.NoError(t, f.BeginDue(t.Context()))
	assert.WithinDuration(t, time.Now().Add(6*time.Hour), *f.mandate(t, "m0").NextAt, 5*time.Minute,
		"after twice the eight hours the one before had")
	execSQL(t, f.Database, "update mandates set next_at = now() + interval '1 hour', ask_at = now() where name = 'm0'")
	f.town.Faults.Set(ca.Fault{})
	execSQL(t, f.Database, "update mandates set ask_at = now() where name = 'm0'")
	require.NoError(t, f.BeginDue(t.Context()))
	assert.Greater(t, time.Until(*f.mandate(t, "m0").NextAt), 50*24*time.Hour, "and later, when the window moves away")
}

// TestAVisitTellsWhatDNSSaid tells a name without an address from a name server
// that cannot answer.
func TestAVisitTellsWhatDNSSaid(t *testing.T) {
	f := newFleet(t, 2, 10)
	require.NoError(t, f.town.Names.Set("m0.lantern.example"))
	f.town.Names.Fail("m1.lantern.example")
	for name, want := range map[string]string{"m0": "has no address for it", "m1": "gives no answer"} {
		v, err := f.Client.VisitMandateWithResponse(t.Context(), name)
		require.NoError(t, err)
		assert.Contains(t, string(v.Body), f.town.Names.Address()+" "+want)
	}
}

// TestAMandateThatChangesIsOrderedAnew holds that what a mandate asks for is
// brought about without anybody's word, also when it changes in the middle of
// an order, and that what only says how is not.
func TestAMandateThatChangesIsOrderedAnew(t *testing.T) {
	t.Parallel()
	f := newFleet(t, 2, 1000)
	change := func(pairs ...string) {
		f.text = strings.NewReplacer(pairs...).Replace(f.text)
		f.Apply(t, f.text, f.root)
	}
	change("[m0.lantern.example]", "[m0.lantern.example, www.lantern.example]")
	assert.Nil(t, f.mandate(t, "m0").NextAt, "the first order is a person's")
	names := func() []string {
		require.NoError(t, f.BeginDue(t.Context()))
		f.quiet(t)
		got, err := f.Client.GetOrderCertificateWithResponse(t.Context(), f.mandate(t, "m0").InForce.Number)
		require.NoError(t, err)
		list, err := certs.ReadCertificates([]byte(got.JSON200.Chain))
		require.NoError(t, err)
		return append(list[0].DNSNames, list[0].Key().String())
	}
	require.Nil(t, ended(t, f.Client, begin(t, f.Client, "m0", false)).Failure)
	assert.Equal(t, []string{"m0.lantern.example", "www.lantern.example", "ECDSA P-256"}, names())

	change("www.lantern", "shop.lantern")
	assert.Equal(t, "what it asks for has changed", f.mandate(t, "m0").NextWhy)
	assert.Equal(t, []string{"m0.lantern.example", "shop.lantern.example", "ECDSA P-256"}, names())
	change("ca: harbour, proof", "ca: harbour, key: ecdsa-p384, proof")
	assert.Equal(t, []string{"m0.lantern.example", "shop.lantern.example", "ECDSA P-384"}, names())

	change("key: ecdsa-p384", "must_staple: true, key: ecdsa-p384")
	assert.Equal(t, "what it asks for has changed", f.mandate(t, "m0").NextWhy)
	names()

	due := *f.mandate(t, "m0").NextAt
	assert.Greater(t, time.Until(due), time.Hour)
	change("proof: {by: listener}", "proof: {by: http, servers: [quay], folder: /proc/nowhere}", "name: quay,",
		"name: quay, kind: nginx, reach: {by: local},")
	assert.Equal(t, due, *f.mandate(t, "m0").NextAt, "how it is proved is no reason for an order")
	f.due(t, "m0")
	require.NoError(t, f.BeginDue(t.Context()))
	f.quiet(t)
	require.Positive(t, f.mandate(t, "m0").Failures)
	change("{by: http, servers: [quay], folder: /proc/nowhere}", "{by: listener}")
	assert.WithinDuration(t, time.Now(), *f.mandate(t, "m0").NextAt, time.Minute,
		"corrected after a failure, it is tried at once")
	names()
	assert.Zero(t, f.mandate(t, "m0").Failures)

	reached, goOn := make(chan struct{}), make(chan struct{})
	var once sync.Once
	f.town.Faults.Set(ca.Fault{BeforeReply: func(path string) {
		if strings.HasPrefix(path, "/cert/") {
			once.Do(func() { close(reached); <-goOn })
		}
	}})
	number := begin(t, f.Client, "m0", false)
	<-reached
	change("shop.lantern", "late.lantern")
	close(goOn)
	require.Nil(t, ended(t, f.Client, number).Failure)
	assert.Equal(t, "what it asks for has changed", f.mandate(t, "m0").NextWhy, "changed while it was ordered")
	assert.Equal(t, []string{"m0.lantern.example", "late.lantern.example", "ECDSA P-384"}, names())
}
