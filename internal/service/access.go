package service

import (
	"context"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"github.com/maypok86/otter/v2"

	"insegna.example/internal/core/fault"
	"insegna.example/internal/store"
)

// Access is the room of people: who they are, what they may do, and who did
// what.
type Access struct {
	base
	throttle *throttle                  // of failed attempts
	hashing  *hashing                   // of passphrases
	still    *otter.Cache[string, bool] // who is in, seen a moment ago
	last     atomic.Int64               // when somebody who is in asked last, in nanoseconds
}

// askedFor is how long after a request people count as asking.
const askedFor = 250 * time.Millisecond

// asked says whether people ask for something now.
func (s *Access) asked() bool { return time.Since(time.Unix(0, s.last.Load())) < askedFor }

// Role is what somebody may do; each includes those before it.
type Role string

// Roles.
const (
	Nobody   Role = ""         // not signed in
	Viewer   Role = "viewer"   // sees everything but secrets
	Operator Role = "operator" // has work done: surveys, orders
	Admin    Role = "admin"    // decides: the estate, people, accounts at CAs
)

// ranks order the roles: each may do what those below it may.
var ranks = map[Role]int{Nobody: 0, Viewer: 1, Operator: 2, Admin: 3}

// Includes says whether a role may do what another may.
func (r Role) Includes(other Role) bool { return ranks[r] >= ranks[other] }

// needs is the one table of who may do what: the least role for each operation
// of the contract. An operation that is not in it is nobody's.
var needs = map[string]Role{
	"getHealth": Nobody, "getReady": Nobody, "signIn": Nobody, "setUp": Nobody,

	"getSession": Viewer, "signOut": Viewer, "changePassphrase": Viewer,
	"listTokens": Viewer, "makeToken": Viewer, "revokeToken": Viewer, // one's own; an admin everybody's
	"listPeople": Viewer, "listJournal": Viewer, "verifyJournal": Viewer,
	"getEstate": Viewer, "exportEstate": Viewer, "previewEstate": Viewer, "getToday": Viewer,
	"listBindings": Viewer, "listCertificates": Viewer, "getCertificate": Viewer,
	"listKinds": Viewer, "listServers": Viewer, "getServer": Viewer, "listSites": Viewer, "listMaterial": Viewer, "listReadingChanges": Viewer, "listAnswers": Viewer,
	"getConfigurationFile": Viewer,
	"listFindings":         Viewer, "getFinding": Viewer, "acceptFinding": Operator, "endAcceptance": Operator,
	"listSurveys": Viewer, "getSchedule": Viewer, "getMetrics": Viewer, "getSurvey": Viewer, "getSurveyChanges": Viewer, "followSurvey": Viewer, "followEvents": Viewer,
	"listOwners": Viewer, "listNotices": Viewer, "getNotice": Viewer, "previewNotice": Viewer, "listSilences": Viewer,
	"getCalendar": Nobody,                                           // the secret is in the address
	"listFeeds":   Viewer, "makeFeed": Viewer, "revokeFeed": Viewer, // one's own; an admin everybody's
	"getReport":  Viewer,
	"testNotice": Operator, "tryNotice": Operator, "addSilence": Operator, "endSilence": Operator,

	"listCas": Viewer, "listMandates": Viewer, "getMandate": Viewer, "listOrders": Viewer, "getOrder": Viewer,
	"getOrderCertificate": Viewer,
	"listInstallations":   Viewer, "getInstallation": Viewer,
	"listWaves": Viewer, "getWave": Viewer,
	"listCredentials": Viewer, "draftMandate": Viewer,

	"startSurvey": Operator, "beginOrder": Operator, "checkMandate": Operator, "visitMandate": Operator,
	"previewInstallation": Operator, "previewMending": Operator, "beginInstallation": Operator, "returnInstallation": Operator,
	"previewWave": Operator, "beginWave": Operator, "returnWave": Operator, "keepWave": Operator,
	// where a mandate is made: as addMandate
	"getHttps": Viewer, "listHttps": Viewer, "beginHttps": Operator, "continueHttps": Operator,

	"agreeToTerms": Admin, "addMandate": Admin, "removeMandate": Admin, "addCredential": Admin, "removeCredential": Admin,

	"takeKey": Operator, "giveCertificate": Operator, "takeFromServer": Operator, // and the permission for it
	"getForecast": Viewer, "getAuthority": Viewer, "listIssued": Viewer, "signRequest": Operator, "revokeIssued": Operator, "makeAuthority": Admin, "takeAuthority": Admin,
	"getRolling": Viewer, "rollAuthority": Admin, "endRolling": Admin,
	"planDrill": Operator, "listDrills": Viewer, "getDrill": Viewer, "beginDrill": Admin,
	"withoutCertificate": Viewer,
	"listCustomers":      Viewer, "addCustomer": Admin, "removeCustomer": Admin,
	"listAccounts": Viewer, "tellContact": Admin, "rollKey": Admin, "endAccount": Admin, "revokeOrder": Operator,
	"takeCertificate": Operator, "markSent": Operator, "endOrder": Operator, "takeReply": Operator,
	"getHostKey": Operator, "trustHostKey": Admin,
	"getSafe": Admin, "renewSafeKey": Admin,

	"applyEstate": Admin, "draftEstate": Admin, "changeHost": Admin, "addHost": Admin, "removeHost": Admin,
	"addPerson": Admin, "changePerson": Admin, "removePerson": Admin, "invitePerson": Admin,
}

