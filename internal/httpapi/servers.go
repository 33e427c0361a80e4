package httpapi

import (
	"context"
	"fmt"

	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/check"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/kind"
	"insegna.example/internal/service"
)

// shownMost bounds the lists of a server's page.
const shownMost = 1000

// ListKinds lists the kinds of server.
func (srv *Server) ListKinds(context.Context,
	contract.ListKindsRequestObject) (contract.ListKindsResponseObject, error) {
	out := contract.ListKinds200JSONResponse{Items: []contract.Kind{}}
	for _, k := range srv.service.Kinds() {
		row := contract.Kind{Name: k.Name(), Title: k.Title, Hops: k.Hops, Can: []string{}, Cannot: []string{}}
		for _, p := range kind.Parts {
			if k.Has(p) {
				row.Can = append(row.Can, string(p))
			} else {
				row.Cannot = append(row.Cannot, string(p))
			}
		}
		out.Items = append(out.Items, row)
	}
	return out, nil
}

// ListServers lists servers.
func (srv *Server) ListServers(ctx context.Context,
	r contract.ListServersRequestObject) (contract.ListServersResponseObject, error) {
	list, next, err := srv.service.Servers(ctx, service.ServerFilter{Query: orZero(r.Params.Q), Read: r.Params.Read},
		pageOf(r.Params.Sort, "name", r.Params.Cursor, r.Params.Limit))
	if err != nil {
		return nil, err
	}
	out := contract.ListServers200JSONResponse{Items: make([]contract.Server, len(list)), NextCursor: optional(next)}
	for i := range list {
		out.Items[i] = serverOf(&list[i])
	}
	return out, nil
}

