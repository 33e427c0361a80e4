package service

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/notice"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// The ways messages go.
const (
	ByMail    = "mail"
	ByWebhook = "webhook"
)

// How long it is tried.
const (
	deliverTries = 25 // failures of the records in a row; not those of who is told
	tryFor       = 3 * 24 * time.Hour
	tryDigestFor = 20 * time.Hour // then comes the next
)

// waits are how long is waited after each try in vain; the last goes on.
var waits = []time.Duration{time.Minute, 3 * time.Minute, 10 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 4 * time.Hour}

// deliverJob hands a message over.
type deliverJob struct {
	Notice int64 `json:"notice"` // its number
}

// Kind implements work.Args.
func (deliverJob) Kind() string { return "notice_deliver" }

// enqueue queues the delivery of messages.
func (s *Notifying) enqueue(ctx context.Context, tx store.Tx, ids []int64) error {
	jobs := make([]deliverJob, len(ids))
	for i, id := range ids {
		jobs[i] = deliverJob{id}
	}
	return work.Add(ctx, s.jobs, tx, jobs...)
}

// deliver tries to hand a message over, and goes on trying until it is given up.
func (s *Notifying) deliver(ctx context.Context, j deliverJob) error {
	n, err := s.store.Notice(ctx, j.Notice)
	if errors.Is(err, store.ErrNotFound) || err == nil && (n.DeliveredAt != nil || n.GaveUpAt != nil) {
		return nil
	} else if err != nil {
		return err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if err != nil {
		return err
	}
	tried := s.hand(ctx, e, n)
	if ctx.Err() != nil && tried != nil {
		return ctx.Err() // the service ends: it is taken up again
	}
	now := s.cfg.Clock().UTC()
	n.Tries++
	n.NextAt, n.Trouble = nil, ""
	var again error
	var bad *notice.Undelivered
	switch lasts := tryFor; {
	case tried == nil:
		n.DeliveredAt = &now
	case errors.As(tried, &bad) && bad.Refused:
		n.GaveUpAt, n.Trouble = &now, bad.Words
	default:
		if n.Kind == string(notice.Digest) {
			lasts = tryDigestFor
		}
		n.Trouble = tried.Error()
		wait := waits[min(n.Tries, len(waits))-1]
		if next := now.Add(wait); next.Sub(n.MadeAt) < lasts {
			n.NextAt, again = &next, &work.Later{At: time.Now().Add(wait)}
		} else {
			n.GaveUpAt = &now
		}
	}
	if n.Trouble != "" {
		n.Trouble = clipText(n.Trouble)
		s.cfg.Log.Warn("a message was not delivered", "notice", n.ID, "owner", n.Owner, "to", shownReceiver(n.By, n.Receiver), "tries", n.Tries, "error", n.Trouble)
	}
	if err := s.store.NoticeTried(ctx, n); err != nil {
		return err
	}
	return errors.Join(s.tellOwn(ctx), again)
}

// hand hands a message over once. A way that is not declared any more is refused.
func (s *Notifying) hand(ctx context.Context, e *estate.Estate, n *store.Notice) error {
	o := e.OwnerNamed(n.Owner)
	switch {
	case o != nil && n.By == ByWebhook && o.Webhook != nil && o.Webhook.Address == n.Receiver:
		secret, err := s.ordering.plainCredential(ctx, o.Webhook.Secret)
		if err != nil {
			return err
		}
		hook := notice.Hook{Address: n.Receiver, Secret: []byte(secret), Roots: poolOf(o.Webhook.Anchors)}
		return hook.Send(ctx, n.ID, n.Payload, time.Now())
	case o != nil && n.By == ByMail && slices.Contains(o.Mail, n.Receiver) && e.Notices != nil && e.Notices.Mail != nil:
		m := e.Notices.Mail
		way := notice.Mail{Server: m.Server, Security: m.Security, From: m.From, User: m.User, Roots: poolOf(m.Anchors)}
		if m.Credential != "" {
			secret, err := s.ordering.plainCredential(ctx, m.Credential)
			if err != nil {
				return err
			}
			way.Password = secret
		}
		return way.Send(ctx, &notice.Letter{ID: fmt.Sprintf("notice-%d-%d", n.ID, n.MadeAt.Unix()), To: n.Receiver, Subject: n.Subject, Text: n.Text,
			HTML: n.HTML, At: n.MadeAt})
	}
	return &notice.Undelivered{Words: fmt.Sprintf("the estate does not declare %s of %s any more", shownReceiver(n.By, n.Receiver), n.Owner), Refused: true}
}

// poolOf are anchors as connections take them; nil for the system's.
func poolOf(list estate.Anchors) *x509.CertPool {
	if len(list) == 0 {
		return nil
	}
	pool := x509.NewCertPool()
	for _, c := range list {
		pool.AddCert(c.Certificate)
	}
	return pool
}

// plainCredential decrypts a credential and gives it as it was entered, but for blanks around it.
func (s *Ordering) plainCredential(ctx context.Context, name string) (string, error) {
	open, err := s.credentialText(ctx, name)
	return strings.TrimSpace(string(open)), err
}

// shownReceiver is an address as it may be shown: a webhook's may hold a secret.
func shownReceiver(by, receiver string) string {
	if by != ByWebhook {
		return receiver
	}
	return (&estate.Webhook{Address: receiver}).Shown()
}

// tellOwn makes findings of what is wrong with the service's own work: what does not
// arrive, and requests that nobody carries. It closes them when that has ended.
func (s *Notifying) tellOwn(ctx context.Context) error {
	list, err := s.store.Undelivered(ctx)
	if err != nil {
		return err
	}
	found := make([]check.Found, len(list))
	for i, u := range list {
		found[i] = check.Found{Subject: u.Owner + " " + u.Receiver, Finding: check.Finding{Code: check.NoticeUndelivered,
			Severity: check.RuleOf(check.NoticeUndelivered).Severity,
			Cause:    fmt.Sprintf("messages to %s do not arrive at %s: %s", u.Owner, shownReceiver(u.By, u.Receiver), cmp.Or(u.Trouble, "nobody answers")),
			Remedy:   "mend the way there, then send what was given up again: insegna notice again",
			Evidence: []check.Fact{{Label: "owner", Value: u.Owner}, {Label: u.By, Value: shownReceiver(u.By, u.Receiver)}}}}
	}
	waiting, err := s.store.Waiting(ctx, waitingShown)
	if err != nil {
		return err
	}
	now := s.cfg.Clock().UTC()
	for i := range waiting {
		if f := waitsTooLong(&waiting[i], now); f != nil {
			found = append(found, check.Found{Subject: fmt.Sprintf("order %d", waiting[i].ID), Finding: *f})
		}
	}
	if n := int64(len(found)); s.ownFound.Swap(n) != n {
		s.surveying.today.forget()
	}
	return s.store.OwnFindings(ctx, found, now)
}

// waitsTooLong is the finding of a request that nobody has sent, or whose reply has not
// come when it was expected; nil while it is with the CA.
func waitsTooLong(o *store.Order, now time.Time) *check.Finding {
	f := &check.Finding{Code: check.RequestWaits, Severity: check.RuleOf(check.RequestWaits).Severity,
		Evidence: []check.Fact{{Label: "mandate", Value: o.Mandate.Name}, {Label: "order", Value: fmt.Sprint(o.ID)}}}
	switch {
	case o.SentAt == nil:
		f.Cause = fmt.Sprintf("the request of order %d for %s, made on %s, waits to be sent to its CA", o.ID, o.Mandate.Name, o.CreatedAt.UTC().Format("2 January 2006"))
		f.Remedy = fmt.Sprintf("send it (insegna order request %d), then: insegna order sent %d; or give it up: insegna order end %d", o.ID, o.ID, o.ID)
	case o.ExpectedAt != nil && now.After(*o.ExpectedAt):
		f.Cause = fmt.Sprintf("the reply to the request of order %d for %s, sent %s, was expected by %s and has not come", o.ID, o.Mandate.Name,
			strings.TrimSpace("on "+o.SentAt.UTC().Format("2 January 2006")+" "+toWhom(o.SentTo)), o.ExpectedAt.UTC().Format("2 January 2006"))
		f.Remedy = fmt.Sprintf("ask whoever it was sent to; when it is there: insegna order reply FILE; or give it up: insegna order end %d", o.ID)
	default:
		return nil
	}
	return f
}

// toWhom is the end of a sentence; "" for nobody in particular.
func toWhom(name string) string {
	if name == "" {
		return ""
	}
	return "to " + name
}

// Notice is a message.
type Notice = store.Notice

// OwnerView is who is told, and what is theirs.
type OwnerView struct {
	*estate.Owner
	Default             bool     // what names no owner is theirs
	Groups              []string // of which they are the owner
	Hosts, Bindings     int      // that are theirs
	Open                [4]int   // findings by severity, worst first
	Accepted            int      // findings that are let be
	ToldAt, SilentUntil *time.Time
}

// OwnersView is all who are told.
type OwnersView struct {
	List    []OwnerView
	Notices *estate.Notices // nil when nobody is told
}

// Owners tells who is told, and what is theirs.
func (s *Notifying) Owners(ctx context.Context) (*OwnersView, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoEstate
	} else if err != nil {
		return nil, err
	}
	now := s.cfg.Clock()
	silences, err := s.store.Silences(ctx, now)
	if err != nil {
		return nil, err
	}
	hosts := map[string]int{}
	for i := range e.Hosts {
		hosts[e.OfHost(&e.Hosts[i]).Owner]++
	}
	told, err := s.store.ToldAt(ctx)
	if err != nil {
		return nil, err
	}
	out := &OwnersView{Notices: e.Notices}
	for i := range e.Owners {
		o := OwnerView{Owner: &e.Owners[i], Default: e.Owner == e.Owners[i].Name, Hosts: hosts[e.Owners[i].Name]}
		for _, g := range e.Groups {
			if g.Owner == o.Name || g.Owner == "" && o.Default {
				o.Groups = append(o.Groups, g.Name)
			}
		}
		among := e.Theirs(o.Name)
		if o.Open, o.Accepted, err = s.store.CountFindingsOf(ctx, among); err != nil {
			return nil, err
		}
		if o.Bindings, err = s.store.CountBindingsOf(ctx, among); err != nil {
			return nil, err
		}
		if at, is := told[o.Name]; is {
			o.ToldAt = &at
		}
		for _, v := range silences {
			if until := v.Until.UTC(); (v.Owner == "" || v.Owner == o.Name) && (o.SilentUntil == nil || until.After(*o.SilentUntil)) {
				o.SilentUntil = &until
			}
		}
		out.List = append(out.List, o)
	}
	return out, nil
}