// Caller is who asks for something.
type Caller struct {
	Person  *store.Person  // who asks
	Role    Role           // the person's, cut to the token's scope
	Session *store.Session // nil when a token was shown
	Token   *store.Token   // nil when a session was
}

// role is nobody's for no caller.
func (c *Caller) role() Role {
	if c == nil {
		return Nobody
	}
	return c.Role
}

// callerKey keys the caller in a request's context.
type callerKey struct{}

// WithCaller gives a context that says who asks.
func WithCaller(ctx context.Context, c *Caller) context.Context {
	return context.WithValue(ctx, callerKey{}, c)
}

// CallerOf says who asks; nil for nobody.
func CallerOf(ctx context.Context) *Caller {
	c, _ := ctx.Value(callerKey{}).(*Caller)
	return c
}

// itself is the name for what the service does without being asked.
const itself = "insegna"

// actor is the name for the journal.
func actor(ctx context.Context) string {
	if c := CallerOf(ctx); c != nil {
		return c.Person.Name
	}
	return itself
}

// AccessError says that an operation is not the caller's. Role is the least
// one it needs.
type AccessError struct {
	Caller *Caller // nil for nobody
	Role   Role    // that would be needed
	Keys   bool    // what is needed is the permission to take private keys out
}

// Error says whether the person or only the token lacks the right.
func (e *AccessError) Error() string {
	switch {
	case e.Caller == nil:
		return "nobody is signed in"
	case e.Keys:
		return e.Caller.Person.Name + " may not take private keys out of the safe"
	case !Role(e.Caller.Person.Role).Includes(e.Role):
		return fmt.Sprintf("%s is %s; this needs the role %s", e.Caller.Person.Name, e.Caller.Person.Role, e.Role)
	}
	return fmt.Sprintf("the token %q has the scope %s; this needs %s", e.Caller.Token.Name, e.Caller.Token.Scope, e.Role)
}

// Told implements fault.Error.
func (e *AccessError) Told() fault.Told {
	if e.Caller == nil {
		return fault.Told{Class: fault.NotSignedIn, Title: "Not signed in", Next: "sign in, or show a token: insegna sign-in"}
	}
	if e.Keys {
		return fault.Told{Class: fault.NotAllowed, Title: "Not allowed",
			Next: "an admin gives that permission: insegna person keys " + e.Caller.Person.Name + " allow"}
	}
	return fault.Told{Class: fault.NotAllowed, Title: "Not allowed",
		Next: "ask an admin for the role, or use a token with the scope"}
}

