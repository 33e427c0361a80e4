package service

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"strings"

	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/install"
	"insegna.example/internal/reach"
	"insegna.example/internal/store"
)

// siblingsTold bounds the endpoints of a host that are asked for a certificate.
const siblingsTold = 500

// takenFolder begins the name of a folder for what was taken from a sibling; no mandate
// has such a name.
const takenFolder = "taken+"

// sibling is a certificate that another endpoint of a host shows, and where it lies
// with its key.
type sibling struct {
	store.InstallationSource
	chain []*certs.Certificate // as it is sent there, leaf first
}

// siblingOf finds the newest certificate that another endpoint of a finding's host shows,
// that fits, and whose key lies with it on a server that can be reached; nil when there
// is none.
func (m *mending) siblingOf(ctx context.Context, f *store.Finding) (best *sibling, err error) {
	list, _, err := m.store.Bindings(ctx, store.BindingFilter{Query: f.Host}, store.Page{Sort: "host", Limit: siblingsTold})
	if err != nil {
		return nil, err
	}
	for i := range list {
		b := &list[i]
		at := m.estate.Server(b.Server)
		if b.Host != f.Host || b.Server == f.Server || b.Leaf == nil || bytes.Equal(b.Leaf, f.Leaf) || at == nil ||
			at.Reach == nil {
			continue
		}
		found, err := m.lyingOn(ctx, b.Server, fmt.Sprintf("%x", b.Leaf))
		if err != nil {
			return nil, err
		}
		if found != nil {
			if on, err := m.store.KeyStaysOn(ctx, fmt.Sprintf("%x", b.Leaf)); err != nil {
				return nil, err
			} else if on != "" {
				continue
			}
		}
		if found != nil && m.judge.Fit(m.target(f.Host), found.chain, nil, m.at) == nil &&
			(best == nil || found.chain[0].NotBefore.After(best.chain[0].NotBefore)) {
			best = found
		}
	}
	return best, nil
}

// lyingOn finds where a certificate lies on a server, with its key; nil for nowhere.
func (m *mending) lyingOn(ctx context.Context, server, leaf string) (*sibling, error) {
	d, err := m.reading.readServerDetail(ctx, server)
	var unread *NotReadError
	if errors.As(err, &unread) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	for i := range d.Reading.Sites {
		for n := range d.Reading.Sites[i].Pairs {
			p := &d.Reading.Sites[i].Pairs[n]
			sent := d.Reading.Sent(p)
			if len(sent) == 0 || sent[0] != leaf {
				continue
			}
			out := &sibling{InstallationSource: store.InstallationSource{Server: server, Certificate: p.Certificate,
				Chain: p.Chain, Key: p.Key}}
			for _, print := range sent {
				if c, err := certs.Parse(d.Reading.Certificates[print]); err == nil {
					out.chain = append(out.chain, c)
				}
			}
			key := d.Reading.Material[p.Key]
			if key != nil && len(out.chain) == len(sent) && key.Public == out.chain[0].Public().String() {
				return out, nil
			}
		}
	}
	return nil, nil
}

// fromSibling works out how a finding is mended with what a sibling has. Who asks needs
// the permission to take private keys: the key leaves the server it was made for.
func (m *mending) fromSibling(ctx context.Context, f *store.Finding, at *estate.Server, from *sibling) error {
	if !mayTakeKeys(ctx) {
		m.leave(f, fmt.Sprintf("certificate and key would be taken from %s, and that needs the permission to take private keys",
			from.Server), "an admin gives it: insegna person keys NAME allow")
		return nil
	}
	over, err := open(ctx, at.Reach)
	if err != nil {
		m.leave(f, err.Error(), "see the way to it: insegna server show "+at.Name)
		return nil //nolint:nilerr // told as what is left
	}
	defer func() { _ = over.Close() }()
	wish := &install.Wish{Mandate: takenFolder + f.Host, Server: at.Name, Names: from.chain[0].Names(), Leaf: from.chain[0],
		Version: m.at.Format("20060102T150405.000Z"), Rehearsal: m.request.Rehearsal, Port: uint16(f.Port),
		Addresses: at.Addresses, Agreed: m.request.Also}
	planned, err := m.cfg.Kinds.Of(at.Kind).Installs(over, at).Plan(ctx, wish)
	var stopped *install.RefusedError
	if errors.As(err, &stopped) {
		m.leave(f, stopped.Reason, stopped.Next)
		return nil
	} else if err != nil {
		return err
	}
	var refused *RefusedError
	if err := m.installing.frontsTake(ctx, m.estate, at, from.chain, planned.Bindings); errors.As(err, &refused) {
		m.leave(f, refused.Reason, refused.Next)
		return nil
	} else if err != nil {
		return err
	}
	does := fmt.Sprintf("take the certificate of %s and its key from %s", from.chain[0].NotBefore.UTC().Format("2 January 2006"),
		from.Server)
	return m.keepAs(ctx, &store.Installation{Server: at.Name, Leaf: from.chain[0].Fingerprint.String(),
		Source: &from.InstallationSource}, &install.Mended{Planned: *planned,
		Mends: []install.Mend{{Finding: f.ID, Code: f.Code, Host: f.Host, Does: does}}})
}

