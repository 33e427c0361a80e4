package httpd

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"insegna.example/internal/kind"
)

// secure makes a plain virtual host one of https: behind it a second one is written
// with the same lines, at the port for https, with the certificate; and the plain one
// leads visitors of its names there, but for what a CA asks for. Whoever else it
// answers gets what he got.
func (e *editor) secure(d *Directive, site *kind.Site, w kind.Wanted) error {
	byHand := "add by hand: Listen, <VirtualHost> for port " + strconv.Itoa(int(w.Port)) +
		", SSLEngine on, SSLCertificateFile and SSLCertificateKeyFile"
	on, err := e.rewrites(d, byHand)
	switch {
	case err != nil:
		return err
	case !e.hasModule("ssl_module"):
		return no(d.Place, "switch it on: a2enmod ssl, and restart the server; or "+byHand, "mod_ssl is not loaded")
	case w.Port == 0:
		return no(d.Place, "name one in the mandate, such as install: [SERVER:443]", "no port for https is known")
	case d.node.last-e.opened(d) < 2:
		return no(d.Place, byHand, "the virtual host has no lines of its own")
	}
	hosts := hostsOf(site)
	if len(hosts) == 0 {
		return no(d.Place, "give it a ServerName", "the virtual host has no name")
	}
	var at, listens []string
	for _, text := range d.Args {
		host, port, err := cutPort(text)
		if err != nil {
			return no(d.Place, byHand, "the virtual host is for %s, at any port", text)
		}
		if addr, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil && port == strconv.Itoa(int(w.Port)) &&
			addr.IsValid() {
			return no(d.Place, byHand, "the virtual host is at port %s already, without TLS", port)
		}
		at = append(at, fmt.Sprintf("%s:%d", host, w.Port))
		if line := e.listenFor(host, w.Port); line != "" && !slices.Contains(listens, line) {
			listens = append(listens, line)
		}
	}
	outer, inner := e.within(d)
	own := indentOf(e.lineOf(d.node, d.node.line))
	second := []string{""}
	for _, l := range listens {
		second = append(second, own+l)
	}
	second = append(second, own+"<VirtualHost "+strings.Join(at, " ")+">")
	for line := e.opened(d) + 1; line < d.node.last; line++ {
		second = append(second, strings.TrimSuffix(e.lineOf(d.node, line), "\r"))
	}
	second = append(second, outer+"SSLEngine on", outer+"SSLCertificateFile "+quoted(w.Certificate),
		outer+"SSLCertificateKeyFile "+quoted(w.Key), own+"</VirtualHost>")

	first := []string{outer + "# Visitors are led to https, but for what a CA asks for as proof of these names."}
	if !on {
		first = append(first, outer+"RewriteEngine On")
	}
	first = append(first, proofRules(outer, hosts, w.Proofs)...)
	to := "https://%1"
	const usual = 443
	if w.Port != usual {
		to += ":" + strconv.Itoa(int(w.Port))
	}
	first = append(first, hostCondition(outer, hosts), outer+"RewriteRule ^ "+to+"%{REQUEST_URI} [R=301,END]")
	open := e.opened(d)
	e.change(d.node, change{open + 1, open, first})
	e.change(d.node, change{d.node.last, d.node.last - 1, opens(outer, inner, w.Proofs)})
	e.change(d.node, change{d.node.last + 1, d.node.last, second})
	return nil
}

// hostsOf are a site's names as expressions.
func hostsOf(site *kind.Site) (out []string) {
	for i := range site.Names {
		n := &site.Names[i]
		if n.Ignored || len(n.Covers) == 0 { // no certificate lists it
			continue
		}
		text := regexp.QuoteMeta(n.Text)
		out = append(out, strings.NewReplacer(`\*`, "[^/:]*", `\?`, "[^/:]").Replace(text))
	}
	return out
}

// cutPort parts the port from an address of a virtual host; an error says that there
// is none.
func cutPort(text string) (host, port string, err error) {
	i := strings.LastIndexByte(text, ':')
	if i < 0 || strings.HasSuffix(text, "]") {
		return "", "", strconv.ErrSyntax
	}
	if _, err := strconv.Atoi(text[i+1:]); err != nil {
		return "", "", err
	}
	return text[:i], text[i+1:], nil
}

// listenFor is the line that opens a port for the address of a virtual host; "" where
// that is open.
func (e *editor) listenFor(host string, port uint16) string {
	addr, err := netip.ParseAddr(strings.Trim(host, "[]"))
	for i := range e.reading.Listeners {
		l := &e.reading.Listeners[i]
		if l.Address.Port() == port && (err != nil || l.Takes(netip.AddrPortFrom(addr, port))) {
			return ""
		}
	}
	if err != nil {
		return fmt.Sprintf("Listen %d", port)
	}
	return "Listen " + netip.AddrPortFrom(addr, port).String()
}
