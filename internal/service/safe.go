package service

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"insegna.example/internal/safe"
	"insegna.example/internal/store"
)

// SafeKeyVariable names the environment variable that may hold the safe's
// keys in place of a file.
const SafeKeyVariable = "INSEGNA_SAFE_KEY"

// markPurpose is what a mark is encrypted for.
const markPurpose = "vault mark"

// openSafe opens the safe and holds its keys against what they have encrypted:
// with a lost or foreign key the service does not start.
func (s *Service) openSafe(ctx context.Context) (*safe.Safe, error) {
	marks, err := s.store.SafeMarks(ctx)
	if err != nil {
		return nil, err
	}
	v, err := s.safeKeys(len(marks) == 0)
	if err != nil {
		return nil, err
	}
	for _, m := range marks {
		if _, err := v.Decrypt(m.Mark, markPurpose); err != nil {
			return nil, err
		}
	}
	if err := s.bindAccounts(ctx, v); err != nil {
		return nil, err
	}
	if err := s.sealPlans(ctx, v); err != nil {
		return nil, err
	}
	return v, s.mark(ctx, v)
}

// mark keeps the mark of the key that encrypts.
func (b *base) mark(ctx context.Context, v *safe.Safe) error {
	mark, err := v.Encrypt(safe.Secret("insegna"), markPurpose)
	if err != nil {
		return err
	}
	return b.store.AddSafeMark(ctx, store.SafeMark{KeyID: v.Key(), Mark: mark, MadeAt: time.Now().UTC()})
}

// formerAccountPurpose is what the keys of accounts were encrypted for before they
// were bound to their directory.
const formerAccountPurpose = "account key"

// bindAccounts binds the keys of accounts that were kept before that was done.
func (s *Service) bindAccounts(ctx context.Context, v *safe.Safe) error {
	list, err := s.store.UnboundAccounts(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		open, err := v.Decrypt(list[i].Encrypted, formerAccountPurpose)
		if err != nil {
			return err
		}
		encrypted, err := v.Encrypt(open, accountPurpose(list[i].Name))
		clear(open)
		if err != nil {
			return err
		}
		if err := s.store.Reencrypt(ctx, &list[i], encrypted); err != nil {
			return err
		}
	}
	return nil
}

// SafeState is how far the safe's secrets are encrypted with its newest key.
type SafeState struct {
	Key, Source   string // id of that key, and where the keys come from
	Secrets, Left int    // how many there are, and how many an earlier key holds
}

// Safe says how the safe stands.
func (s *Ordering) Safe(ctx context.Context) (*SafeState, error) {
	out := &SafeState{Key: s.safe.Key(), Source: s.safe.Source()}
	id, err := hex.DecodeString(out.Key)
	if err != nil {
		return nil, err
	}
	out.Secrets, out.Left, err = s.store.CountEncrypted(ctx, id)
	return out, err
}

// renewedAtOnce is how many secrets are encrypted anew in one call.
const renewedAtOnce = 200

// RenewSafeKey makes a new key when begin says so, and encrypts a part of what
// earlier ones hold with the newest. Broken off anywhere, everything can be read;
// called until nothing is left, the earlier keys are needed no more.
func (s *Ordering) RenewSafeKey(ctx context.Context, begin bool) (*SafeState, error) {
	if begin {
		err := s.safe.Renew()
		if errors.Is(err, safe.ErrNoFile) {
			return nil, &RefusedError{"the safe's keys are in " + SafeKeyVariable + ", which the service cannot change",
				"put a new key in front of the old one there, start the service anew, and run: insegna safe renew-key --continue"}
		} else if err != nil {
			return nil, &RefusedError{"no new key could be made: " + err.Error(), "see that the service may write there"}
		}
		if err := s.mark(ctx, s.safe); err != nil {
			return nil, err
		}
		if err := s.store.Note(ctx, &store.Act{Actor: actor(ctx), Action: "safe.renew-key", Subject: s.safe.Key()},
			time.Now().UTC()); err != nil {
			return nil, err
		}
	}
	key := s.safe.Key()
	id, err := hex.DecodeString(key)
	if err != nil {
		return nil, err
	}
	rows, err := s.store.EncryptedOtherwise(ctx, id, renewedAtOnce)
	if err != nil {
		return nil, err
	}
	for i := range rows {
		purpose := map[string]string{"accounts": accountPurpose(rows[i].Name), "next_keys": accountPurpose(rows[i].Name), "acme_customers": customerPurpose(rows[i].Name), "credentials": credentialPurpose(rows[i].Name),
			"orders": orderPurpose(rows[i].ID), "authorities": authorityPurpose(rows[i].ID), "installations": planPurpose(rows[i].Name),
			"https_runs": planPurpose(rows[i].Name)}[rows[i].Kind]
		open, err := s.safe.Decrypt(rows[i].Encrypted, purpose)
		if err != nil {
			return nil, err
		}
		encrypted, err := s.safe.Encrypt(open, purpose)
		clear(open)
		if err != nil {
			return nil, err
		}
		if err := s.store.Reencrypt(ctx, &rows[i], encrypted); err != nil {
			return nil, err
		}
	}
	out, err := s.Safe(ctx)
	if err == nil && out.Left == 0 {
		err = s.store.DropSafeMarks(ctx, key)
	}
	return out, err
}

// TakeKey takes the private key of the certificate an order brought out of the
// safe, for who has that permission; the journal says who, and why.
func (s *Ordering) TakeKey(ctx context.Context, order int64, reason string) ([]byte, error) {
	if c := CallerOf(ctx); c == nil || !c.Person.Keys {
		return nil, &AccessError{Caller: c, Keys: true}
	}
	o, err := s.Order(ctx, order)
	if err != nil {
		return nil, err
	}
	if o.Chain == nil {
		return nil, &RefusedError{fmt.Sprintf("order %d has brought no certificate", order),
			fmt.Sprintf("see how it stands: insegna order show %d", order)}
	}
	key, err := s.orderKey(o.Order)
	if err != nil {
		return nil, err
	}
	return key, s.store.Note(ctx,
		&store.Act{Actor: actor(ctx), Action: "key.take", Subject: fmt.Sprintf("order %d", order),
			Detail: map[string]any{"mandate": o.Mandate, "reason": reason, "certificate": hex.EncodeToString(o.Leaf)}},
		time.Now().UTC())
}

// Where the safe's keys were before it had its name.
const (
	formerVariable = "INSEGNA_VAULT_KEY"
	formerFile     = "vault.key"
)

// safeKeys takes the safe's keys from the environment, the file that is named,
// or the file in the data directory, which is made when fresh says so.
func (s *Service) safeKeys(fresh bool) (*safe.Safe, error) {
	if os.Getenv(formerVariable) != "" {
		return nil, &safe.KeyError{Source: formerVariable, Problem: "is not read any more",
			Next: "name the variable " + SafeKeyVariable}
	}
	if text := os.Getenv(SafeKeyVariable); text != "" {
		return safe.FromText(text, SafeKeyVariable)
	}
	path := s.cfg.SafeKey
	if path == "" {
		path = filepath.Join(s.cfg.Data, "safe.key")
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			if err := os.Rename(filepath.Join(s.cfg.Data, formerFile), path); err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
		}
	}
	return safe.FromFile(path, fresh)
}