// Public says whether an operation needs nobody signed in.
func Public(operation string) bool {
	least, known := needs[operation]
	return known && least == Nobody
}

// Permit checks an operation of the contract against the caller of the context.
func Permit(ctx context.Context, operation string) error {
	c := CallerOf(ctx)
	least, known := needs[operation]
	switch {
	case !known:
		return &AccessError{Caller: c, Role: "no one has"}
	case !c.role().Includes(least):
		return &AccessError{Caller: c, Role: least}
	}
	return nil
}

// tokenPrefix begins every token, so that one that got lost is recognised.
const tokenPrefix = "insegna_"

// Times of access.
const (
	sessionIdle   = 12 * time.Hour       // unused for so long, a session ends
	sessionWhole  = 7 * 24 * time.Hour   // and after so long in any case
	invitationFor = 3 * 24 * time.Hour   // a one-time link is valid
	longestToken  = 366 * 24 * time.Hour // a token is valid
	notedEach     = time.Minute          // use is noted at most so often
)

// Authenticate finds who shows a session's or a token's secret; ErrNotFound
// when neither is in force. Both may be "".
func (s *Access) Authenticate(ctx context.Context, session, token string) (who *Caller, err error) {
	now := time.Now().UTC()
	defer func() {
		if err == nil {
			s.last.Store(now.UnixNano())
		}
	}()
	if token != "" {
		secret, err := secretOf(strings.TrimPrefix(token, tokenPrefix))
		if err != nil {
			return nil, store.ErrNotFound
		}
		t, err := s.store.Token(ctx, secret, now)
		if err != nil {
			return nil, err
		}
		if t.UsedAt == nil || now.Sub(*t.UsedAt) > notedEach {
			err = s.store.TokenUsed(ctx, t, now)
		}
		role := Role(t.Person.Role)
		if !Role(t.Scope).Includes(role) {
			role = Role(t.Scope)
		}
		return &Caller{Person: &t.Person, Role: role, Token: t}, err
	}
	secret, err := secretOf(session)
	if err != nil {
		return nil, store.ErrNotFound
	}
	v, err := s.store.Session(ctx, secret, now, now.Add(-sessionIdle))
	if err != nil {
		return nil, err
	}
	if now.Sub(v.SeenAt) > notedEach {
		err = s.store.Seen(ctx, v, now)
	}
	return &Caller{Person: &v.Person, Role: Role(v.Person.Role), Session: v}, err
}

// StillIn says whether the session or token of a caller is still in force, as was
// seen a moment ago at most: many streams of one caller ask the records once.
func (s *Access) StillIn(ctx context.Context) bool {
	c := CallerOf(ctx)
	if c == nil {
		return false
	}
	key := "session " + string(sessionHash(c))
	if c.Token != nil {
		key = fmt.Sprintf("token %d", c.Token.ID)
	}
	in, err := s.still.Get(ctx, key, otter.LoaderFunc[string, bool](func(ctx context.Context, _ string) (bool, error) {
		now := time.Now().UTC()
		if c.Token != nil {
			return s.store.TokenStands(ctx, c.Token.ID, now)
		}
		return s.store.SessionStands(ctx, c.Session.Hash, now)
	}))
	return err != nil || in // while the records do not answer nobody is sent away
}

// sessionHash is what a caller's session is kept under; nil for a token.
func sessionHash(c *Caller) []byte {
	if c.Session == nil {
		return nil
	}
	return c.Session.Hash
}

// stillFor is how long it is taken for true that somebody is in.
const stillFor = 3 * time.Second

// newStill remembers for a moment who is in.
func newStill() *otter.Cache[string, bool] {
	return otter.Must(&otter.Options[string, bool]{MaximumSize: 10_000,
		ExpiryCalculator: otter.ExpiryWriting[string, bool](stillFor)})
}
