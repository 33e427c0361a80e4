// Package sink is a stand-in for a mail server and for programs that are told by webhook: it
// takes what comes, keeps it, and shows it on a page. It can also misbehave as such servers
// do. It is for tests and the demo, and hands nothing on.
package sink

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Config says where a sink listens and how it behaves.
type Config struct {
	Mail           string           // address of the mail server
	Page           string           // address of webhooks and of the page
	Certificate    *tls.Certificate // of the mail server; nil for no TLS
	TLS            bool             // from the start, instead of STARTTLS
	User, Password string           // who may hand mail in; "" for anybody
	Secret         string           // that hooks are signed with; "" takes any
	Greylist       int              // tries of each letter that are put off
	Refuse         string           // a part of addresses that are refused for good
	Lose           int              // letters that are taken without a word, and the connection lost
}

// Message is what came in.
type Message struct {
	At       time.Time
	By       string // mail or webhook
	To       string // address or path
	From     string // of mail
	Subject  string
	ID       string // Message-ID, or the number of a hook's message
	Text     string // of mail as plain text, or the hook's JSON
	HTML     string // of mail
	Header   map[string][]string
	Verified bool // a hook's signature is right, and fresh
	Secure   bool // it came over TLS
}

// Sink is a running stand-in.
type Sink struct {
	config Config
	mail   *smtp.Server
	page   *http.Server
	lines  net.Listener // of mail
	pages  net.Listener

	mu   sync.Mutex
	list []Message
	puts map[string]int // how often letters were put off, by receiver and subject
	lost int            // letters

}

// kept is how many messages are kept.
const kept = 500

// largest is the most one message may hold, in bytes.
const largest = 4 << 20

// Start listens. Stop ends it.
func Start(c Config) (*Sink, error) {
	s := &Sink{config: c, puts: map[string]int{}}
	var err error
	if s.lines, err = net.Listen("tcp", c.Mail); err != nil {
		return nil, err
	}
	if s.pages, err = net.Listen("tcp", c.Page); err != nil {
		_ = s.lines.Close()
		return nil, err
	}
	s.mail = smtp.NewServer(smtp.BackendFunc(func(conn *smtp.Conn) (smtp.Session, error) { return &session{sink: s, conn: conn}, nil }))
	s.mail.Domain, s.mail.MaxMessageBytes, s.mail.AllowInsecureAuth = "sink.example", largest, false
	s.mail.ReadTimeout, s.mail.WriteTimeout = time.Minute, time.Minute
	lines := s.lines
	if c.Certificate != nil {
		s.mail.TLSConfig = &tls.Config{Certificates: []tls.Certificate{*c.Certificate}, MinVersion: tls.VersionTLS12}
		if c.TLS {
			lines = tls.NewListener(s.lines, s.mail.TLSConfig)
		}
	}
	go func() { _ = s.mail.Serve(lines) }()
	mux := http.NewServeMux()
	mux.HandleFunc("POST /hooks/", s.hook)
	mux.HandleFunc("GET /", s.show)
	s.page = &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.page.Serve(s.pages) }()
	return s, nil
}

// Stop ends it.
func (s *Sink) Stop() {
	_ = s.mail.Close()
	_ = s.page.Close()
}

// Mail is where mail is handed in.
func (s *Sink) Mail() string { return s.lines.Addr().String() }

// Page is where hooks are taken and the page is.
func (s *Sink) Page() string { return s.pages.Addr().String() }

// Messages gives what came in, oldest first.
func (s *Sink) Messages() []Message {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]Message{}, s.list...)
}

// Set changes how it behaves from now on.
func (s *Sink) Set(change func(*Config)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	change(&s.config)
}

// behaviour is how it behaves now.
func (s *Sink) behaviour() Config {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.config
}

// keep keeps a message.
func (s *Sink) keep(m Message) {
	s.mu.Lock()
	defer s.mu.Unlock()
	m.At = time.Now()
	s.list = append(s.list, m)
	if over := len(s.list) - kept; over > 0 {
		s.list = append([]Message{}, s.list[over:]...)
	}
}

// session is one talk with who hands mail in.
type session struct {
	sink *Sink
	conn *smtp.Conn
	in   bool // signed in
	from string
	to   []string
}

// AuthMechanisms implements smtp.AuthSession.
func (s *session) AuthMechanisms() []string {
	if s.sink.behaviour().User == "" {
		return nil
	}
	return []string{sasl.Plain}
}

