package demo

import (
	"bytes"
	"context"
	"crypto/x509"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"text/template"
	"time"

	"insegna.example/internal/standin/bind"
	"insegna.example/internal/standin/ca"
)

//go:embed clockfiles clock.yaml
var clockTemplates embed.FS

// Clock is a small estate whose certificates live for minutes: two real nginx, an
// httpd and a HAProxy with a plain site each, a CA, a name server.
type Clock struct {
	*Estate
	Servers []ClockServer
	Root    *x509.CertPool // the CA's
}

// ClockServer is one of its servers.
type ClockServer struct {
	Dir, Server, Address string
	Kind                 string // as an estate file calls it
	Root                 bool   // started by root
	Listener             string // of the service, where a server passes a CA's request on; "" for one that serves files
}

// Configuration is the file its configuration begins with.
func (s *ClockServer) Configuration() string {
	return filepath.Join(s.Dir, s.Server, map[string]string{"nginx": "nginx.conf", "httpd": "httpd.conf", "haproxy": "haproxy.cfg"}[s.Kind])
}

// Test is the command of its own test.
func (s *ClockServer) Test() string {
	if s.Kind == "haproxy" {
		return haproxyPath + " -c -f " + s.Configuration()
	}
	return filepath.Join(s.Dir, s.Server, s.Kind) + " -t"
}

// Reload is what makes it take its configuration in.
func (s *ClockServer) Reload() string {
	return filepath.Join(s.Dir, s.Server, s.Kind) + map[string]string{"nginx": " -s reload", "httpd": " -k graceful"}[s.Kind]
}

// command is what starts it, to stay in front.
func (s *ClockServer) command() []string {
	dir := filepath.Join(s.Dir, s.Server)
	switch s.Kind {
	case "httpd":
		return []string{httpdPath, "-DFOREGROUND", "-d", dir, "-f", s.Configuration()}
	case "haproxy":
		return []string{haproxyPath, "-W", "-db", "-f", s.Configuration()}
	}
	return []string{nginxPath, "-p", dir, "-c", "nginx.conf", "-e", "stderr"}
}

// Host is the name of the server's site.
func (s *ClockServer) Host() string { return s.Server + ".lanterncoast.example" }

// Plain is where the site is in plain http.
func (s *ClockServer) Plain() string { return s.Address + ":8080" }

// HTTPS is where it is, or will be, in https.
func (s *ClockServer) HTTPS() string { return s.Address + ":8443" }

// StartClock starts it, with certificates of a life. Stop ends it.
func StartClock(ctx context.Context, dir string, life time.Duration) (c *Clock, err error) {
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	c = &Clock{Estate: &Estate{Dir: dir, File: filepath.Join(dir, "estate.yaml"), failed: make(chan error, 8)},
		Root: x509.NewCertPool()}
	defer func() {
		if err != nil {
			c.Stop()
		}
	}()
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return c, err
	}
	if err := c.claimNet(); err != nil {
		return c, err
	}
	if err := c.makeCertificates(time.Now()); err != nil {
		return c, fmt.Errorf("making the clock's CA: %w", err)
	}
	root, err := readCertificate(c.path("pki", "harbour-root.pem"))
	if err != nil {
		return c, err
	}
	c.Root.AddCert(root)
	for i, s := range [][2]string{{"tick", "nginx"}, {"tock", "nginx"}, {"bell", "httpd"}, {"gate", "haproxy"}} {
		c.Servers = append(c.Servers,
			ClockServer{Dir: dir, Server: s[0], Kind: s[1], Address: c.Addr(11 + i), Root: os.Geteuid() == 0})
		if s[1] == "haproxy" {
			c.Servers[i].Listener = c.Listener()
		}
	}
	if err := c.outside(life); err != nil {
		return c, err
	}
	if err := c.writeFiles(); err != nil {
		return c, err
	}
	for i := range c.Servers {
		if err := c.StartServer(ctx, c.Servers[i].Server); err != nil {
			return c, err
		}
	}
	return c, nil
}

// Listener is where the service answers a CA's requests that are passed on to it.
func (c *Clock) Listener() string { return c.Addr(2) + ":8080" }

// outside starts the CA and the name server. The CA wants certificates renewed
// early in their life, so that it may be away for most of it.
func (c *Clock) outside(life time.Duration) error {
	issuer, err := c.issuer("issuing")
	if err != nil {
		return err
	}
	policy, err := readCertificate(c.path("pki", "policy.pem"))
	if err != nil {
		return err
	}
	const early = 8 // part of the life
	running, err := ca.Start(ca.Config{Name: "harbourlight.example", Listen: c.caAddress(), Issuer: issuer,
		Chain: []*x509.Certificate{issuer.Certificate, policy}, Resolver: c.NameServer(), HTTPPort: httpPort,
		Lifetime: life, Renewal: life / early})
	if err != nil {
		return fmt.Errorf("starting the clock's CA: %w", err)
	}
	c.cas = append(c.cas, running)
	secret, err := secretIn(c.TSIGFile())
	if err != nil {
		return err
	}
	zone := "$TTL 60\n@ IN SOA ns ops 1 3600 600 86400 60\n@ IN NS ns\nns IN A 127.0.0.1\n"
	for _, s := range c.Servers {
		zone += s.Server + " IN A " + s.Address + "\n"
	}
	c.names, err = bind.Start(bind.Config{Dir: c.path("names"), Address: c.NameServer(), KeyName: "insegna",
		Secret: secret,
		Zones: map[string]string{"lanterncoast.example": zone,
			"example": "$TTL 60\n@ IN SOA ns.test. ops.test. 1 3600 600 86400 60\n@ IN NS ns.test.\n"}})
	return err
}

// writeFiles writes the servers' configurations and the estate file from their
// templates, with the addresses of this run.
func (c *Clock) writeFiles() error {
	write := func(name, to string, v any) error {
		t, err := template.ParseFS(clockTemplates, name)
		if err != nil {
			return err
		}
		var out bytes.Buffer
		if err := t.Execute(&out, v); err != nil {
			return err
		}
		return c.put(to, out.Bytes())
	}
	for _, s := range c.Servers {
		folder := "clockfiles/" + s.Kind
		err := fs.WalkDir(clockTemplates, folder, func(name string, entry fs.DirEntry, err error) error {
			if err != nil || entry.IsDir() {
				return err
			}
			rel, err := filepath.Rel(folder, name)
			if err != nil {
				return err
			}
			return write(name, filepath.Join(s.Server, rel), &s)
		})
		if err != nil {
			return err
		}
	}
	return write("clock.yaml", "estate.yaml", c)
}

// StartServer starts one of the servers, again after StopServer.
func (c *Clock) StartServer(ctx context.Context, name string) error {
	for i := range c.Servers {
		if s := &c.Servers[i]; s.Server == name {
			return c.run(ctx, server{name, s.command(), s.Plain()})
		}
	}
	return errors.New("the clock has no server " + name)
}

// StopServer ends one of the servers, in good order.
func (c *Clock) StopServer(name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for i, child := range c.children {
		if child.name != name {
			continue
		}
		child.wanted.Store(true)
		child.process.Signal(syscall.SIGTERM)
		<-child.process.Done()
		c.children = append(c.children[:i:i], c.children[i+1:]...)
		return
	}
}

// CloseCA takes the CA away; ReopenCA brings it back.
func (c *Clock) CloseCA() { c.cas[0].Close() }

// ReopenCA brings the CA back, with all it knew.
func (c *Clock) ReopenCA() error { return c.cas[0].Reopen() }
