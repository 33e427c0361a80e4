package check

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"insegna.example/internal/core/binding"
)

// Kept is what is asked for in plain http to see what a redirect keeps: a path and a
// query.
const Kept = "/insegna-visit?kept=yes"

// Statuses of permanent redirects (RFC 9110 sections 15.4.2 and 15.4.9).
const (
	movedPermanently  = 301
	permanentRedirect = 308
)

// Led says what is wrong with an answer to Kept for a host in plain http, and what to
// do: visitors are to be led to https with a permanent redirect that keeps host, path
// and query. The code is "" when they are. A status that is no redirect's, or 0, stands
// for any other answer.
func Led(host string, status int, location string) (code Code, do string) {
	to, err := url.Parse(location)
	switch {
	case status < 300 || status > 399:
		return RedirectMissing, "answer with a permanent redirect (301 or 308) to https"
	case err != nil || !strings.EqualFold(to.Scheme, "https"):
		return RedirectMissing, "redirect to https"
	case !strings.EqualFold(strings.TrimSuffix(to.Hostname(), "."), host):
		return RedirectLoses, fmt.Sprintf("keep the host: redirect to https://%s, and from there elsewhere if need be", host)
	case to.RequestURI() != Kept:
		return RedirectLoses, "keep path and query in the redirect"
	case status != movedPermanently && status != permanentRedirect:
		return RedirectTemporary, fmt.Sprintf("make it permanent (301 or 308 instead of %d), so that browsers remember", status)
	}
	return "", ""
}

// leading judges what a server's configuration does with visitors of plain http, where
// it has TLS for the host, and with a CA that asks there.
func leading(s *Subject) {
	c := s.Around.Configured
	if c == nil || c.Unknown != "" || c.Plain == nil || !c.TLS || !c.Named {
		return
	}
	p := c.Plain
	if b := p.Blocked; b != nil {
		s.addAt(b.Place, ChallengeBlocked,
			fmt.Sprintf("a CA that asks for %s at %s gets no answer, and the mandate %s is proved there: %s", s.Host, p.At,
				b.Mandate, b.Seen), b.Remedy)
	}
	if p.Unknown || p.Closed { // who is served nothing has to ask for https
		return
	}
	code, do := Led(s.Host, p.Status, p.To)
	if code == "" {
		return
	}
	cause := fmt.Sprintf("visitors of http://%s at %s are not led to https", s.Host, p.At)
	if p.Status != 0 {
		cause = fmt.Sprintf("visitors of http://%s at %s are led to %s", s.Host, p.At, p.To)
		switch code {
		case RedirectTemporary:
			cause += " for the time being (status " + strconv.Itoa(p.Status) + "): browsers ask in plain http again"
		case RedirectLoses:
			cause += ", and asked for " + s.Host + Kept
		}
	}
	s.addAt(p.Place, code, cause, do+", then "+takeIn(c), Fact{"asked", "http://" + s.Host + Kept}, answered(p))
}

// answered is what a request in plain http is answered with, as evidence.
func answered(p *binding.Plain) Fact {
	if p.Status == 0 {
		return Fact{"answered", "no redirect"}
	}
	return Fact{"answered", fmt.Sprintf("%d %s", p.Status, p.To)}
}
