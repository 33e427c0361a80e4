package httpapi

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

	openapi_types "github.com/oapi-codegen/runtime/types"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// endpoint writes address and port as people type them.
func endpoint(address string, port int) string {
	return net.JoinHostPort(address, strconv.Itoa(port))
}

// texts writes a list as its members write themselves.
func texts[T fmt.Stringer](list []T) []string {
	out := make([]string, len(list))
	for i, v := range list {
		out[i] = v.String()
	}
	return out
}

// estateOf shows the estate in force with the text it came from.
func estateOf(d *service.Declaration, e *estate.Estate) contract.Estate {
	out := contract.Estate{Name: e.Name, File: d.File, AppliedAt: d.AppliedAt.UTC(), Text: d.Text(),
		Endpoints: d.Endpoints,
		Audiences: []contract.EstateAudience{}, Servers: []contract.EstateServer{}, Hosts: []contract.EstateHost{}}
	for _, a := range e.Audiences {
		out.Audiences = append(out.Audiences, contract.EstateAudience{Name: a.Name, Public: a.Public, Roots: a.Roots})
	}
	for _, s := range e.Servers {
		out.Servers = append(out.Servers,
			contract.EstateServer{Name: s.Name, Kind: s.Kind, Line: s.Place.Line, File: optional(s.Place.File), Addresses: texts(s.Addresses),
				Ports: texts(s.Ports)})
	}
	for i := range e.Hosts {
		out.Hosts = append(out.Hosts, hostOf(&e.Hosts[i]))
	}
	out.Groups, out.Owners, out.Tags = []string{}, []string{}, append([]string{}, e.Tags()...)
	for _, g := range e.Groups {
		out.Groups = append(out.Groups, g.Name)
	}
	for _, o := range e.Owners {
		out.Owners = append(out.Owners, o.Name)
	}
	return out
}

// hostOf shows a declared host.
func hostOf(h *estate.Host) contract.EstateHost {
	return contract.EstateHost{Name: h.Name, At: texts(h.At), Audiences: h.Audiences, Line: h.Place.Line, File: optional(h.Place.File), By: optional(h.By),
		WantedIssuer: optional(h.Wanted.Issuer), WantedCertificate: optional(h.Wanted.Certificate),
		Belongs: belongsOf(h.Group, h.Owner, h.Tags)}
}

// changesOf shows what a file would change or has changed.
func changesOf(c *service.EstateChanges) contract.EstateChanges {
	out := contract.EstateChanges{Estate: c.Estate, File: c.File, Applied: c.Applied, Replaces: optional(c.Replaces),
		Changes: make([]contract.EstateChange, len(c.Changes))}
	for i, v := range c.Changes {
		out.Changes[i] = contract.EstateChange{Change: contract.EstateChangeChange(v.Is), Kind: v.Kind, Name: v.Name,
			Fields: append([]string{}, v.Fields...)}
		if v.Place.Line > 0 {
			out.Changes[i].Place = fmt.Sprintf("%s:%d", v.Place.File, v.Place.Line)
		}
	}
	return out
}

// verdictCounts counts bindings by verdict.
func verdictCounts(c service.VerdictCounts) contract.VerdictCounts {
	return contract.VerdictCounts{Broken: c.Broken, AtOdds: c.AtOdds, Unknown: c.Unknown, Agreed: c.Agreed,
		Hosts: c.Hosts, Servers: c.Servers}
}

// severityCounts counts findings by severity, worst first, and those accepted.
func severityCounts(c [4]int, accepted int) contract.SeverityCounts {
	return contract.SeverityCounts{Broken: c[0], Due: c[1], Weak: c[2], Note: c[3], Accepted: accepted}
}

// facesOf writes the three faces, also as one text that needs no signs.
func facesOf(wanted, configured, served string) contract.Faces {
	f := binding.Faces{Wanted: binding.Face(wanted), Configured: binding.Face(configured), Served: binding.Face(served)}
	return contract.Faces{Wanted: contract.Face(wanted), Configured: contract.Face(configured),
		Served: contract.Face(served), Text: f.Text()}
}

