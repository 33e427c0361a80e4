package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"insegna.example/client"
	"insegna.example/internal/core/certs"
	"insegna.example/internal/core/chain"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/trust"
	"insegna.example/internal/kind/registry"
	"insegna.example/internal/look"
	"insegna.example/internal/service"
)

// visit needs no service: the same steps and rules, from this machine.
func (a *app) visit() *cobra.Command {
	var estateFile string
	var at, roots []string
	var plain uint16
	looker := look.New()
	c := &cobra.Command{Use: "visit NAME[:PORT]", Short: "Walk the way a visitor takes to one name, step by step",
		Args: cobra.ExactArgs(1),
		Long: "Visits a name at every address and tells each step: address, plain http and its redirect, TLS,\ncertificate, " +
			"chain, trust, the answer of the site, and what stands behind it where an estate file says how to read the server.\n" +
			"Needs no service. Addresses come from --at, from an estate file, or from DNS; trust is judged\n" +
			"by the estate's audiences, by --roots, or by this machine's roots.",
		Example: "  insegna visit booking.lanterncoast.example --estate .demo/estate.yaml\n  insegna visit " +
			"crew.lanterncoast.example:8443 --at 127.20.0.11 --roots crew-root.pem",
		RunE: a.run(func(c *cobra.Command, args []string) error {
			if err := a.checkFailAt(); err != nil {
				return err
			}
			host, port, err := service.ParseVisit(args[0])
			if err != nil {
				return usage{err}
			}
			req := service.VisitRequest{Host: host, Looker: looker, Plain: 80}
			if estateFile != "" {
				err = fromEstate(&req, estateFile, strings.HasSuffix(args[0], fmt.Sprintf(":%d", port)), port)
			} else {
				req.Judge, err = judgeBy(roots)
			}
			if err != nil {
				return err
			}
			if err := addresses(c.Context(), &req, at, port); err != nil {
				return err
			}
			if c.Flags().Changed("http-port") {
				req.Plain = plain
			}
			report, err := service.Visit(c.Context(), req)
			if err != nil {
				return err
			}
			return a.showVisit(report)
		})}
	f := c.Flags()
	f.StringVar(&estateFile, "estate", "", "estate file to take addresses and audiences from")
	f.StringSliceVar(&at, "at", nil, "addresses to visit instead of those of the name")
	f.Uint16Var(&plain, "http-port", 80, "port of plain http, 0 for no look there; in an estate, its CAs' http_port")
	f.StringSliceVar(&roots, "roots", nil, "files of trusted roots, instead of this machine's")
	f.DurationVar(&looker.HandshakeTimeout, "timeout", 5*time.Second, "longest wait for a handshake")
	a.failAtFlag(c)
	return c
}

// fromEstate takes endpoints, audiences and what is wanted from an estate file.
func fromEstate(req *service.VisitRequest, path string, onePort bool, port uint16) error {
	f, err := loadEstate(path)
	if err != nil {
		return err
	}
	e, err := f.Parse(registry.Kinds.Declared())
	if err != nil {
		return err
	}
	h := e.Host(req.Host)
	if h == nil {
		return fmt.Errorf("%s declares no host %s; leave --estate out to visit the name by DNS", path, req.Host)
	}
	for ep := range e.Endpoints(h) {
		if !onePort || ep.Port() == port {
			req.Endpoints = append(req.Endpoints, ep)
		}
	}
	req.Plain = e.PlainPort(h.Name)
	req.Found = "from " + path
	req.Estate, req.Kinds = e, registry.Kinds
	req.Wanted, req.Audiences = h.Wanted, h.Audiences
	req.Judge = check.NewJudge(service.Audiences(e), chain.NewKnown(e.Intermediates...))
	return nil
}

// systemRoots is where Debian keeps the roots this machine trusts.
const systemRoots = "/etc/ssl/certs/ca-certificates.crt"

// judgeBy makes a judge with one audience from root files.
func judgeBy(files []string) (*check.Judge, error) {
	name, public := strings.Join(files, ", "), false
	if len(files) == 0 {
		files, name, public = []string{systemRoots}, "this machine", true
	}
	var anchors []*certs.Certificate
	for _, path := range files {
		data, err := readFile(path, certs.ReadLimit)
		if errors.Is(err, os.ErrNotExist) && public {
			return check.NewJudge([]*trust.Audience{trust.NewAudience(name, public, nil)}, chain.NewKnown()), nil
		}
		if err != nil {
			return nil, fmt.Errorf("cannot read roots: %w", err)
		}
		list, err := certs.ReadCertificates(data)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
		anchors = append(anchors, list...)
	}
	return check.NewJudge([]*trust.Audience{trust.NewAudience(name, public, anchors)}, chain.NewKnown()), nil
}

// addresses settles where to go: what is asked for, else what the estate
// says, else DNS.
func addresses(ctx context.Context, req *service.VisitRequest, at []string, port uint16) error {
	if len(at) > 0 {
		req.Endpoints, req.Found = nil, "as asked"
		for _, text := range at {
			ep, err := netip.ParseAddrPort(text)
			if err != nil {
				ip, err := netip.ParseAddr(strings.Trim(text, "[]"))
				if err != nil {
					return usage{fmt.Errorf("bad address %q for --at; expected an IP address, with or without a port", text)}
				}
				ep = netip.AddrPortFrom(ip, port)
			}
			req.Endpoints = append(req.Endpoints, ep)
		}
		return nil
	}
	if len(req.Endpoints) > 0 {
		return nil
	}
	if req.Found != "" {
		return fmt.Errorf("%s has no endpoint on port %d %s", req.Host, port, req.Found)
	}
	if ip, err := netip.ParseAddr(req.Host); err == nil {
		req.Endpoints, req.Found = []netip.AddrPort{netip.AddrPortFrom(ip, port)}, "an address"
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	list, err := net.DefaultResolver.LookupNetIP(ctx, "ip", req.Host)
	if err != nil {
		return unknownHost(req.Host, err)
	}
	for _, ip := range list {
		req.Endpoints = append(req.Endpoints, netip.AddrPortFrom(ip.Unmap(), port))
	}
	req.Found = "by DNS"
	return nil
}

// unknownHost says what can be done about a name that does not resolve.
func unknownHost(host string, err error) error {
	why := err.Error()
	var de *net.DNSError
	if errors.As(err, &de) {
		why = de.Err
	}
	return fmt.Errorf("cannot find the address of %s: %s; check the name, or say where to go with --at ADDRESS or "+
		"--estate FILE", host, why)
}

// showVisit lists the steps.
func (a *app) showVisit(v *service.VisitReport) error {
	if a.output == "table" {
		a.say("Visit to %s, %s\n", v.Host, moment(v.At))
	}
	steps := make([]client.VisitStep, len(v.Steps))
	for i, s := range v.Steps {
		steps[i] = client.VisitStep{Step: client.VisitStepStep(s.Step), Endpoint: s.Endpoint, Fine: s.Fine,
			Seen: s.Seen, Do: s.Do}
	}
	err := print(a, v, steps, visitColumns)
	if err != nil {
		return err
	}
	var worst []check.Severity
	for _, f := range v.Findings {
		worst = append(worst, f.Severity)
	}
	return a.failOn(worst)
}
