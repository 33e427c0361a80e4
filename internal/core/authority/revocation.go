package authority

import (
	"crypto"
	"crypto/x509"
	"fmt"
	"io"
	"math/big"
	"time"

	"golang.org/x/crypto/ocsp"
)

// Revoked is a certificate that is good no more.
type Revoked struct {
	Serial *big.Int
	At     time.Time
	Reason int // RFC 5280 section 5.3.1
}

// Reasons are those people may give, by the words of RFC 5280 section 5.3.1.
var Reasons = map[string]int{"unspecified": 0, "keyCompromise": 1, "cACompromise": 2, "affiliationChanged": 3, "superseded": 4,
	"cessationOfOperation": 5, "privilegeWithdrawn": 9}

// List signs a revocation list (RFC 5280 section 5), good until the next one.
func (s *Signer) List(list []Revoked, number int64, now, next time.Time, random io.Reader) ([]byte, error) {
	t := &x509.RevocationList{Number: big.NewInt(number), ThisUpdate: now, NextUpdate: next}
	for _, r := range list {
		t.RevokedCertificateEntries = append(t.RevokedCertificateEntries, x509.RevocationListEntry{SerialNumber: r.Serial,
			RevocationTime: r.At, ReasonCode: r.Reason})
	}
	return x509.CreateRevocationList(random, t, s.Certificate, s.Key)
}

// Question is what an OCSP request asks about (RFC 6960 section 4.1).
type Question struct {
	Serial           *big.Int
	hash             crypto.Hash
	issuer, issuerPK []byte
}

// longestQuestion bounds a request, in bytes: it names one certificate.
const longestQuestion = 4 << 10

// ParseQuestion reads a request in DER.
func ParseQuestion(der []byte) (*Question, error) {
	if len(der) > longestQuestion {
		return nil, fmt.Errorf("a request of %d bytes; at most %d are read", len(der), longestQuestion)
	}
	r, err := ocsp.ParseRequest(der)
	if err != nil {
		return nil, err
	}
	return &Question{r.SerialNumber, r.HashAlgorithm, r.IssuerNameHash, r.IssuerKeyHash}, nil
}

// Key tells questions apart that have different answers.
func (q *Question) Key() string {
	return fmt.Sprintf("%d %x %x %x", q.hash, q.issuer, q.issuerPK, q.Serial)
}

// Asks says whether it is about a certificate of this CA.
func (q *Question) Asks(s *Signer) bool {
	at, err := ocsp.CreateRequest(&x509.Certificate{SerialNumber: q.Serial}, s.Certificate, &ocsp.RequestOptions{Hash: q.hash})
	if err != nil {
		return false
	}
	own, err := ocsp.ParseRequest(at)
	return err == nil && string(own.IssuerNameHash) == string(q.issuer) && string(own.IssuerKeyHash) == string(q.issuerPK)
}

// Answer signs the answer to a question (RFC 6960 section 4.2): good, revoked, or
// unknown where issued is false.
func (s *Signer) Answer(q *Question, issued bool, revoked *Revoked, now, next time.Time) ([]byte, error) {
	t := ocsp.Response{Status: ocsp.Good, SerialNumber: q.Serial, ThisUpdate: now, NextUpdate: next, IssuerHash: q.hash}
	switch {
	case !issued:
		t.Status = ocsp.Unknown
	case revoked != nil:
		t.Status, t.RevokedAt, t.RevocationReason = ocsp.Revoked, revoked.At, revoked.Reason
	}
	return ocsp.CreateResponse(s.Certificate, s.Certificate, t, s.Key)
}

// Refused and malformed are the answers without a signature (RFC 6960 section
// 4.2.1).
var (
	Unauthorized = ocsp.UnauthorizedErrorResponse
	Malformed    = ocsp.MalformedRequestErrorResponse
)