// NoticeFilter narrows the list of messages.
type NoticeFilter = store.NoticeFilter

// Silence is a while in which nobody is told anything.
type Silence = store.Silence

// Notices lists messages, newest first, older than before (0: from the newest).
func (s *Notifying) Notices(ctx context.Context, f NoticeFilter, before int64, limit int) ([]Notice, error) {
	return s.store.Notices(ctx, f, before, limit)
}

// Notice gives one message.
func (s *Notifying) Notice(ctx context.Context, id int64) (*Notice, error) {
	return s.store.Notice(ctx, id)
}

// errNoNotices says that the estate tells nobody.
var errNoNotices = &RefusedError{"the estate tells nobody: it declares no notices", "declare owners and notices in the estate file; see docs/notices.md"}

// told gives the estate in force with an owner it tells.
func (s *Notifying) told(ctx context.Context, owner string) (*estate.Estate, error) {
	e, _, err := s.declaring.estateInForce(ctx)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return nil, ErrNoEstate
	case err != nil:
		return nil, err
	case e.Notices == nil:
		return nil, errNoNotices
	case e.OwnerNamed(owner) == nil:
		return nil, &UnknownError{"owner", owner, "notice owners"}
	}
	return e, nil
}

// PreviewNotice writes what an owner would be told: of all that is open, as though it had just
// been found, or the digest. Nothing is kept or sent.
func (s *Notifying) PreviewNotice(ctx context.Context, owner string, kind notice.Kind) ([]Notice, error) {
	r, err := s.roundFor(ctx, owner)
	if err != nil {
		return nil, err
	}
	if kind == notice.Digest {
		messages, err := r.standing(ctx, []string{owner})
		if err != nil {
			return nil, err
		}
		return r.addressed(messages[owner])
	}
	m := r.messages(notice.Events, []string{owner})[owner]
	page := store.Page{Sort: "worst", Limit: 1000}
	for {
		list, next, err := s.store.Findings(ctx, store.FindingFilter{State: "open"}, page)
		if err != nil {
			return nil, err
		}
		for i := range list {
			h := openNow(&list[i])
			about, err := r.about(ctx, h)
			if err != nil {
				return nil, err
			}
			l := lineOf(h)
			for n := range r.estate.Notices.Rules {
				rule := &r.estate.Notices.Rules[n]
				if slices.Contains(rule.Receivers(about), owner) && rule.Wants(l.Event, about) && slices.Contains(rule.Severities, string(l.Severity)) {
					m.Add(l)
					break
				}
			}
		}
		if page.Cursor = next; next == "" {
			break
		}
	}
	if _, err := r.endings(ctx, map[string]*notice.Message{owner: m}); err != nil {
		return nil, err
	}
	return r.addressed(m)
}

