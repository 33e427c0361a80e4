package reach

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// HostKey is the key a machine shows.
type HostKey struct {
	Seen    string // kind and SHA-256 fingerprint, as SSH's own tools write it
	Known   bool   // it is the one that is known
	Changed bool   // another one is known
	At      string // file of the known hosts, with the line that disagrees where there is one

	key ssh.PublicKey
}

// errSeen ends a connection once the host key was shown: nobody logs in.
var errSeen = errors.New("seen")

// file gives the path of the known hosts.
func (to *SSH) file() (string, error) {
	if to.KnownHosts != "" {
		return to.KnownHosts, nil
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "", fmt.Errorf("known_hosts is not declared and the service's user has no home: %w", err)
	}
	return filepath.Join(home, ".ssh", "known_hosts"), nil
}

// ShownKey asks a machine for its host key, and says what is known of it. Nobody
// logs in.
func ShownKey(ctx context.Context, to SSH) (*HostKey, error) {
	file, err := to.file()
	if err != nil {
		return nil, err
	}
	to.KnownHosts = file
	check, err := knownhosts.New(file)
	if errors.Is(err, fs.ErrNotExist) {
		check = func(string, net.Addr, ssh.PublicKey) error { return &knownhosts.KeyError{} }
	} else if err != nil {
		return nil, fmt.Errorf("cannot read the known hosts: %w", err)
	}
	plain, err := (&net.Dialer{Timeout: dialLimit}).DialContext(ctx, "tcp", to.Address)
	if err != nil {
		return nil, &DialError{to.Address, err}
	}
	defer func() { _ = plain.Close() }()
	_ = plain.SetDeadline(time.Now().Add(dialLimit))
	out := &HostKey{At: file}
	_, _, _, err = ssh.NewClientConn(plain, to.Address, &ssh.ClientConfig{User: to.User,
		HostKeyAlgorithms: knownAlgorithms(check, to.Address),
		HostKeyCallback: func(host string, at net.Addr, key ssh.PublicKey) error {
			out.key, out.Seen = key, key.Type()+" "+ssh.FingerprintSHA256(key)
			var wrong *HostKeyError
			if err := check(host, at, key); err == nil {
				out.Known = true
			} else if errors.As(hostKeyError(err, to, key), &wrong) && wrong.Changed {
				out.Changed, out.At = true, wrong.Known
			}
			return errSeen
		}})
	if out.key == nil {
		return nil, &DialError{to.Address, err}
	}
	return out, nil
}

// Trust keeps the host key a machine shows, when it is the very one that was seen
// before, as ShownKey gave it. A machine another key is known of is refused.
func Trust(ctx context.Context, to SSH, seen string) (*HostKey, error) {
	k, err := ShownKey(ctx, to)
	switch {
	case err != nil:
		return nil, err
	case k.Known && k.Seen == seen:
		return k, nil
	case k.Changed || k.Seen != seen:
		return nil, &HostKeyError{Address: to.Address, Seen: k.Seen, Changed: k.Changed, Known: k.At}
	}
	if err := os.MkdirAll(filepath.Dir(k.At), 0o700); err != nil {
		return nil, fmt.Errorf("cannot keep the host key: %w", err)
	}
	f, err := os.OpenFile(k.At, os.O_CREATE|os.O_RDWR|os.O_APPEND, 0o600)
	if err != nil {
		return nil, fmt.Errorf("cannot keep the host key: %w", err)
	}
	line := knownhosts.Line([]string{knownhosts.Normalize(to.Address)}, k.key) + "\n"
	if st, err := f.Stat(); err == nil && st.Size() > 0 { // a last line may have no end
		last := make([]byte, 1)
		if _, err := f.ReadAt(last, st.Size()-1); err == nil && last[0] != '\n' {
			line = "\n" + line
		}
	}
	_, err = f.WriteString(line)
	if err = errors.Join(err, f.Sync(), f.Close()); err != nil {
		return nil, fmt.Errorf("cannot keep the host key: %w", err)
	}
	k.Known = true
	return k, nil
}