// sourceChangedError says that what a sibling had is not there any more.
type sourceChangedError struct{ server, why string }

// Error names the server.
func (e *sourceChangedError) Error() string {
	return "what was to be taken from " + e.server + " is not as the preview showed it: " + e.why
}

// materialOf takes certificate and key from the server an installation takes them from.
func (s *Installing) materialOf(ctx context.Context, row *store.Installation) (*install.Material, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return nil, err
	}
	from := row.Source
	at := e.Server(from.Server)
	if at == nil || at.Reach == nil {
		return nil, &sourceChangedError{from.Server, "there is no way to it any more"}
	}
	over, err := open(ctx, at.Reach)
	if err != nil {
		return nil, &sourceChangedError{from.Server, err.Error()}
	}
	defer func() { _ = over.Close() }()
	m := &install.Material{}
	for _, file := range []string{from.Certificate, from.Chain} {
		if file == "" || file == from.Certificate && m.Chain != nil {
			continue
		}
		text, err := readFrom(over, file)
		if err != nil {
			return nil, &sourceChangedError{from.Server, err.Error()}
		}
		blocks := blocksOf(text, "CERTIFICATE")
		if file == from.Certificate && from.Chain != "" && from.Chain != from.Certificate {
			blocks = blocks[:min(1, len(blocks))]
		}
		m.Chain = append(m.Chain, bytes.Join(blocks, nil)...)
	}
	text, err := readFrom(over, from.Key)
	if err != nil {
		return nil, &sourceChangedError{from.Server, err.Error()}
	}
	m.Key = bytes.Join(blocksOf(text, "PRIVATE KEY"), nil)
	pair, err := tls.X509KeyPair(m.Chain, m.Key)
	if err != nil {
		return nil, &sourceChangedError{from.Server, err.Error()}
	}
	if is := certs.FingerprintOf(pair.Certificate[0]).String(); is != row.Leaf {
		return nil, &sourceChangedError{from.Server, "another certificate lies in " + from.Certificate}
	}
	return m, nil
}

// sourceLimit bounds a file of certificates or a key, in bytes.
const sourceLimit = 1 << 20

// readFrom reads a file of a server.
func readFrom(over reach.Connection, file string) ([]byte, error) {
	f, err := over.FS().Open(strings.TrimPrefix(file, "/"))
	if err != nil {
		return nil, err
	}
	defer func() { _ = f.Close() }()
	return io.ReadAll(io.LimitReader(f, sourceLimit))
}

// blocksOf are the blocks of a kind in a text in PEM (RFC 7468).
func blocksOf(text []byte, what string) (out [][]byte) {
	for {
		b, rest := pem.Decode(text)
		if b == nil {
			return out
		}
		if strings.Contains(b.Type, what) {
			out = append(out, pem.EncodeToMemory(b))
		}
		text = rest
	}
}

// mayTakeKeys says whether who asks has the permission to take private keys.
func mayTakeKeys(ctx context.Context) bool {
	c := CallerOf(ctx)
	return c != nil && c.Person.Keys
}

// mayTake says why somebody may not begin an installation that takes a key from another
// server.
func mayTake(ctx context.Context, row *store.Installation) error {
	if row.Source != nil && !mayTakeKeys(ctx) {
		return &AccessError{Caller: CallerOf(ctx), Keys: true}
	}
	return nil
}
