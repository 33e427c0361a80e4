package service

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"time"

	"insegna.example/internal/core/fault"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
)

// personName is what people may be called: it is typed at every sign-in.
var personName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,62}$`)

// NameError says that a person's name is not one.
type NameError struct{ Name string }

// Error says what a name looks like.
func (e *NameError) Error() string {
	return fmt.Sprintf("%q is no name for a person; expected small letters, digits, dot, dash or underscore, such as "+
		"marit.dahl", e.Name)
}

// Told implements fault.Error.
func (e *NameError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Not taken", Next: ""}
}

// ErrSignIn says that name or passphrase is wrong, not which.
var ErrSignIn = fault.New(fault.NotSignedIn, "Not signed in", "name or passphrase is wrong",
	"try again; an admin can give you a new one-time link: insegna person invite NAME")

// FirstInvitation makes the one-time link's code for the first admin; "" when
// somebody has set up the service already.
func (s *Access) FirstInvitation(ctx context.Context) (string, error) {
	any, err := s.store.AnyPerson(ctx)
	if err != nil || any {
		return "", err
	}
	secret, i := invite(time.Now().UTC())
	return i.Code, s.store.InviteFirst(ctx, secret, i.ExpiresAt)
}

// SetUp uses a one-time link: its person chooses a passphrase. The first link
// also chooses the name, and makes an admin.
func (s *Access) SetUp(ctx context.Context, code, name string, passphrase safe.Secret,
	from string) (*store.Person, error) {
	now := time.Now().UTC()
	from = network(from)
	links := []attempt{{"link from " + from, freeTries}}
	if err := s.throttle.begin(now, links); err != nil {
		return nil, err
	}
	secret, err := secretOf(code)
	if err != nil {
		return nil, store.ErrInvitation
	}
	if name != "" && !personName.MatchString(name) {
		return nil, &NameError{name}
	}
	if err := goodPassphrase(passphrase, name); err != nil {
		s.throttle.succeeded(links)
		return nil, err
	}
	kept, err := s.hashing.hash(ctx, from, passphrase)
	if err != nil {
		return nil, err
	}
	first := store.Person{Name: name, Role: string(Admin)}
	p, err := s.store.Accept(ctx, secret, first, kept, func(p store.Person) *store.Act {
		return &store.Act{Actor: p.Name, Action: "person.set-up", Subject: p.Name, Detail: map[string]any{"role": p.Role}}
	}, now)
	if err == nil {
		s.throttle.succeeded(append(links, attempts(p.Name, from)...))
	}
	return p, err
}

// SignIn begins a session and gives its secret.
func (s *Access) SignIn(ctx context.Context, name string, passphrase safe.Secret, from string) (*Caller,
	string, error) {
	now := time.Now().UTC()
	from = network(from)
	tries := attempts(name, from)
	if err := s.throttle.begin(now, tries); err != nil {
		return nil, "", err
	}
	var p *store.Person
	known := false
	same, err := s.hashing.same(ctx, from, passphrase, func() (_ string, err error) {
		p, err = s.store.Person(ctx, name)
		if known = err == nil && p.Passphrase != ""; known {
			return p.Passphrase, nil
		}
		if errors.Is(err, store.ErrNotFound) {
			err = nil
		}
		return standInHash, err
	})
	if err != nil {
		return nil, "", err
	}
	if !same || !known {
		s.cfg.Log.Warn("a sign-in failed", "name", name, "from", from)
		return nil, "", ErrSignIn
	}
	s.throttle.succeeded(tries)
	return s.beginSession(ctx, p, from, now)
}

// beginSession gives the session's secret, which is not stored.
func (s *Access) beginSession(ctx context.Context, p *store.Person, from string, now time.Time) (*Caller, string,
	error) {
	secret, text := newSecret()
	if err := s.store.BeginSession(ctx, p.ID, secret, now, now.Add(sessionWhole),
		&store.Act{Actor: p.Name, Action: "person.sign-in", Subject: p.Name,
			Detail: map[string]any{"from": from}}); err != nil {
		return nil, "", err
	}
	c, err := s.Authenticate(ctx, text, "")
	return c, text, err
}

// BeginSession begins one for somebody who has just set their passphrase.
func (s *Access) BeginSession(ctx context.Context, p *store.Person, from string) (*Caller, string, error) {
	return s.beginSession(ctx, p, from, time.Now().UTC())
}

// SignOut ends the session or revokes the token that was shown.
func (s *Access) SignOut(ctx context.Context) error {
	c := CallerOf(ctx)
	if c.Token != nil {
		return s.RevokeToken(ctx, c.Token.ID)
	}
	return s.store.EndSession(ctx, c.Session.Hash)
}

// ChangePassphrase changes the caller's own, who shows the one before.
func (s *Access) ChangePassphrase(ctx context.Context, before, next safe.Secret, from string) error {
	c, now := CallerOf(ctx), time.Now().UTC()
	from = network(from)
	tries := attempts(c.Person.Name, from)
	if err := s.throttle.begin(now, tries); err != nil {
		return err
	}
	same, err := s.hashing.same(ctx, from, before, func() (string, error) { return c.Person.Passphrase, nil })
	if err != nil {
		return err
	}
	if !same {
		return &PassphraseError{"used until now is another one"}
	}
	s.throttle.succeeded(tries)
	if err := goodPassphrase(next, c.Person.Name); err != nil {
		return err
	}
	kept, err := s.hashing.hash(ctx, from, next)
	if err != nil {
		return err
	}
	var session []byte
	var token int64
	if c.Session != nil {
		session = c.Session.Hash
	} else {
		token = c.Token.ID
	}
	return s.store.SetPassphrase(ctx, c.Person.Name, kept, session, token,
		&store.Act{Actor: c.Person.Name, Action: "person.passphrase", Subject: c.Person.Name}, now)
}

// Invitation is a one-time link: its code, and until when it is valid.
type Invitation struct {
	Code      string    // of the one-time link
	ExpiresAt time.Time // in UTC
}

// invite makes a one-time code and when it ends.
func invite(now time.Time) ([]byte, Invitation) {
	secret, text := newSecret()
	return secret, Invitation{text, now.Add(invitationFor)}
}

// AddPerson adds somebody and gives the one-time link with which they choose
// their passphrase.
func (s *Access) AddPerson(ctx context.Context, name string, role Role) (*store.Person, Invitation, error) {
	if !personName.MatchString(name) {
		return nil, Invitation{}, &NameError{name}
	}
	now := time.Now().UTC()
	secret, i := invite(now)
	p := &store.Person{Name: name, Role: string(role), AddedAt: now}
	err := s.store.AddPerson(ctx, p, secret, i.ExpiresAt,
		&store.Act{Actor: actor(ctx), Action: "person.add", Subject: name, Detail: map[string]any{"role": role}})
	return p, i, err
}

// InvitePerson gives a new one-time link, for a link that got lost or a
// passphrase forgotten.
func (s *Access) InvitePerson(ctx context.Context, name string) (Invitation, error) {
	now := time.Now().UTC()
	secret, i := invite(now)
	return i, s.store.Invite(ctx, name, secret, i.ExpiresAt,
		&store.Act{Actor: actor(ctx), Action: "person.invite", Subject: name}, now)
}

// ChangePerson gives somebody another role.
func (s *Access) ChangePerson(ctx context.Context, name string, role Role) (*store.Person, error) {
	err := s.store.SetRole(ctx, name, string(role),
		&store.Act{Actor: actor(ctx), Action: "person.change", Subject: name, Detail: map[string]any{"role": role}},
		time.Now().UTC())
	if err != nil {
		return nil, err
	}
	return s.store.Person(ctx, name)
}

// LetTakeKeys gives or withdraws the permission to take private keys out of the
// safe.
func (s *Access) LetTakeKeys(ctx context.Context, name string, may bool) (*store.Person, error) {
	err := s.store.SetKeys(ctx, name, may,
		&store.Act{Actor: actor(ctx), Action: "person.keys", Subject: name, Detail: map[string]any{"may": may}},
		time.Now().UTC())
	if err != nil {
		return nil, err
	}
	return s.store.Person(ctx, name)
}

// RemovePerson ends somebody's access.
func (s *Access) RemovePerson(ctx context.Context, name string) error {
	return s.store.RemovePerson(ctx, name, &store.Act{Actor: actor(ctx), Action: "person.remove", Subject: name},
		time.Now().UTC())
}

// TokenError says what is wrong with a token asked for.
type TokenError struct{ Reason string }

// Error is the reason alone.
func (e *TokenError) Error() string { return e.Reason }

// Told implements fault.Error.
func (e *TokenError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Not taken", Next: ""}
}

// MakeToken makes a token for the caller and gives its secret, which is shown
// this once.
func (s *Access) MakeToken(ctx context.Context, name string, scope Role, lasts time.Duration) (*store.Token,
	string, error) {
	c, now := CallerOf(ctx), time.Now().UTC()
	if !c.Role.Includes(scope) {
		return nil, "", &TokenError{fmt.Sprintf("a token cannot have the scope %s: its maker acts as %s", scope, c.Role)}
	}
	if lasts <= 0 || lasts > longestToken {
		return nil, "", &TokenError{"a token is valid from one day to 366 days"}
	}
	if c.Token != nil && now.Add(lasts).After(c.Token.ExpiresAt) {
		return nil, "", &TokenError{fmt.Sprintf("a token made with a token ends no later than that one, on %s; to make a "+
			"longer one, sign in", c.Token.ExpiresAt.UTC().Format("2006-01-02 15:04 UTC"))}
	}
	secret, text := newSecret()
	t := &store.Token{PersonID: c.Person.ID, Name: name, Scope: string(scope), MadeAt: now, ExpiresAt: now.Add(lasts)}
	err := s.store.MakeToken(ctx, t, secret,
		&store.Act{Actor: c.Person.Name, Action: "token.make", Subject: name,
			Detail: map[string]any{"scope": scope, "expires": t.ExpiresAt}})
	t.Person = *c.Person
	return t, tokenPrefix + text, err
}

// Tokens lists the caller's own tokens; an admin sees everybody's.
func (s *Access) Tokens(ctx context.Context) ([]store.Token, error) {
	return s.store.Tokens(ctx, ownOnly(CallerOf(ctx)))
}

// RevokeToken ends one of the caller's tokens; an admin may end anybody's.
func (s *Access) RevokeToken(ctx context.Context, id int64) error {
	c := CallerOf(ctx)
	return s.store.RevokeToken(ctx, id, ownOnly(c), func(t *store.Token) *store.Act {
		return &store.Act{Actor: c.Person.Name, Action: "token.revoke", Subject: t.Name, Detail: map[string]any{"id": t.ID}}
	}, time.Now().UTC())
}

// ownOnly limits a list to the caller's own, but for admins.
func ownOnly(c *Caller) int64 {
	if c.Role == Admin {
		return 0
	}
	return c.Person.ID
}