// Auth implements smtp.AuthSession.
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if c := s.sink.behaviour(); user != c.User || password != c.Password {
			return smtp.ErrAuthFailed
		}
		s.in = true
		return nil
	}), nil
}

// Mail implements smtp.Session.
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if s.sink.behaviour().User != "" && !s.in {
		return smtp.ErrAuthRequired
	}
	s.from = from
	return nil
}

// Rcpt implements smtp.Session.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	c := s.sink.behaviour()
	if c.Refuse != "" && strings.Contains(to, c.Refuse) {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody here is called " + to}
	}
	s.sink.mu.Lock()
	defer s.sink.mu.Unlock()
	if s.sink.puts[to] < c.Greylist {
		s.sink.puts[to]++
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "greylisted, come again later"}
	}
	s.to = append(s.to, to)
	return nil
}

// Data implements smtp.Session.
func (s *session) Data(r io.Reader) error {
	m := Message{By: "mail", From: s.from, To: strings.Join(s.to, ", ")}
	if _, is := s.conn.TLSConnectionState(); is {
		m.Secure = true
	}
	if err := m.read(r); err != nil {
		return err
	}
	s.sink.mu.Lock()
	lose := s.sink.lost < s.sink.config.Lose
	if lose {
		s.sink.lost++
	}
	s.sink.mu.Unlock()
	if s.sink.keep(m); lose {
		_ = s.conn.Conn().Close()
		return errors.New("lost")
	}
	return nil
}

// Reset implements smtp.Session.
func (s *session) Reset() { s.from, s.to = "", nil }

// Logout implements smtp.Session.
func (s *session) Logout() error { return nil }

// read reads a letter (RFC 5322) and its parts (RFC 2046).
func (m *Message) read(r io.Reader) error {
	letter, err := mail.ReadMessage(r)
	if err != nil {
		return err
	}
	m.Header, m.ID = letter.Header, letter.Header.Get("Message-ID")
	if m.Subject, err = new(mime.WordDecoder).DecodeHeader(letter.Header.Get("Subject")); err != nil {
		return err
	}
	kind, params, err := mime.ParseMediaType(letter.Header.Get("Content-Type"))
	if err != nil {
		return err
	}
	if !strings.HasPrefix(kind, "multipart/") {
		text, err := readPart(letter.Body, letter.Header.Get("Content-Transfer-Encoding"))
		m.Text = text
		return err
	}
	parts := multipart.NewReader(letter.Body, params["boundary"])
	for {
		p, err := parts.NextRawPart()
		if errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		text, err := readPart(p, p.Header.Get("Content-Transfer-Encoding"))
		if err != nil {
			return err
		}
		if strings.HasPrefix(p.Header.Get("Content-Type"), "text/html") {
			m.HTML = text
		} else {
			m.Text = text
		}
	}
}

// readPart reads text as it was before it was encoded.
func readPart(r io.Reader, encoding string) (string, error) {
	if strings.EqualFold(encoding, "quoted-printable") {
		r = quotedprintable.NewReader(r)
	}
	text, err := io.ReadAll(io.LimitReader(r, largest))
	return strings.ReplaceAll(string(text), "\r\n", "\n"), err
}

// fresh is how old a hook's message may be.
const fresh = 5 * time.Minute

// hook takes a message to a program, and verifies it as a program would.
func (s *Sink) hook(w http.ResponseWriter, r *http.Request) {
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, largest))
	if err != nil {
		http.Error(w, "too large", http.StatusRequestEntityTooLarge)
		return
	}
	at := r.Header.Get("Insegna-Timestamp")
	mac := hmac.New(sha256.New, []byte(s.behaviour().Secret))
	mac.Write([]byte(at + "." + string(body)))
	verified := hmac.Equal([]byte("sha256="+hex.EncodeToString(mac.Sum(nil))), []byte(r.Header.Get("Insegna-Signature")))
	var seconds int64
	if _, err := fmt.Sscan(at, &seconds); err != nil || time.Since(time.Unix(seconds, 0)).Abs() > fresh {
		verified = false
	}
	if !verified && s.behaviour().Secret != "" {
		http.Error(w, "the signature is not right", http.StatusForbidden)
		return
	}
	var told struct{ Subject string }
	_ = json.Unmarshal(body, &told) // what is no JSON has no subject
	s.keep(Message{By: "webhook", To: r.URL.Path, Subject: told.Subject, ID: r.Header.Get("Insegna-Message"), Text: string(body),
		Verified: verified, Header: r.Header, Secure: r.TLS != nil})
	w.WriteHeader(http.StatusNoContent)
}
