package store_test

import (
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"insegna.example/internal/core/journal"
	"insegna.example/internal/store"
)

// TestWhatIsIssuedAtOnceIsKept keeps certificates from many sides, some for the same
// order, one of an authority that does not exist: each of the others is kept with its
// one entry in the journal, which stays whole, and everybody with an order gets what
// that order got first.
func TestWhatIsIssuedAtOnceIsKept(t *testing.T) {
	s := open(t)
	now := time.Now().UTC().Truncate(time.Microsecond)
	a := &store.Authority{CA: "crew", Role: store.IssuingCA, Certificate: root, MadeBy: "marit", MadeAt: now}
	none := func(int, int64) ([]byte, error) { return nil, nil }
	require.NoError(t, s.AddAuthorities(t.Context(), []*store.Authority{a}, false, none, act("ca.make", "crew")))
	const many, orders = 300, 7
	var all errgroup.Group
	var mu sync.Mutex
	got := map[string]map[string]bool{}
	for i := range many {
		all.Go(func() error {
			v := &store.Issued{AuthorityID: a.ID, Serial: fmt.Appendf(nil, "%d", i), Der: fmt.Appendf(nil, "certificate %d", i),
				Names: []string{"a.crew.example"}, Profile: "server", NotAfter: now.AddDate(0, 0, 9), By: "marit", At: now}
			switch {
			case i == 150:
				v.AuthorityID = a.ID + 1
			case i%3 == 1:
				order := fmt.Sprint("order ", i%orders)
				v.ACMEOrder = &order
			}
			err := s.KeepIssued(t.Context(), v, act("ca.issue", fmt.Sprint(i)))
			switch {
			case i == 150 && err == nil:
				return errors.New("kept for an authority that does not exist")
			case i == 150:
				return nil
			case i%3 == 1:
				mu.Lock()
				defer mu.Unlock()
				if got[*v.ACMEOrder] == nil {
					got[*v.ACMEOrder] = map[string]bool{}
				}
				got[*v.ACMEOrder][string(v.Der)] = true
			}
			return err
		})
	}
	require.NoError(t, all.Wait())
	require.Len(t, got, orders)
	for order, ders := range got {
		assert.Len(t, ders, 1, order)
	}
	assert.Equal(t, 2*many/3-1+orders, count(t, s, "select count(*) from issued"))
	assert.Equal(t, 2*many/3-1+orders, count(t, s, "select count(*) from journal where action = 'ca.issue'"))
	assert.Zero(t, count(t, s, `select count(*) from journal j where action = 'ca.issue'
		and not exists (select from issued i where convert_from(i.serial, 'UTF8') = j.subject)`))
	var whole journal.Check
	require.NoError(t, s.EachEntry(t.Context(), whole.Next))
}

// TestATokenThatEndedIsNeverTakenAgain has many ask for a token all the time while it is
// revoked: whoever asks once that is done is told no, whatever others were told just now.
func TestATokenThatEndedIsNeverTakenAgain(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	p := &store.Person{Name: "marit", Role: "admin", AddedAt: now}
	require.NoError(t, s.AddPerson(t.Context(), p, []byte("invitation"), now.Add(time.Hour), act("person.add", "marit")))
	for i := range 40 {
		secret := fmt.Appendf(nil, "secret %d", i)
		token := &store.Token{PersonID: p.ID, Name: fmt.Sprint(i), Scope: "viewer", MadeAt: now, ExpiresAt: now.Add(time.Hour)}
		require.NoError(t, s.MakeToken(t.Context(), token, secret, act("token.make", "marit")))
		found, err := s.Token(t.Context(), secret, now)
		require.NoError(t, err)
		assert.Equal(t, []any{token.ID, p.ID, "marit", "viewer"}, []any{found.ID, found.Person.ID, found.Person.Name, found.Scope})
		var ended atomic.Bool
		var all errgroup.Group
		for range 12 {
			all.Go(func() error {
				for last := false; !last; {
					last = ended.Load() // of this one it is certain that it asks afterwards
					_, err := s.Token(t.Context(), secret, now)
					if last && !errors.Is(err, store.ErrNotFound) || err != nil && !errors.Is(err, store.ErrNotFound) {
						return fmt.Errorf("asked after it was revoked, the answer was %w", errors.Join(err, errors.New("not ErrNotFound")))
					}
				}
				return nil
			})
		}
		require.NoError(t, s.RevokeToken(t.Context(), token.ID, 0, func(*store.Token) *store.Act { return act("token.revoke", "marit") }, now))
		ended.Store(true)
		require.NoError(t, all.Wait())
	}
}