// roundFor is a time of telling for one owner.
func (s *Notifying) roundFor(ctx context.Context, owner string) (*round, error) {
	e, err := s.told(ctx, owner)
	if err != nil {
		return nil, err
	}
	horizon, err := s.store.NoticeHorizon(ctx)
	return &round{Notifying: s, estate: e, now: s.cfg.Clock(), horizon: horizon, mandates: map[string]estate.Belongs{}}, err
}

// TestNotice sends a test message to each address of an owner, and gives what was queued.
func (s *Notifying) TestNotice(ctx context.Context, owner string) ([]Notice, error) {
	r, err := s.roundFor(ctx, owner)
	if err != nil {
		return nil, err
	}
	list, err := r.addressed(r.messages(notice.Test, []string{owner})[owner])
	if err != nil {
		return nil, err
	}
	return list, s.store.AddNotices(ctx, list, &store.Act{Actor: actor(ctx), Action: "notice.test", Subject: owner}, s.enqueue)
}

// TryNotice tries to deliver a message again that was not.
func (s *Notifying) TryNotice(ctx context.Context, id int64) (*Notice, error) {
	if _, err := s.store.Notice(ctx, id); err != nil {
		return nil, err
	}
	again, err := s.store.TryNotice(ctx, id, &store.Act{Actor: actor(ctx), Action: "notice.again", Subject: fmt.Sprint(id)}, s.enqueue)
	if err != nil {
		return nil, err
	}
	if !again {
		return nil, &RefusedError{fmt.Sprintf("message %d was delivered", id), "see what was not: insegna notice list --state undelivered"}
	}
	return s.store.Notice(ctx, id)
}

