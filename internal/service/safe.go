package service

import (
	"context"
	"errors"
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
	mark, err := v.Encrypt(safe.Secret("insegna"), markPurpose)
	if err != nil {
		return nil, err
	}
	return v, s.store.AddSafeMark(ctx, store.SafeMark{KeyID: v.Key(), Mark: mark, MadeAt: time.Now().UTC()})
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
