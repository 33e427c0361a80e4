package service

import (
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"insegna.example/internal/install"
	"insegna.example/internal/safe"
	"insegna.example/internal/store"
)

// sealedPlan is a plan as it is stored: it holds whole configuration files for the
// way back, with whatever secrets these have, so that it is encrypted.
type sealedPlan struct {
	Sealed string `json:"sealed"` // in hexadecimal digits
}

// planPurpose is what the plan of an installation on a server is encrypted for.
func planPurpose(server string) string { return "plan on " + server }

// sealPlan encrypts a plan for its row.
func sealPlan(v *safe.Safe, server string, p *install.Plan) (json.RawMessage, error) {
	text, err := json.Marshal(p)
	if err != nil {
		return nil, err
	}
	return sealText(v, server, text)
}

// sealText encrypts a plan that is written already.
func sealText(v *safe.Safe, server string, text []byte) (json.RawMessage, error) {
	encrypted, err := v.Encrypt(text, planPurpose(server))
	if err != nil {
		return nil, err
	}
	return json.Marshal(sealedPlan{hex.EncodeToString(encrypted)})
}

// openPlan reads a stored plan; none is empty.
func openPlan(v *safe.Safe, server string, stored []byte) (p install.Plan, err error) {
	var sealed sealedPlan
	if len(stored) == 0 {
		return p, nil
	}
	if err := json.Unmarshal(stored, &sealed); err != nil {
		return p, err
	}
	encrypted, err := hex.DecodeString(sealed.Sealed)
	if err != nil {
		return p, err
	}
	text, err := v.Decrypt(encrypted, planPurpose(server))
	if err != nil {
		return p, err
	}
	defer clear(text)
	return p, json.Unmarshal(text, &p)
}

// sealPlans encrypts the plans that were stored before that was done.
func (s *Service) sealPlans(ctx context.Context, v *safe.Safe) error {
	return s.store.SealPlans(ctx, func(p *store.PlainPlan) error {
		sealed, err := sealText(v, p.Server, p.Plan)
		if err != nil {
			return fmt.Errorf("the plan of %s on %s cannot be encrypted: %w", p.Kind, p.Server, err)
		}
		p.Plan = sealed
		return nil
	})
}