// longestSilence is how long nobody may be told anything.
const longestSilence = 31 * 24 * time.Hour

// Silences lists those that last.
func (s *Notifying) Silences(ctx context.Context) ([]Silence, error) {
	return s.store.Silences(ctx, s.cfg.Clock())
}

// AddSilence has an owner, or nobody, told anything until a time. What happens meanwhile is
// told when it has passed.
func (s *Notifying) AddSilence(ctx context.Context, owner string, until time.Time, reason string) (*Silence, error) {
	now := s.cfg.Clock().UTC()
	if owner != "" {
		if _, err := s.told(ctx, owner); err != nil {
			return nil, err
		}
	}
	switch {
	case !until.After(now):
		return nil, &RefusedError{"the time until which nobody is to be told has passed", "give a time to come"}
	case until.Sub(now) > longestSilence:
		return nil, &RefusedError{"nobody is told anything for at most 31 days", "give an earlier time"}
	case strings.TrimSpace(reason) == "":
		return nil, &RefusedError{"nothing says why nobody is to be told", "give a reason others will understand"}
	}
	v := &Silence{Owner: owner, Until: until.UTC(), Reason: strings.TrimSpace(reason), By: actor(ctx), MadeAt: now}
	return v, s.store.AddSilence(ctx, v, &store.Act{Actor: v.By, Action: "silence.begin", Subject: cmp.Or(owner, "everybody"),
		Detail: map[string]any{"until": v.Until, "reason": v.Reason}})
}

// EndSilence ends one before its time.
func (s *Notifying) EndSilence(ctx context.Context, id int64) error {
	return s.store.EndSilence(ctx, id, &store.Act{Actor: actor(ctx), Action: "silence.end", Subject: fmt.Sprint(id)}, s.cfg.Clock().UTC())
}
