package look

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"time"

	"golang.org/x/crypto/cryptobyte"

	"insegna.example/internal/core/binding"
)

// TLS numbers this file needs (RFC 5246, RFC 8446).
const (
	recordAlert, recordHandshake                 = 21, 22
	msgClientHello, msgServerHello               = 1, 2
	msgCertificate, msgServerHelloDone           = 11, 14
	extServerName, extGroups, extPoints, extSigs = 0, 10, 11, 13
	version12                                    = 0x0303
	recordLimit                                  = 1<<14 + 2048
)

// ask sends a hand-built TLS 1.2 hello and reads up to the Certificate
// message, which that version sends in clear. It takes what crypto/tls
// refuses: certificates that break its rules, keys of any size, lists up to
// MaterialLimit, old suites. Nothing is verified and no key is agreed.
func (l *Looker) ask(ctx context.Context, dial Dial, host string) *binding.Observation {
	o := &binding.Observation{At: time.Now().UTC()}
	conn, err := l.connect(ctx, dial, o)
	if err != nil {
		return o
	}
	defer func() { _ = conn.Close() }()
	defer stopWith(ctx, conn)()
	began := time.Now()
	if _, err = conn.Write(clientHello(host)); err == nil {
		err = readFlight(newMessages(conn), o)
	}
	o.Handshake = time.Since(began)
	var alert alertError
	switch {
	case err == nil:
	case errors.As(err, &alert):
		o.Outcome, o.Alert, o.Detail = binding.Alert, uint8(alert), alert.Error()
	case errors.Is(err, errTooLarge):
		o.Outcome, o.Detail = binding.TooLarge, err.Error()
	case errors.Is(err, errMalformed):
		o.Outcome, o.Detail = binding.Malformed, clean(err.Error())
	default:
		o.Outcome, o.Alert, o.Detail = classify(err, conn)
	}
	return o
}

var (
	// errTooLarge ends a look at a server that sends material without end.
	errTooLarge = fmt.Errorf("more than %d bytes of certificate material", MaterialLimit)
	// errMalformed ends a look at what is not TLS, or not whole.
	errMalformed = errors.New("not a TLS server flight")
)

// alertError is the alert a server answered with.
type alertError uint8

// Error has the alert's name of RFC 8446 section 6.
func (a alertError) Error() string { return "TLS alert " + binding.AlertName(uint8(a)) }

// suitesOffered are ECDHE, DHE and RSA suites from strong to obsolete.
var suitesOffered = []uint16{
	0xC02B, 0xC02F, 0xC02C, 0xC030, 0xCCA9, 0xCCA8, 0x009E, 0x009F, 0xCCAA,
	0xC009, 0xC013, 0xC00A, 0xC014, 0xC023, 0xC027, 0x0033, 0x0039, 0x0067, 0x006B,
	0x009C, 0x009D, 0x003C, 0x003D, 0x002F, 0x0035, 0x000A, 0x0016, 0x0005, 0x0004,
}

// signaturesOffered are all schemes in use, also old ones: it is to be seen
// what a server has, not to be trusted (RFC 8446 section 4.2.3).
var signaturesOffered = []uint16{0x0403, 0x0503, 0x0603, 0x0804, 0x0805, 0x0806, 0x0401, 0x0501, 0x0601, 0x0807,
	0x0203, 0x0201}

// clientHello builds the record (RFC 5246 section 7.4.1.2). Its random is
// fixed: no key comes of this handshake.
func clientHello(host string) []byte {
	b := cryptobyte.NewBuilder(nil)
	b.AddUint8(recordHandshake)
	b.AddUint16(0x0301)
	b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
		b.AddUint8(msgClientHello)
		b.AddUint24LengthPrefixed(func(b *cryptobyte.Builder) {
			b.AddUint16(version12)
			b.AddBytes(make([]byte, 32))
			b.AddUint8(0) // no session
			addList(b, suitesOffered)
			b.AddBytes([]byte{1, 0}) // no compression
			b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) { extensions(b, host) })
		})
	})
	return b.BytesOrPanic()
}

// addList writes a list of 16-bit values with its length before it.
func addList(b *cryptobyte.Builder, list []uint16) {
	b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
		for _, v := range list {
			b.AddUint16(v)
		}
	})
}