// bindingOf shows a binding with its worst finding and the certificate met.
func bindingOf(b *service.Binding) contract.Binding {
	out := contract.Binding{
		Id: b.ID, Host: b.Host, Endpoint: endpoint(b.Address, b.Port), Server: b.Server, Kind: b.Kind, Line: b.Line,
		Verdict: contract.Verdict(b.Verdict), Faces: facesOf(b.Wanted, b.Configured, b.Served), Cause: b.Cause,
		Remedy: b.Remedy, Source: optional(b.Source().String()),
		Outcome: optional(b.Outcome), Protocol: optional(binding.VersionName(uint16(b.Version))),
		Group:       optional(binding.GroupName(uint16(b.KeyGroup))),
		Certificate: fingerprint(b.Leaf), Issuer: optional(b.Issuer), Belongs: belongsOf(b.GroupName, b.Owner, b.Tags),
	}
	if b.Severity != nil {
		out.Severity = ptr(contract.Severity(check.Severities[*b.Severity]))
	}
	if b.NotAfter != nil {
		out.NotAfter, out.DaysLeft = ptr(b.NotAfter.UTC()), ptr(service.DaysLeft(*b.NotAfter))
	}
	if b.LastSeen != nil {
		out.LastSeen = ptr(b.LastSeen.UTC())
	}
	return out
}

// namesInList is how many names of a certificate or site a list gives: there may be
// tens of thousands.
const namesInList = 20

// firstOf gives the first of a list, at most so many.
func firstOf(list []string, most int) []string {
	return append([]string{}, list[:min(len(list), most)]...)
}

// certificateOf shows what lists show of a certificate.
func certificateOf(c *service.Certificate, names int) contract.Certificate {
	return contract.Certificate{
		Sha256: *fingerprint(c.Sha256), CommonName: c.CommonName, Issuer: c.Issuer, Names: firstOf(c.Names, names),
		NameCount: len(c.Names),
		NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(), DaysLeft: service.DaysLeft(c.NotAfter),
		Key: c.Key, Serial: c.Serial, IsCa: c.IsCa, FirstSeen: c.FirstSeen.UTC(), Bindings: c.Bindings,
	}
}

// detailOf shows one certificate with chain, trust, places of use and history.
func (srv *Server) detailOf(ctx context.Context, d *service.CertificateDetail) contract.CertificateDetail {
	out := contract.CertificateDetail{
		Certificate: certificateOf(&d.Certificate, len(d.Names)), Subject: d.Parsed.Subject.String(),
		IssuerName: d.Parsed.Issuer.String(),
		Signature:  d.Parsed.SignatureAlgorithm.String(), Pem: pemOf(d.Der), Findings: srv.findingsOf(ctx, d.Findings),
		Audiences: make([]contract.AudienceView, len(d.Views)), Sightings: make([]contract.Sighting, len(d.Sightings)),
		Files: make([]contract.Placement, len(d.Files)),
	}
	if r := d.Rhythm; r != nil {
		out.Rhythm = &contract.Rhythm{Times: r.Times, DaysBefore: int(r.Before(d.Parsed.NotBefore, d.Parsed.NotAfter) / lifetime.Day), Last: r.Last.UTC(),
			Issuer: r.Issuer, Key: check.KeyHabit(r)}
	}
	for i, f := range d.Files {
		out.Files[i] = contract.Placement{Server: f.Server, Path: f.Path, Spot: f.At.String(), Site: f.Site}
	}
	for i, v := range d.Views {
		view := contract.AudienceView{Audience: v.Audience, Trusted: v.Trusted, Failures: append([]string{}, v.Failures...),
			Path: []contract.ChainLink{}}
		for _, l := range v.Path {
			c := l.Certificate
			view.Path = append(view.Path,
				contract.ChainLink{CommonName: c.CommonName(), Issuer: c.IssuerName(), Sha256: c.Fingerprint.String(),
					NotBefore: c.NotBefore.UTC(), NotAfter: c.NotAfter.UTC(), Key: c.Key().String(), Served: l.Served,
					Anchor: l.Anchor, Stored: l.Stored})
		}
		out.Audiences[i] = view
	}
	for i, s := range d.Sightings {
		out.Sightings[i] = contract.Sighting{Host: s.Host, Endpoint: endpoint(s.Address, s.Port), Server: s.Server,
			Vantage:  s.Vantage,
			Protocol: optional(binding.VersionName(uint16(s.Version))), FirstSeen: s.FirstSeen.UTC(),
			LastSeen: s.LastSeen.UTC(), Current: s.Current}
	}
	return out
}

