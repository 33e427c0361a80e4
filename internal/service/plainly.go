package service

import (
	"context"
	"net/http"
	"net/netip"
	"slices"

	"insegna.example/internal/acme/proof"
	"insegna.example/internal/core/binding"
	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/veil"
	"insegna.example/internal/kind"
	"insegna.example/internal/store"
)

// plainly is a request in plain http.
type plainly struct {
	host string
	at   netip.AddrPort
}

// plainAnswer is what becomes of it, and of one for a file a CA asks for.
type plainAnswer struct {
	asked, proof kind.Step
}

// plainOf adds what plain http does for a target, at the same address, to what is
// configured for it.
func (v *views) plainOf(ctx context.Context, t *store.Target, c *binding.Configured) error {
	if c == nil || c.Unknown != "" || !c.TLS || !c.Named {
		return nil
	}
	head := v.heads[t.ServerID]
	known, err := v.service.configurationOf(ctx, head.ReadingID)
	if err != nil {
		return err
	}
	at := netip.AddrPortFrom(t.Endpoint.Addr(), v.estate.PlainPort(t.Host))
	got, err := v.service.askedPlainly(ctx, head.ReadingID, known, plainly{t.Host, at})
	if err != nil || got == nil {
		return err
	}
	p := &binding.Plain{At: at, Place: got.asked.Place, Unknown: got.asked.Handling == kind.Depends,
		Closed: got.asked.Handling == kind.Answered && got.asked.Status >= http.StatusBadRequest}
	if got.asked.Handling == kind.Redirects {
		p.Status, p.To = got.asked.Status, veil.Address(got.asked.To)
	}
	if got.proof.Handling != kind.Serves && got.proof.Handling != kind.Depends {
		list, err := v.proofs()
		if err != nil {
			return err
		}
		for i := range list {
			if spec := &list[i].Spec; provedHere(spec, t.Host, t.Server) && !(got.proof.Handling == kind.Passes && got.proof.To == spec.Proof.At) {
				step := got.proof
				step.To = veil.Address(step.To)
				x := explainPath(c.Said(), step)
				p.Blocked = &binding.Blocked{Mandate: list[i].Name, Place: step.Place, Seen: x.Seen, Remedy: x.Remedy + ", then " + c.TakeIn}
				break
			}
		}
	}
	c.Plain = p
	return nil
}

// provedHere says whether a mandate shows control of a host by what a server answers.
func provedHere(m *estate.Mandate, host, server string) bool {
	if !slices.Contains(m.Names, host) {
		return false
	}
	if m.Proof.By == "listener" {
		return m.Proof.At != "" && slices.ContainsFunc(m.Install, func(r estate.Ref) bool { return r.Server == server })
	}
	return slices.Contains(m.Proof.Servers, server)
}

// askedPlainly tells what a stored configuration does with a request in plain http; nil
// where nothing takes it. What was told once is kept with the configuration.
func (s *Reading) askedPlainly(ctx context.Context, reading int64, c *configuration, q plainly) (*plainAnswer, error) {
	if !slices.ContainsFunc(c.reading.Listeners, func(l kind.Listener) bool { return !l.TLS && l.Takes(q.at) }) {
		return nil, nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if had, met := c.plain[q]; met {
		return had, nil
	}
	whole, err := s.wholeOf(ctx, reading)
	if err != nil {
		return nil, err
	}
	var out *plainAnswer
	if asked, is := whole.answers().Plain(q.host, q.at, check.Kept); is {
		out = &plainAnswer{asked: asked}
		out.proof, _ = whole.answers().Plain(q.host, q.at, proof.WellKnown+"insegna")
	}
	if c.plain == nil {
		c.plain = map[plainly]*plainAnswer{}
	}
	c.plain[q] = out
	return out, nil
}
