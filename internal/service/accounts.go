package service

import (
	"context"
	"crypto"
	"crypto/x509"
	"errors"
	"fmt"
	"strings"
	"time"

	"insegna.example/internal/acme"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/fault"
	"insegna.example/internal/issue"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// accountSigner takes an account's key out of the safe.
func (s *Ordering) accountSigner(a *store.Account) (acme.Signer, error) {
	der, err := s.safe.Decrypt(a.Encrypted, accountPurpose(a.Directory))
	if err != nil {
		return acme.Signer{}, err
	}
	key, err := x509.ParsePKCS8PrivateKey(der)
	if err != nil {
		return acme.Signer{}, errors.New("an account's key cannot be read")
	}
	return acme.Signer{Key: key.(crypto.Signer), URL: a.URL}, nil
}

// AccountView is an account with what the estate declares of its CA.
type AccountView struct {
	*store.Account
	Test     bool     // at the test directory
	Declared []string // the contact of the estate file; nil where no such CA is declared any more
	Known    bool     // the estate declares that CA and directory
}

// Accounts lists the accounts made here, those that have ended too.
func (s *Ordering) Accounts(ctx context.Context) ([]AccountView, error) {
	rows, err := s.store.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	list := make([]AccountView, len(rows))
	for i := range rows {
		v := AccountView{Account: &rows[i]}
		if e != nil {
			if ca := e.CA(v.CA); ca != nil && ca.ACME != nil {
				v.Test = v.Directory == ca.ACME.TestDirectory && v.Directory != ca.ACME.Directory
				v.Known = v.Test || v.Directory == ca.ACME.Directory
				v.Declared = ca.ACME.Contact
			}
		}
		list[i] = v
	}
	return list, nil
}

// atCA does something with each account of a CA: that at its directory, and that at its
// test directory.
func (s *Ordering) atCA(ctx context.Context, name string, do func(c *acme.Client, ca *estate.CA, a *store.Account) error) error {
	_, ca, declaration, err := s.ca(ctx, name)
	if err != nil {
		return err
	}
	if ca.By != estate.ByACME {
		return &RefusedError{fmt.Sprintf("%s has no accounts: it is asked by %s", ca.Name, ca.By), "see the CAs that have: insegna ca list"}
	}
	met := false
	for _, directory := range []string{ca.ACME.Directory, ca.ACME.TestDirectory} {
		if directory == "" || met && directory == ca.ACME.Directory {
			continue
		}
		a, err := s.store.Account(ctx, directory)
		if errors.Is(err, store.ErrNotFound) || err == nil && a.URL == "" {
			continue
		} else if err != nil {
			return err
		}
		met = true
		c, err := s.acmeClient(ca, directory, declaration)
		if err != nil {
			return err
		}
		var later *work.Later
		if err := s.settleKey(ctx, c, a); errors.As(err, &later) {
			return &RefusedError{"the account at " + ca.Name + " is being given a new key", "try again after " + instant(later.At)}
		} else if err != nil {
			return s.caTrouble(ca, err)
		}
		if err := do(c, ca, a); err != nil {
			return s.caTrouble(ca, err)
		}
	}
	if !met {
		return &RefusedError{"there is no account at " + ca.Name, "agree to its terms first: insegna ca agree " + ca.Name}
	}
	return nil
}

// TellContact tells a CA the contact the estate file declares (RFC 8555 section 7.3.2).
func (s *Ordering) TellContact(ctx context.Context, name string) error {
	return s.atCA(ctx, name, func(c *acme.Client, ca *estate.CA, a *store.Account) error {
		signer, err := s.accountSigner(a)
		if err != nil {
			return err
		}
		contact := ca.ACME.Contact
		if contact == nil {
			contact = []string{} // none is told as none
		}
		if _, err := c.SetContact(ctx, signer, contact); err != nil {
			return err
		}
		return s.store.SetContact(ctx, a.ID, strings.Join(contact, ", "), &store.Act{Actor: actor(ctx), Action: "account.contact", Subject: ca.Name,
			Detail: map[string]any{"contact": contact, "directory": a.Directory}}, time.Now().UTC())
	})
}

// rolling is how long a CA may take to give an account a new key. Orders that meet an
// account twice as long after its next key was kept find out themselves which counts.
const rolling = time.Minute

// RollKey gives the accounts at a CA new keys (RFC 8555 section 7.3.5). The next key is
// kept before the CA hears of it.
func (s *Ordering) RollKey(ctx context.Context, name string) error {
	return s.atCA(ctx, name, func(c *acme.Client, ca *estate.CA, a *store.Account) error {
		if n, err := s.store.UnderWay(ctx, a.ID); err != nil {
			return err
		} else if n > 0 {
			return &RefusedError{fmt.Sprintf("orders from %s are under way with the key the account has (%d)", ca.Name, n),
				"wait until they have ended: insegna order list"}
		}
		old, err := s.accountSigner(a)
		if err != nil {
			return err
		}
		next, err := issue.NewKey("ecdsa-p256")
		if err != nil {
			return err
		}
		der, err := x509.MarshalPKCS8PrivateKey(next)
		if err != nil {
			return err
		}
		encrypted, err := s.safe.Encrypt(safe.Secret(der), accountPurpose(a.Directory))
		if err != nil {
			return err
		}
		if err := s.store.SetNextKey(ctx, a.ID, encrypted, time.Now().UTC()); errors.Is(err, store.ErrNotFound) {
			return &RefusedError{"somebody else gives the account at " + ca.Name + " a new key just now", "see it: insegna account list"}
		} else if err != nil {
			return err
		}
		a.NextKey = encrypted
		limited, cancel := context.WithTimeout(ctx, rolling)
		defer cancel()
		if err := c.ChangeKey(limited, old, next); err != nil {
			var p *acme.Problem
			var bad *acme.ReplyError
			if _, passing := acme.Passing(err); !passing && (errors.As(err, &p) || errors.As(err, &bad)) { // it has refused
				return errors.Join(err, s.store.DropNextKey(ctx, a.ID, encrypted))
			}
			return err // which key counts is asked before the next use
		}
		return s.taken(ctx, a)
	})
}

// taken notes that an account has its next key.
func (s *Ordering) taken(ctx context.Context, a *store.Account) error {
	err := s.store.TakeNextKey(ctx, a.ID, a.NextKey, &store.Act{Actor: actor(ctx), Action: "account.key", Subject: a.CA,
		Detail: map[string]any{"directory": a.Directory}}, time.Now().UTC())
	if errors.Is(err, store.ErrNotFound) {
		return nil // another process has noted it
	}
	return err
}

// settleKey finds out which key an account has, when that was left open by an answer
// that never came, or by a process that died.
func (s *Ordering) settleKey(ctx context.Context, c *acme.Client, a *store.Account) error {
	if a.NextKey == nil {
		return nil
	}
	if until := a.NextAt.Add(2 * rolling); time.Now().Before(until) {
		return &work.Later{At: until}
	}
	probe := *a
	probe.Encrypted = a.NextKey
	next, err := s.accountSigner(&probe)
	if err != nil {
		return err
	}
	found, err := c.Find(ctx, next.Key)
	var p *acme.Problem
	switch {
	case err == nil && found.URL == a.URL:
		if err := s.taken(ctx, a); err != nil {
			return err
		}
		a.Encrypted, a.NextKey = a.NextKey, nil
		return nil
	case err == nil, errors.As(err, &p) && p.Kind() == "accountDoesNotExist":
		err := s.store.DropNextKey(ctx, a.ID, a.NextKey)
		a.NextKey = nil
		return err
	}
	return err
}

// EndAccount deactivates the accounts at a CA for good (RFC 8555 section 7.3.6); their
// keys are destroyed. With orders of the CA under way, or mandates that renew there, that
// has to be agreed to.
func (s *Ordering) EndAccount(ctx context.Context, name string, agreed bool) error {
	if !agreed {
		if n, err := s.store.OrderingFrom(ctx, name); err != nil {
			return err
		} else if n > 0 {
			return &AccountUsedError{name, n}
		}
	}
	return s.atCA(ctx, name, func(c *acme.Client, ca *estate.CA, a *store.Account) error {
		signer, err := s.accountSigner(a)
		if err != nil {
			return err
		}
		if err := c.Deactivate(ctx, signer); err != nil {
			return err
		}
		return s.store.EndAccount(ctx, a.ID, &store.Act{Actor: actor(ctx), Action: "account.end", Subject: ca.Name,
			Detail: map[string]any{"directory": a.Directory}}, time.Now().UTC())
	})
}

// AccountUsedError says that mandates order through an account.
type AccountUsedError struct {
	CA       string // by name
	Mandates int    // that order from it
}

// Error counts them.
func (e *AccountUsedError) Error() string {
	return fmt.Sprintf("mandates order from %[2]s (%[1]d); without an account there they are not renewed, and what it issued cannot be revoked by it", e.Mandates, e.CA)
}

// Told implements fault.Error.
func (e *AccountUsedError) Told() fault.Told {
	return fault.Told{Class: fault.NotNow, Title: "Still used",
		Next: "give the mandates another CA first, or agree to it: insegna account end " + e.CA + " --yes"}
}