// findingsOf maps findings; the place is in the estate file in force.
func (srv *Server) findingsOf(ctx context.Context, list []service.Finding) []contract.Finding {
	file, err := srv.service.DeclaredFile(ctx)
	if err != nil {
		file = "" // the findings are shown all the same
	}
	mendable, err := srv.service.Mendable(ctx)
	if err != nil {
		mendable = func(*service.Finding) (bool, string) { return false, "what is declared cannot be told just now" }
	}
	out := make([]contract.Finding, len(list))
	for i := range list {
		out[i] = findingOf(&list[i], file)
		out[i].Mending.Can, out[i].Mending.Says = mendable(&list[i])
	}
	return out
}

// belongsOf shows what something belongs to; nothing is left out.
func belongsOf(group, owner string, tags []string) *contract.Belongs {
	if group == "" && owner == "" && len(tags) == 0 {
		return nil
	}
	b := &contract.Belongs{Group: optional(group), Owner: optional(owner)}
	if len(tags) > 0 {
		b.Tags = &tags
	}
	return b
}

// findingOf shows a finding with evidence and both places: where it is declared
// and where configured.
func findingOf(f *service.Finding, file string) contract.Finding {
	out := contract.Finding{
		Id: f.ID, Code: string(f.Code), Severity: contract.Severity(check.Severities[f.Severity]), Host: f.Host,
		Server: f.Server,
		Cause:  f.Cause, Remedy: f.Remedy, Evidence: make([]contract.Fact, len(f.Evidence)),
		Certificate: fingerprint(f.Leaf), OpenedAt: f.OpenedAt.UTC(), Source: optional(f.Source().String()),
		Under: f.Under, Belongs: belongsOf(f.GroupName, f.Owner, f.Tags),
	}
	if f.AcceptedUntil != nil {
		out.Acceptance = &contract.Acceptance{Until: f.AcceptedUntil.UTC(), At: f.AcceptedAt.UTC(), By: f.AcceptedBy,
			Reason: f.AcceptedReason}
	}
	if f.StandsFor > 0 {
		out.StandsFor = &f.StandsFor
	}
	if f.TargetID != nil {
		out.Endpoint = endpoint(f.Address, f.Port)
		out.Faces, out.Verdict = ptr(facesOf(f.Wanted, f.Configured, f.Served)), ptr(contract.Verdict(f.Verdict))
	}
	for i, e := range f.Evidence {
		out.Evidence[i] = contract.Fact{Label: e.Label, Value: e.Value}
	}
	if f.File != "" {
		file = f.File
	}
	if f.Line > 0 && file != "" {
		out.Place = fmt.Sprintf("%s:%d", file, f.Line)
	}
	if f.ClosedAt != nil {
		out.ClosedAt = ptr(f.ClosedAt.UTC())
	}
	return out
}