// GetServer gives one server with what its configuration says.
func (srv *Server) GetServer(ctx context.Context,
	r contract.GetServerRequestObject) (contract.GetServerResponseObject, error) {
	d, err := srv.service.ServerDetail(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	out := contract.GetServer200JSONResponse{Server: serverOf(&d.Server), Commands: []contract.ServerCommand{},
		Listeners: []contract.Listener{}, Files: []contract.FileName{}, Problems: []contract.ConfigurationProblem{}}
	for _, c := range d.Commands {
		out.Commands = append(out.Commands, contract.ServerCommand{Key: c.Key, Command: c.Command})
	}
	if d.Reading == nil {
		return out, nil
	}
	for i := range d.Reading.Listeners[:min(len(d.Reading.Listeners), shownMost)] {
		l := &d.Reading.Listeners[i]
		out.Listeners = append(out.Listeners,
			contract.Listener{Address: l.String(), Protocol: contract.ListenerProtocol(l.Protocol), Tls: l.TLS,
				Spot: l.Place.String(), Sites: len(l.Sites),
				DefaultSite: d.Reading.Sites[l.Default].MainName(), Chosen: l.Chosen})
	}
	for _, f := range d.Reading.Files[:min(len(d.Reading.Files), shownMost)] {
		out.Files = append(out.Files, contract.FileName{Path: f.Path, Link: optional(f.Link), InForce: f.InForce})
	}
	for _, p := range d.Reading.Problems {
		out.Problems = append(out.Problems,
			contract.ConfigurationProblem{File: p.File, Line: p.Line, Column: p.Column,
				Effect:  contract.ConfigurationProblemEffect(p.Effect),
				Message: p.Message, Expected: optional(p.Expected)})
	}
	return out, nil
}

// serverOf shows a server with how its configuration was read.
func serverOf(s *service.Server) contract.Server {
	out := contract.Server{Name: s.Name, Kind: s.Kind, Line: s.Line, Reach: s.Reach, Read: s.LastRead != nil,
		Main: s.Main, Endpoints: s.Endpoints, Bindings: s.Bindings,
		Broken: s.Broken, AtOdds: s.AtOdds, Agreed: s.Agreed, Unknown: s.Unknown, Findings: s.Findings, Files: s.Files,
		Sites: s.Sites, Listeners: s.Listeners,
		Certificates: s.Certificates, Problems: s.Problems, Trouble: s.Trouble, TroubleCode: optional(s.TroubleCode)}
	if s.Worst != nil {
		out.Worst = ptr(contract.Severity(check.Severities[*s.Worst]))
	}
	if s.LastRead != nil {
		out.LastRead = ptr(s.LastRead.UTC())
	}
	if s.Loaded != nil {
		out.Loaded = ptr(s.Loaded.UTC())
	}
	if s.TriedAt != nil {
		out.TriedAt = ptr(s.TriedAt.UTC())
	}
	return out
}

// ListSites lists the sites of a server.
func (srv *Server) ListSites(ctx context.Context,
	r contract.ListSitesRequestObject) (contract.ListSitesResponseObject, error) {
	p := pageOf[string](nil, "site", r.Params.Cursor, r.Params.Limit)
	from, err := p.Before()
	if err != nil {
		return nil, err
	}
	list, more, err := srv.service.Sites(ctx, r.Name, orZero(r.Params.Q), r.Params.InForce, int(from), p.Limit)
	if err != nil {
		return nil, err
	}
	out := contract.ListSites200JSONResponse{Items: make([]contract.Site, len(list))}
	for i := range list {
		out.Items[i] = siteOf(&list[i])
	}
	if more {
		out.NextCursor = ptr(p.After(from + int64(len(list))))
	}
	return out, nil
}

// ListMaterial lists the files of certificates and keys on a server.
func (srv *Server) ListMaterial(ctx context.Context,
	r contract.ListMaterialRequestObject) (contract.ListMaterialResponseObject, error) {
	p := pageOf[string](nil, "material", r.Params.Cursor, r.Params.Limit)
	from, err := p.Before()
	if err != nil {
		return nil, err
	}
	list, more, err := srv.service.Material(ctx, r.Name, orZero(r.Params.Q), orZero(r.Params.Unused), int(from), p.Limit)
	if err != nil {
		return nil, err
	}
	out := contract.ListMaterial200JSONResponse{Items: make([]contract.Material, len(list))}
	for i := range list {
		out.Items[i] = materialOf(&list[i])
	}
	if more {
		out.NextCursor = ptr(p.After(from + int64(len(list))))
	}
	return out, nil
}

// ListReadingChanges tells what changed on a server between its readings.
func (srv *Server) ListReadingChanges(ctx context.Context,
	r contract.ListReadingChangesRequestObject) (contract.ListReadingChangesResponseObject, error) {
	const usual = 5
	p := pageOf[string](nil, "changes", r.Params.Cursor, r.Params.Limit)
	if r.Params.Limit == nil {
		p.Limit = usual
	}
	before, err := p.Before()
	if err != nil {
		return nil, err
	}
	list, more, err := srv.service.ReadingChanges(ctx, r.Name, before, p.Limit)
	if err != nil {
		return nil, err
	}
	out := contract.ListReadingChanges200JSONResponse{Items: make([]contract.ReadingChange, len(list))}
	for i := range list {
		c := &list[i]
		row := contract.ReadingChange{From: c.From.UTC(), Until: c.Until.UTC(), Further: c.Further,
			Changes: make([]contract.ReadingDifference, len(c.Changes))}
		for j, d := range c.Changes {
			row.Changes[j] = contract.ReadingDifference{What: contract.ReadingDifferenceWhat(d.What), Which: d.Which,
				Before: optional(d.Before), After: optional(d.After)}
			if d.Place.Known() {
				row.Changes[j].Spot = ptr(d.Place.String())
			}
		}
		out.Items[i] = row
	}
	if more > 0 {
		out.NextCursor = ptr(p.After(more))
	}
	return out, nil
}

// materialOf shows a file of certificates and keys.
func materialOf(m *service.MaterialView) contract.Material {
	out := contract.Material{Path: m.Path, Mode: fmt.Sprintf("%04o", m.Mode), Open: m.Open(), HasKey: m.Public != "",
		State: contract.MaterialState(m.State), Why: m.Why, CanGo: m.State.CanGo(), LeftOver: m.State.LeftOver(),
		SameKeyOn: append([]string{}, m.Twins...)}
	if !m.Modified.IsZero() {
		out.ModifiedAt = ptr(m.Modified.UTC())
	}
	if at := append(m.Used, m.Idle...); len(at) > 0 {
		out.Spot = ptr(at[0].String())
	}
	if c := m.Leaf; c != nil {
		out.Sha256, out.CommonName, out.Issuer = ptr(c.Fingerprint.String()), ptr(c.CommonName()), ptr(c.IssuerName())
		out.NotAfter, out.DaysLeft = ptr(c.NotAfter.UTC()), ptr(service.DaysLeft(c.NotAfter))
	}
	return out
}

// siteOf shows a site with its listeners, names and certificates.
func siteOf(v *service.SiteView) contract.Site {
	out := contract.Site{Spot: v.Place.String(), Protocol: contract.SiteProtocol(v.Protocol), InForce: v.InForce,
		Names: []string{}, NameCount: len(v.Names), Listens: append([]string{}, v.Asked...),
		DefaultAt: append([]string{}, v.DefaultAt...), Refuses: v.Refuses, Certificates: []contract.SiteCertificate{},
		Plain: []contract.PlainRoute{}, Hops: []contract.Hop{}}
	for _, n := range v.Names[:min(len(v.Names), namesInList)] {
		out.Names = append(out.Names, n.Text)
	}
	for i := range v.Certificates {
		out.Certificates = append(out.Certificates, siteCertificate(&v.Certificates[i]))
	}
	for i := range v.Plain {
		out.Plain = append(out.Plain, routeOf(&v.Plain[i]))
	}
	for i := range v.Hops {
		h := &v.Hops[i]
		hop := contract.Hop{To: h.To, Tls: h.TLS, Checked: h.Checked, Name: optional(h.Name), Sends: optional(h.Sends),
			Trust: optional(h.Trust), Spot: h.Place.String(), Servers: append([]string{}, h.Servers...), Looks: []contract.HopLook{}}
		for j := range v.Behind {
			if b := &v.Behind[j]; b.At == h.Place {
				hop.Looks = append(hop.Looks, hopLookOf(b))
			}
		}
		out.Hops = append(out.Hops, hop)
	}
	return out
}

// hopLookOf shows what a look at a server behind brought.
func hopLookOf(h *binding.Hop) contract.HopLook {
	out := contract.HopLook{Address: h.Address, Host: optional(h.For), Sha256: optional(h.Leaf)}
	if !h.Looked.IsZero() {
		out.LookedAt = ptr(h.Looked.UTC())
	}
	switch {
	case h.Fault != "":
		out.State, out.Said = contract.HopLookStateFails, h.Why
	case h.Unknown != "":
		out.State, out.Said = contract.HopLookStateUnknown, h.Unknown
	case h.Unseen != "":
		out.State, out.Said = contract.HopLookStateUnwatched, h.Unseen
	case h.Shown != "":
		out.State, out.Said = contract.HopLookStateFine, h.Shown
	default:
		out.State, out.Said = contract.HopLookStateFine, "it takes connections"
	}
	return out
}

// siteCertificate shows a certificate of a site with its key's fault, if any.
func siteCertificate(p *service.PairView) contract.SiteCertificate {
	out := contract.SiteCertificate{File: p.Certificate, Spot: p.Place.String(), Key: p.Pair.Key,
		KeySpot: p.KeyPlace.String(), KeyState: p.Key, Fault: p.Fault, Sent: p.Sent}
	if c := p.Leaf; c != nil {
		out.Sha256, out.CommonName, out.Issuer = ptr(c.Fingerprint.String()), ptr(c.CommonName()), ptr(c.IssuerName())
		out.NotAfter, out.DaysLeft = ptr(c.NotAfter.UTC()), ptr(service.DaysLeft(c.NotAfter))
	}
	return out
}

// routeOf shows what a site does with plain http, step by step.
func routeOf(r *kind.Route) contract.PlainRoute {
	return contract.PlainRoute{Listener: r.Listener, Host: r.Host, Front: service.StepText(&r.Front),
		FrontSpot: r.Front.Place.String(),
		WellKnown: service.StepText(&r.WellKnown), WellKnownSpot: r.WellKnown.Place.String(),
		WellKnownHidden: r.WellKnown.Hidden != nil}
}

// ListAnswers tells which site answers for a host.
func (srv *Server) ListAnswers(ctx context.Context,
	r contract.ListAnswersRequestObject) (contract.ListAnswersResponseObject, error) {
	list, read, err := srv.service.Answers(ctx, r.Name, orZero(r.Params.Host), orZero(r.Params.At))
	if err != nil {
		return nil, err
	}
	out := contract.ListAnswers200JSONResponse{ReadAt: read, Items: make([]contract.SiteAnswer, len(list))}
	for i := range list {
		a := &list[i]
		out.Items[i] = contract.SiteAnswer{Listener: a.Listener, Tls: a.TLS, Why: a.Why}
		if a.Site != nil {
			out.Items[i].Site = ptr(siteOf(a.Site))
		}
		if a.Plain != nil {
			out.Items[i].Plain = ptr(routeOf(a.Plain))
		}
	}
	return out, nil
}

// GetConfigurationFile gives a file of a server's configuration.
func (srv *Server) GetConfigurationFile(ctx context.Context,
	r contract.GetConfigurationFileRequestObject) (contract.GetConfigurationFileResponseObject, error) {
	f, err := srv.service.ConfigurationText(ctx, r.Name, r.Params.Path)
	if err != nil {
		return nil, err
	}
	out := contract.GetConfigurationFile200JSONResponse{Path: f.Path, Link: optional(f.Link), InForce: f.InForce,
		Text: f.Text, Marks: make([]contract.LineMark, len(f.Marks))}
	if !f.Modified.IsZero() {
		out.Modified = ptr(f.Modified.UTC())
	}
	for i, m := range f.Marks {
		out.Marks[i] = contract.LineMark{Line: m.Line, Kind: contract.LineMarkKind(m.Kind), Text: m.Text}
	}
	return out, nil
}

// hostKeyOf shows what is known of a host key.
func hostKeyOf(k *service.HostKey) contract.HostKey {
	return contract.HostKey{Seen: k.Seen, Known: k.Known, Changed: k.Changed, At: k.At}
}

// GetHostKey asks a server for its host key.
func (srv *Server) GetHostKey(ctx context.Context,
	r contract.GetHostKeyRequestObject) (contract.GetHostKeyResponseObject, error) {
	k, err := srv.service.HostKeyOf(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	return contract.GetHostKey200JSONResponse(hostKeyOf(k)), nil
}

// TrustHostKey keeps the host key a server shows.
func (srv *Server) TrustHostKey(ctx context.Context,
	r contract.TrustHostKeyRequestObject) (contract.TrustHostKeyResponseObject, error) {
	k, err := srv.service.TrustHostKey(ctx, r.Name, r.Body.Seen)
	if err != nil {
		return nil, err
	}
	return contract.TrustHostKey200JSONResponse(hostKeyOf(k)), nil
}
