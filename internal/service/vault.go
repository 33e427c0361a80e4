package service

import (
	"context"
	"os"
	"path/filepath"
	"time"

	"insegna.example/internal/store"
	"insegna.example/internal/vault"
)

// VaultKeyVariable names the environment variable that may hold the vault's
// keys in place of a file.
const VaultKeyVariable = "INSEGNA_VAULT_KEY"

// markPurpose is what a mark is sealed for.
const markPurpose = "vault mark"

// openVault opens the vault and holds its keys against what they have sealed:
// with a lost or foreign key the service does not start.
func (s *Service) openVault(ctx context.Context) (*vault.Vault, error) {
	marks, err := s.store.VaultMarks(ctx)
	if err != nil {
		return nil, err
	}
	v, err := s.vaultKeys(len(marks) == 0)
	if err != nil {
		return nil, err
	}
	for _, m := range marks {
		if _, err := v.Open(m.Mark, markPurpose); err != nil {
			return nil, err
		}
	}
	mark, err := v.Seal(vault.Secret("insegna"), markPurpose)
	if err != nil {
		return nil, err
	}
	return v, s.store.AddVaultMark(ctx, store.VaultMark{KeyID: v.Key(), Mark: mark, MadeAt: time.Now().UTC()})
}

func (s *Service) vaultKeys(fresh bool) (*vault.Vault, error) {
	if text := os.Getenv(VaultKeyVariable); text != "" {
		return vault.FromText(text, VaultKeyVariable)
	}
	path := s.cfg.VaultKey
	if path == "" {
		path = filepath.Join(s.cfg.Data, "vault.key")
	}
	return vault.FromFile(path, fresh)
}