// extensions writes the extensions of a hello that any server can answer. An IP
// address is not sent as a name (RFC 6066 section 3).
func extensions(b *cryptobyte.Builder, host string) {
	if _, err := netip.ParseAddr(host); err != nil && host != "" {
		b.AddUint16(extServerName)
		b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
			b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) {
				b.AddUint8(0)
				b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes([]byte(host)) })
			})
		})
	}
	b.AddUint16(extGroups)
	b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) { addList(b, []uint16{0x001D, 0x0017, 0x0018, 0x0019}) })
	b.AddUint16(extPoints)
	b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) { b.AddBytes([]byte{1, 0}) })
	b.AddUint16(extSigs)
	b.AddUint16LengthPrefixed(func(b *cryptobyte.Builder) { addList(b, signaturesOffered) })
}

// messages reads handshake messages across records.
type messages struct {
	r    *bufio.Reader // the connection
	left int           // bytes of the current record not yet read
}

// newMessages reads handshake messages out of records.
func newMessages(r io.Reader) *messages { return &messages{r: bufio.NewReader(r)} }

// record reads the header of the next record and holds it against the limits of
// RFC 8446 section 5.1; an alert ends the reading.
func (m *messages) record() error {
	var h [5]byte
	if _, err := io.ReadFull(m.r, h[:]); err != nil {
		return err
	}
	size := int(binary.BigEndian.Uint16(h[3:]))
	switch {
	case h[1] != 3 || size == 0 || size > recordLimit:
		return fmt.Errorf("%w: record header % x", errMalformed, h)
	case h[0] == recordAlert:
		var a [2]byte
		if _, err := io.ReadFull(m.r, a[:]); err != nil {
			return err
		}
		return alertError(a[1])
	case h[0] != recordHandshake:
		return fmt.Errorf("%w: record type %d", errMalformed, h[0])
	}
	m.left = size
	return nil
}

// Read joins records to one stream of handshake bytes, for messages may cross
// their borders.
func (m *messages) Read(p []byte) (int, error) {
	for m.left == 0 {
		if err := m.record(); err != nil {
			return 0, err
		}
	}
	n, err := m.r.Read(p[:min(len(p), m.left)])
	m.left -= n
	return n, err
}

// next reads one whole handshake message.
func (m *messages) next() (kind byte, body []byte, err error) {
	var h [4]byte
	if _, err := io.ReadFull(m, h[:]); err != nil {
		return 0, nil, err
	}
	size := int(h[1])<<16 | int(h[2])<<8 | int(h[3])
	if size > MaterialLimit {
		return 0, nil, errTooLarge
	}
	body = make([]byte, 0, min(size, 1<<15))
	for len(body) < size {
		chunk := min(size-len(body), 1<<15)
		at := len(body)
		body = append(body, make([]byte, chunk)...)
		if _, err := io.ReadFull(m, body[at:]); err != nil {
			return 0, nil, err
		}
	}
	return h[0], body, nil
}

// readFlight takes version and suite from the ServerHello and the list from
// the Certificate message.
func readFlight(m *messages, o *binding.Observation) error {
	for range 8 {
		kind, body, err := m.next()
		if err != nil {
			return err
		}
		switch kind {
		case msgServerHello:
			if err := readServerHello(body, o); err != nil {
				return err
			}
		case msgCertificate:
			o.Served, err = readList(body)
			if err == nil {
				o.Outcome = binding.Connected
			}
			return err
		case msgServerHelloDone:
			return fmt.Errorf("%w: it brought no certificate", errMalformed)
		}
	}
	return fmt.Errorf("%w: too many messages before the certificate", errMalformed)
}

// readServerHello takes version and cipher suite; nothing else of it is of use
// before the certificates (RFC 5246 section 7.4.1.3).
func readServerHello(body []byte, o *binding.Observation) error {
	s := cryptobyte.String(body)
	var session cryptobyte.String
	if !s.ReadUint16(&o.Version) || !s.Skip(32) || !s.ReadUint8LengthPrefixed(&session) || !s.ReadUint16(&o.Suite) {
		return fmt.Errorf("%w: short ServerHello", errMalformed)
	}
	return nil
}

// readList takes the certificates apart (RFC 5246 section 7.4.2). A list whose
// lengths do not add up is refused whole.
func readList(body []byte) ([][]byte, error) {
	s := cryptobyte.String(body)
	var list cryptobyte.String
	if !s.ReadUint24LengthPrefixed(&list) || !s.Empty() {
		return nil, fmt.Errorf("%w: the certificate list's length is wrong", errMalformed)
	}
	var out [][]byte
	for !list.Empty() {
		var der cryptobyte.String
		if !list.ReadUint24LengthPrefixed(&der) {
			return nil, fmt.Errorf("%w: a certificate's length is wrong", errMalformed)
		}
		out = append(out, der)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%w: the certificate list is empty", errMalformed)
	}
	return out, nil
}
