package certs

import (
	"bytes"
	"encoding/pem"
	"fmt"
)

// ReadLimit is the most a certificate file may hold, in bytes.
const ReadLimit = 4 << 20

// Kind names what a PEM block or a file turned out to be.
type Kind string

// What can be met in a file that should hold certificates.
const (
	KindCertificate Kind = "certificate"
	KindKey         Kind = "private key"
	KindRequest     Kind = "certificate request"
	KindOther       Kind = "other"
)

// Item is one object found in a file, in file order.
type Item struct {
	Kind        Kind         // certificate, key, request or other
	Label       string       // the PEM label, "" for DER
	Line        int          // line of the BEGIN mark, counted from 1; 0 for DER
	Certificate *Certificate // set when Kind is KindCertificate and Err is nil
	Err         error        // why this one object could not be read
	Other       Other        // of what is no certificate: what it is; by Describe only
}

// FormatError says that a file holds nothing that can be used, and what was
// found instead.
type FormatError struct {
	Found    string // what the bytes look like
	Line     int    // line in the file, 0 when it does not apply
	Expected string // what would be right
}

// Error names the line where there is one; a DER file has none.
func (e *FormatError) Error() string {
	at := ""
	if e.Line > 0 {
		at = fmt.Sprintf("line %d: ", e.Line)
	}
	return fmt.Sprintf("%s%s; expected %s", at, e.Found, e.Expected)
}

// expectedMaterial is what a file of certificates may hold, as errors say it.
const expectedMaterial = "certificates as PEM (-----BEGIN CERTIFICATE-----) or one DER certificate"

// Read finds every object in a PEM or DER file: any order, text around it,
// CRLF line ends (RFC 7468 section 2). A broken object is reported in its
// Item, so that the others are still read. The error is a *FormatError when
// nothing at all was found.
func Read(data []byte) ([]Item, error) { return read(data, false) }

// Describe is Read for people: what is no certificate is looked into as well,
// also where it stands alone, and told as what it is.
func Describe(data []byte) ([]Item, error) { return read(data, true) }

// read does the work of both.
func read(data []byte, describe bool) ([]Item, error) {
	if len(data) > ReadLimit {
		return nil, &FormatError{Found: fmt.Sprintf("file of %d bytes", len(data)),
			Expected: fmt.Sprintf("at most %d bytes", ReadLimit)}
	}
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if bytes.Contains(data, []byte("-----BEGIN ")) {
		return readPEM(data, describe)
	}
	if len(bytes.TrimSpace(data)) == 0 {
		return nil, &FormatError{Found: "the file is empty", Expected: expectedMaterial}
	}
	if data[0] != 0x30 {
		return nil, &FormatError{Found: "neither PEM nor DER", Expected: expectedMaterial}
	}
	c, err := Parse(data)
	if err != nil {
		return readDER(data, err, describe)
	}
	return []Item{{Kind: KindCertificate, Certificate: c}}, nil
}

// readDER tells what DER data is that is no certificate.
func readDER(data []byte, notOne error, describe bool) ([]Item, error) {
	found := "DER data that is " + notOne.Error()
	if cut := cutShort(data); cut != "" {
		found = cut
	} else if kind, label := derKind(data); kind != "" {
		if describe {
			item := Item{Kind: kind}
			item.Other, item.Err = described(kind, &pem.Block{Type: label, Bytes: bytes.Clone(data)})
			return []Item{item}, nil
		}
		found = "DER data that is a " + string(kind)
	}
	return nil, &FormatError{Found: found, Expected: expectedMaterial}
}

// readPEM reads every block of a file, also those that are no certificates, so
// that a key among them is noticed. A block that is broken ends the reading:
// what follows it cannot be told apart from its contents.
func readPEM(data []byte, describe bool) ([]Item, error) {
	var items []Item
	rest := data
	for {
		begin := bytes.Index(rest, []byte("-----BEGIN "))
		if begin < 0 {
			break
		}
		line := 1 + bytes.Count(data[:len(data)-len(rest)+begin], []byte("\n"))
		block, after := pem.Decode(rest[begin:])
		if block == nil {
			return append(items, Item{Kind: KindOther, Line: line, Err: brokenBlock(line)}), nil
		}
		if skipped := bytes.Count(rest[begin:len(rest)-len(after)], []byte("-----BEGIN ")); skipped > 1 {
			// pem.Decode stepped over a broken block to reach a sound one.
			items = append(items, Item{Kind: KindOther, Line: line, Err: brokenBlock(line)})
			sound := bytes.LastIndex(rest[:len(rest)-len(after)], []byte("-----BEGIN "))
			line = 1 + bytes.Count(data[:len(data)-len(rest)+sound], []byte("\n"))
		}
		items = append(items, itemOf(block, line, describe))
		rest = after
	}
	return items, nil
}

// brokenBlock tells of a block whose end or encoding is wrong. The standard
// decoder skips such blocks silently, and a certificate would go missing
// unnoticed.
func brokenBlock(line int) error {
	return &FormatError{Found: "a PEM block that does not end or is not base64", Line: line,
		Expected: "base64 lines and a matching -----END----- line"}
}

// itemOf parses a block that says it is a certificate. One that cannot be
// parsed stays in the list with its error, so that the others keep their
// places.
func itemOf(b *pem.Block, line int, describe bool) Item {
	item := Item{Kind: kindOf(b.Type), Label: b.Type, Line: line}
	if item.Kind != KindCertificate {
		if describe {
			var err error
			if item.Other, err = described(item.Kind, b); err != nil {
				item.Err = fmt.Errorf("line %d: %w", line, err)
			}
		}
		return item
	}
	c, err := Parse(b.Bytes)
	if err != nil {
		item.Err = &FormatError{Found: err.Error(), Line: line, Expected: "a certificate inside this PEM block"}
		return item
	}
	item.Certificate = c
	return item
}

// kindOf goes by the label alone (RFC 7468), also by the older ones that files
// in the field still have.
func kindOf(label string) Kind {
	switch label {
	case "CERTIFICATE", "X509 CERTIFICATE":
		return KindCertificate
	case "PRIVATE KEY", "RSA PRIVATE KEY", "EC PRIVATE KEY", "ENCRYPTED PRIVATE KEY":
		return KindKey
	case "CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST":
		return KindRequest
	case "X509 CRL":
		return KindRevoked
	case "PKCS7", "CMS", "PKCS #7 SIGNED DATA":
		return KindPKCS7
	}
	return KindOther
}

// ReadCertificates is Read for places where only certificates will do: the
// first broken object is the error, other kinds are skipped, and at least one
// certificate must be there.
func ReadCertificates(data []byte) ([]*Certificate, error) {
	items, err := Read(data)
	if err != nil {
		return nil, err
	}
	var out []*Certificate
	for _, it := range items {
		if it.Err != nil {
			return nil, it.Err
		}
		if it.Certificate != nil {
			out = append(out, it.Certificate)
		}
	}
	if len(out) == 0 {
		return nil, &FormatError{Found: "a file with " + string(items[0].Kind) + " only", Expected: expectedMaterial}
	}
	return out, nil
}

// PEM writes one certificate as a PEM block.
func PEM(der []byte) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der})
}
