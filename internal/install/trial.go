package install

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"math/big"
	"time"

	"insegna.example/internal/core/certs"
)

// trialVersion is what the material of a trial is laid under, followed by some
// digits of its certificate, so that two trials do not get in each other's way.
const trialVersion = "trial-"

// trialLife is how long the certificate of a trial would be valid.
const trialLife = time.Hour

// Trial tries everything of an installation that needs nothing of a CA: the
// server is read, the installation planned, a certificate that nobody else has
// laid beside what serves, and a copy of the configuration with it tested by the
// server. What was laid is taken away again, and nothing is changed. The error
// is what would stand in the way of the installation.
func Trial(ctx context.Context, d Destination, w *Wish) error {
	m, leaf, err := throwaway(w.Names)
	if err != nil {
		return err
	}
	wish := *w
	wish.Leaf, wish.Version, wish.Rehearsal = leaf, trialVersion+leaf.Fingerprint.String()[:8], true
	p, err := d.Plan(ctx, &wish)
	if err != nil {
		return err
	}
	_, err = d.Stage(ctx, &p.Plan, m)
	if err == nil {
		_, err = d.Try(ctx, &p.Plan)
	}
	return errors.Join(err, d.Clear(context.WithoutCancel(ctx), &p.Plan, false))
}

// Throwaway makes a certificate for names that nobody else has, to plan with.
func Throwaway(names []string) (*certs.Certificate, error) {
	_, leaf, err := throwaway(names)
	return leaf, err
}

// throwaway makes a self-signed certificate for names, with its key.
func throwaway(names []string) (*Material, *certs.Certificate, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	now := time.Now()
	t := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: names, NotBefore: now.Add(-trialLife),
		NotAfter: now.Add(trialLife)}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, nil, err
	}
	leaf, err := certs.Parse(der)
	if err != nil {
		return nil, nil, err
	}
	text, err := certs.KeyPEM(key)
	return &Material{Chain: certs.PEM(der), Key: text}, leaf, err
}
