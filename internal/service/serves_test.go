package service

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/pkitest"
	"insegna.example/internal/store"
)

// TestWhatIsInForceServes tells what can be installed from what has to be ordered anew.
func TestWhatIsInForceServes(t *testing.T) {
	root := pkitest.CA("root", nil)
	view := func(e *pkitest.Entity, names ...string) *MandateView {
		return &MandateView{Spec: &estate.Mandate{Names: names}, InForce: &store.Order{Chain: certs.PEM(e.Raw)}}
	}
	good := pkitest.Leaf(root, "a.example", pkitest.Valid(-time.Hour, 90*24*time.Hour))
	assert.True(t, view(good, "a.example").serves(pkitest.Now))
	assert.False(t, view(good, "a.example", "b.example").serves(pkitest.Now), "a name is missing")
	assert.False(t, view(good, "a.example").serves(pkitest.Now.Add(91*24*time.Hour)), "it has ended")
	assert.False(t, view(good, "a.example").serves(pkitest.Now.Add(90*24*time.Hour-time.Minute)), "it is about to")
	assert.False(t, (&MandateView{Spec: &estate.Mandate{}}).serves(pkitest.Now))
	assert.False(t, (&MandateView{Spec: &estate.Mandate{}, InForce: &store.Order{}}).serves(pkitest.Now))
}
