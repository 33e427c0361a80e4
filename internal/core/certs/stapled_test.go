package certs_test

import (
	"encoding/hex"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ocsp"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/pkitest"
)

// TestAnErrorIsNoStaple tells an answer of a responder from what else may be sent.
func TestAnErrorIsNoStaple(t *testing.T) {
	root := pkitest.CA("root", nil)
	good, err := ocsp.CreateResponse(root.X509(), root.X509(), ocsp.Response{Status: ocsp.Good, SerialNumber: root.X509().SerialNumber,
		ThisUpdate: time.Now(), NextUpdate: time.Now().Add(time.Hour)}, root.Key)
	require.NoError(t, err)
	assert.Empty(t, certs.StapleFault(good))
	assert.Contains(t, certs.StapleFault(append(good, 0)), "no OCSP response")
	for der, fault := range map[string]string{"": "none is sent", "30030a0103": "tryLater", "30030a0106": "unauthorized",
		"30030a0109": "error 9", "30030a0100": "holds no answer", "ff": "no OCSP response"} {
		raw, err := hex.DecodeString(der)
		require.NoError(t, err)
		assert.Contains(t, certs.StapleFault(raw), fault)
	}
}
