package notice

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"strconv"
	"strings"
	"time"

	"github.com/wneessen/go-mail"
)

// Undelivered says why a message was not handed over.
type Undelivered struct {
	Words   string // what was said, or what happened
	Refused bool   // for good: the same again would be refused again
	Cause   error  // nil for none
}

// Error is what happened.
func (e *Undelivered) Error() string { return e.Words }

// Unwrap gives what it came from.
func (e *Undelivered) Unwrap() error { return e.Cause }

// Within bounds the handing over of one message, whatever the other side does.
const Within = 45 * time.Second

// saidMost is the most that is read of what the other side says, in bytes.
const saidMost = 256 << 10

// Mail is where mail is handed in.
type Mail struct {
	Server   string         // host:port
	Security string         // starttls, tls or none, as an estate file has it
	From     string         // address
	User     string         // "" signs in nowhere
	Password string         // of the user
	Roots    *x509.CertPool // its certificate is trusted by; nil for the system's
	Within   time.Duration  // all of it; 0 for the usual
}

// Letter is a message on its way to one address.
type Letter struct {
	ID      string    // the same for each try
	To      string    // address
	Subject string    // one line
	Text    string    // plain
	HTML    string    // "" for none
	At      time.Time // it was written
}

// Send hands a letter in. The error is an *Undelivered.
func (m *Mail) Send(ctx context.Context, l *Letter) error {
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(m.Within, Within))
	defer cancel()
	client, err := m.client(ctx)
	if err != nil {
		return &Undelivered{Words: err.Error(), Cause: err}
	}
	msg, err := m.message(l)
	if err != nil {
		return &Undelivered{Words: err.Error(), Refused: true, Cause: err}
	}
	if err := client.DialAndSendWithContext(ctx, msg); err != nil && !msg.IsDelivered() {
		return m.undelivered(ctx, err)
	}
	return nil // what went wrong after it was taken concerns nobody
}

// client makes what speaks with the server.
func (m *Mail) client(whole context.Context) (*mail.Client, error) {
	host, portText, err := net.SplitHostPort(m.Server)
	if err != nil {
		return nil, err
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return nil, err
	}
	trust := &tls.Config{ServerName: host, RootCAs: m.Roots, MinVersion: tls.VersionTLS12}
	options := []mail.Option{mail.WithPort(port), mail.WithTimeout(cmp.Or(m.Within, Within)), mail.WithHELO("insegna"), mail.WithTLSConfig(trust)}
	dial := dialer(whole)
	switch m.Security {
	case "tls":
		options = append(options, mail.WithSSL(), mail.WithDialContextFunc(func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := dial(ctx, network, address)
			if err != nil {
				return nil, err
			}
			secure := tls.Client(conn, trust)
			return secure, secure.HandshakeContext(ctx)
		}))
	case "none":
		options = append(options, mail.WithTLSPolicy(mail.NoTLS))
	default:
		options = append(options, mail.WithTLSPolicy(mail.TLSMandatory))
	}
	if m.Security != "tls" {
		options = append(options, mail.WithDialContextFunc(dial))
	}
	if m.User != "" {
		options = append(options, mail.WithSMTPAuth(mail.SMTPAuthAutoDiscover), mail.WithUsername(m.User), mail.WithPassword(m.Password))
		if m.Security == "tls" { // the library does not see that the connection is encrypted
			options = append(options, mail.WithOpportunisticSMTPAuth(mail.SMTPAuthSCRAMSHA256, mail.SMTPAuthPlainNoEnc, mail.SMTPAuthLoginNoEnc))
		}
	}
	return mail.NewClient(host, options...)
}

// message writes a letter as mail has it (RFC 5322), marked as sent by a program (RFC 3834).
func (m *Mail) message(l *Letter) (*mail.Msg, error) {
	msg := mail.NewMsg(mail.WithNoDefaultUserAgent())
	if err := msg.FromFormat("Insegna", m.From); err != nil {
		return nil, fmt.Errorf("the address mail comes from: %w", err)
	}
	if err := msg.To(l.To); err != nil {
		return nil, fmt.Errorf("the address mail goes to: %w", err)
	}
	_, domain, _ := strings.Cut(m.From, "@")
	msg.SetMessageIDWithValue(l.ID + "@" + domain)
	msg.SetDateWithValue(l.At)
	msg.SetGenHeader("Auto-Submitted", "auto-generated")
	msg.Subject(l.Subject)
	msg.SetBodyString(mail.TypeTextPlain, l.Text)
	if l.HTML != "" {
		msg.AddAlternativeString(mail.TypeTextHTML, l.HTML)
	}
	return msg, nil
}

// undelivered says what went wrong in the server's own words.
func (m *Mail) undelivered(ctx context.Context, err error) error {
	out := &Undelivered{Cause: err}
	var said *mail.SendError
	var late net.Error
	switch {
	case ctx.Err() != nil, errors.As(err, &late) && late.Timeout():
		out.Words = fmt.Sprintf("%s did not take it within %s", m.Server, cmp.Or(m.Within, Within))
	case errors.As(err, &said) && said.ErrorCode() > 0:
		out.Words = fmt.Sprintf("%s says: %s", m.Server, oneLine(said.Error()))
		out.Refused = said.ErrorCode() >= 500 && said.Reason != mail.ErrAmbiguous
	default:
		out.Words = fmt.Sprintf("%s: %s", m.Server, oneLine(err.Error()))
	}
	if runes := []rune(out.Words); len(runes) > 400 {
		out.Words = string(runes[:399]) + "…"
	}
	return out
}

// dialer opens connections that end with a context, whatever is awaited on them, and read a
// bounded amount. What one is opened in is another context, which ends once it is open.
func dialer(whole context.Context) mail.DialContextFunc {
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := (&net.Dialer{}).DialContext(ctx, network, address)
		if err != nil {
			return nil, err
		}
		context.AfterFunc(whole, func() { _ = conn.Close() })
		return &boundedConn{Conn: conn, left: saidMost}, nil
	}
}

// boundedConn reads a bounded amount.
type boundedConn struct {
	net.Conn
	left int
}

// Read implements net.Conn.
func (c *boundedConn) Read(p []byte) (int, error) {
	if c.left <= 0 {
		return 0, fmt.Errorf("it says more than %d KB: %w", saidMost>>10, io.ErrShortBuffer)
	}
	n, err := c.Conn.Read(p[:min(len(p), c.left)])
	c.left -= n
	return n, err
}