// surveyOf shows a survey with how far it is.
func surveyOf(v *service.Survey) contract.Survey {
	out := contract.Survey{Id: v.ID, State: contract.SurveyState(v.State), Scope: v.Scope, BegunBy: v.BegunBy, Missed: v.Missed, Vantage: v.Vantage,
		CreatedAt: v.CreatedAt.UTC(),
		Targets:   v.Targets, Done: v.Done, Connected: v.Connected, Changed: v.Changed, Opened: v.Opened, Closed: v.Closed,
		Servers: v.Servers, ServersRead: v.ServersRead}
	if v.FinishedAt != nil {
		out.FinishedAt = ptr(v.FinishedAt.UTC())
	}
	return out
}

// scheduleOf shows what is looked at by itself.
func scheduleOf(w *service.Watching) contract.Schedule {
	out := contract.Schedule{Every: estate.Interval(w.Schedule.Every), Troubled: estate.Interval(w.Schedule.Troubled),
		Files: estate.Interval(w.Schedule.Files), QuietNow: w.Quiet, Stale: w.Stale, Parts: make([]contract.WatchedPart, len(w.Parts))}
	if w.Schedule.Quiet != nil {
		out.Quiet = ptr(w.Schedule.Quiet.String())
	}
	for i := range w.Parts {
		p := &w.Parts[i]
		out.Parts[i] = contract.WatchedPart{Scope: p.Scope.String(), Every: estate.Interval(p.Every), Missed: p.Missed, Runs: p.Runs}
		if !p.Last.IsZero() {
			out.Parts[i].Last = ptr(p.Last.UTC())
		}
		if !p.Next.IsZero() {
			out.Parts[i].Next = ptr(p.Next.UTC())
		}
	}
	return out
}

// changeOf shows what a target showed before and shows now.
func changeOf(c *service.Change) contract.SurveyChange {
	return contract.SurveyChange{
		Host: c.Host, Endpoint: endpoint(c.Address, c.Port), Server: c.Server,
		Before:            shown(c.BeforeOutcome, c.BeforeName, c.BeforeEnds, c.BeforeVersion),
		After:             shown(c.AfterOutcome, c.AfterName, c.AfterEnds, c.AfterVersion),
		CertificateBefore: fingerprint(c.BeforeLeaf), CertificateAfter: fingerprint(c.AfterLeaf),
	}
}

// shown says in a few words what a target showed.
func shown(outcome, name string, ends *time.Time, version int) string {
	switch {
	case outcome == "":
		return "never looked at"
	case ends == nil:
		return outcome
	}
	return fmt.Sprintf("%s, ends %s, %s", name, ends.UTC().Format("2 January 2006"), binding.VersionName(uint16(version)))
}

// todayOf gathers what the first page shows.
func (srv *Server) todayOf(ctx context.Context, t *service.Today) contract.Today {
	out := contract.Today{Estate: t.Estate, At: t.At, Bindings: verdictCounts(t.Bindings),
		Findings: severityCounts(t.Findings, t.Accepted), DueBindings: t.DueBindings, NextSurvey: t.Next, Stale: t.Stale,
		Worst: srv.findingsOf(ctx, t.Worst), Lanes: make([]contract.Lane, len(t.Lanes)),
		Density: make([]contract.DayCount, len(t.Density)), InUse: t.InUse, Ordered: make([]contract.Order, len(t.Ordered)),
		Installed: make([]contract.Installation, len(t.Installed))}
	for i, v := range t.Ordered {
		out.Ordered[i] = orderOf(v)
	}
	for i, v := range t.Installed {
		out.Installed[i] = installationOf(v)
	}
	if t.Survey != nil {
		out.Survey = ptr(surveyOf(t.Survey))
	}
	for i, l := range t.Lanes {
		out.Lanes[i] = contract.Lane{Sha256: *fingerprint(l.Sha256), Name: l.CommonName, Names: l.Names, Hosts: l.Hosts,
			NotBefore: l.NotBefore.UTC(), NotAfter: l.NotAfter.UTC(), DaysLeft: service.DaysLeft(l.NotAfter)}
	}
	for i, d := range t.Density {
		out.Density[i] = contract.DayCount{Day: openapi_types.Date{Time: d.Day}, Count: d.Count}
	}
	return out
}
