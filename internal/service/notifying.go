package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"insegna.example/internal/core/check"
	"insegna.example/internal/core/estate"
	"insegna.example/internal/core/lifetime"
	"insegna.example/internal/notice"
	"insegna.example/internal/store"
	"insegna.example/internal/work"
)

// Notifying is the room of messages: who is told of what, when, and whether it arrived.
type Notifying struct {
	base
	declaring *Declaring // says who is told
	ordering  *Ordering  // has the credentials
	surveying *Surveying // knows what is open
	jobs      *work.Jobs // to deliver

	turn sync.Mutex // held while owners are told
	ends time.Time  // they were looked for last

	ownFound atomic.Int64 // findings about the service's own work, as they were last told
}

// How messages are made.
const (
	tellEach     = 15 * time.Second    // between two looks for what happened
	happenedMost = 50_000              // events that are gathered into messages at once
	endingsMost  = 20_000              // certificates that end, looked through at once
	endsEach     = 10 * time.Minute    // between two looks for certificates that end
	standingMost = 20                  // lines of a digest's parts
	standingEnds = 30 * lifetime.Day   // a digest tells what ends in
	noticesKept  = 90 * 24 * time.Hour // after they were written
)

// tellJob tells owners what happened.
type tellJob struct{}

// Kind implements work.Args.
func (tellJob) Kind() string { return "notices_due" }

// register registers what is done for messages.
func (s *Notifying) register() {
	work.Handle(s.jobs, work.Messages, 1, func(ctx context.Context, _ tellJob) error {
		if !s.turn.TryLock() {
			return nil // somebody does it
		}
		defer s.turn.Unlock()
		return s.tell(ctx)
	})
	s.jobs.Every(tellEach, tellJob{})
	work.Handle(s.jobs, work.Messages, deliverTries, s.deliver)
}

// Tell tells owners what happened since they were told last, where that is long enough ago,
// and how things stand, where a digest is due.
func (s *Notifying) Tell(ctx context.Context) error {
	s.turn.Lock()
	defer s.turn.Unlock()
	return s.tell(ctx)
}

func (s *Notifying) tell(ctx context.Context) error {
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) || err == nil && e.Notices == nil {
		return nil
	} else if err != nil {
		return err
	}
	now := s.cfg.Clock()
	horizon, err := s.store.NoticeHorizon(ctx)
	if err != nil {
		return err
	}
	names := make([]string, len(e.Owners))
	for i := range e.Owners {
		names[i] = e.Owners[i].Name
	}
	owners, err := s.store.NoticeOwners(ctx, names, now.UTC())
	if err != nil {
		return err
	}
	silent, err := s.silent(ctx, now)
	if err != nil {
		return err
	}
	for name := range owners {
		if silent(name) {
			delete(owners, name) // told of it all when the silence ends
		}
	}
	r := &round{Notifying: s, estate: e, now: now, horizon: horizon, owners: owners, mandates: map[string]estate.Belongs{}}
	err = errors.Join(r.events(ctx), r.digests(ctx))
	return errors.Join(err, s.store.DropNotices(ctx, now.Add(-noticesKept)))
}

// silent says who wants to hear nothing now.
func (s *Notifying) silent(ctx context.Context, now time.Time) (func(owner string) bool, error) {
	list, err := s.store.Silences(ctx, now)
	return func(owner string) bool {
		return slices.ContainsFunc(list, func(v store.Silence) bool { return v.Owner == "" || v.Owner == owner })
	}, err
}

// round is one time of telling.
type round struct {
	*Notifying
	estate   *estate.Estate
	now      time.Time
	horizon  int64                        // events of transactions before it are all there
	owners   map[string]store.NoticeOwner // who may be told
	mandates map[string]estate.Belongs    // what those met belong to
}

// events tells whoever was told last long enough ago what happened since. While a survey runs
// its findings are waited for, for as long as messages are gathered.
func (r *round) events(ctx context.Context) error {
	running, err := r.store.RunningScopes(ctx, r.now.Add(-r.estate.Notices.Gather))
	if err != nil || len(running) > 0 {
		return err
	}
	by := map[int64][]string{} // transaction they were told up to: mostly all the same
	for name, o := range r.owners {
		if since := r.now.Sub(o.ToldAt); since >= r.estate.Notices.Gather || since < 0 { // the clock was put back
			by[o.Tx] = append(by[o.Tx], name)
		}
	}
	ends := r.now.Sub(r.ends) >= endsEach
	for tx, names := range by {
		if tx > r.horizon {
			tx = r.horizon // the records were taken to another database
		}
		err = errors.Join(err, r.tellOf(ctx, tx, names, ends))
	}
	if ends && len(by) > 0 && err == nil {
		r.ends = r.now
	}
	return err
}

// tellOf tells owners what happened in transactions from one on.
func (r *round) tellOf(ctx context.Context, tx int64, names []string, ends bool) error {
	messages := r.messages(notice.Events, names)
	if tx < r.horizon {
		if err := r.happened(ctx, tx, time.Unix(0, 0), messages, false); err != nil {
			return err
		}
	}
	told := map[string][]store.ToldEnd{}
	if ends {
		var err error
		if told, err = r.endings(ctx, messages); err != nil {
			return err
		}
	}
	var all error
	for name, m := range messages {
		was := r.owners[name]
		next := &store.Told{NoticeOwner: was, Ends: told[name]}
		next.Tx = r.horizon
		if !m.Empty() {
			next.ToldAt = r.now.UTC()
			var err error
			if next.Notices, err = r.addressed(m); err != nil {
				return err
			}
		} else if was.Tx == r.horizon {
			continue
		}
		all = errors.Join(all, r.store.Tell(ctx, &was, next, r.enqueue))
	}
	return all
}

// messages begins one for each of some owners.
func (r *round) messages(kind notice.Kind, names []string) map[string]*notice.Message {
	out := make(map[string]*notice.Message, len(names))
	for _, name := range names {
		out[name] = &notice.Message{Kind: kind, Estate: r.estate.Name, Owner: name, At: r.now.UTC(), Console: r.estate.Notices.Console,
			Lines: []notice.Line{}}
	}
	return out
}

// happened adds what happened to the messages of those it concerns: by the rules or, all, to
// whose it is. Who was never told anything, from transaction 0 on, is told what is open, and
// nothing of the past.
func (r *round) happened(ctx context.Context, tx int64, since time.Time, messages map[string]*notice.Message, all bool) error {
	return r.store.Happened(ctx, tx, r.horizon, since, happenedMost, func(h *store.Happening) error {
		about, err := r.about(ctx, h)
		if err != nil {
			return err
		}
		l := lineOf(h)
		var receivers []string
		if all {
			receivers = []string{about.Owner}
		}
		for i := range r.estate.Notices.Rules {
			rule := &r.estate.Notices.Rules[i]
			if all || !rule.Wants(l.Event, about) || l.Severity != "" && !slices.Contains(rule.Severities, string(l.Severity)) {
				continue
			}
			receivers = append(receivers, rule.Receivers(about)...)
		}
		slices.Sort(receivers)
		for _, name := range slices.Compact(receivers) {
			if m := messages[name]; m != nil && (!all || l.Event != estate.NoticeFound) && (tx > 0 || all || l.Event == estate.NoticeFound) {
				m.Add(l)
			}
		}
		return nil
	})
}

// about is what a thing that happened belongs to; what is nobody's is the estate's owner's.
func (r *round) about(ctx context.Context, h *store.Happening) (estate.Belongs, error) {
	b := estate.Belongs{Group: h.GroupName, Owner: h.Owner, Tags: h.Tags}
	switch {
	case h.Mandate != "":
		known, is := r.mandates[h.Mandate]
		if !is {
			m, err := r.store.Mandate(ctx, h.Mandate)
			if err != nil && !errors.Is(err, store.ErrNotFound) {
				return b, err
			}
			if err == nil {
				for _, name := range m.Spec.Names {
					if host := r.estate.Host(name); host != nil {
						known = r.estate.OfHost(host)
						break
					}
				}
			}
			r.mandates[h.Mandate] = known
		}
		b = known
	case h.OnServer != "":
		if server := r.estate.Server(h.OnServer); server != nil {
			b = r.estate.OfServer(server)
		}
	}
	if b.Owner == "" {
		b.Owner = r.estate.Owner
	}
	return b, nil
}

// lineOf says what happened.
func lineOf(h *store.Happening) notice.Line {
	l := notice.Line{At: h.At.UTC(), Number: h.Finding, Code: string(h.Code), What: h.Host, Words: h.Cause}
	switch h.Kind {
	case store.FindingOpened, store.FindingReturned, store.FindingClosed:
		l.Severity, l.Remedy = check.Severities[h.Severity], h.Remedy
		l.Event = estate.NoticeFound
		if h.Address != "" {
			l.Where = h.Server + " " + net.JoinHostPort(h.Address, strconv.Itoa(h.Port))
			if l.What == "" {
				l.What = "without a name"
			}
		} else if l.What = h.Server; h.Server == "" {
			if l.What = "Insegna itself"; check.RuleOf(h.Code).Speaks != check.OfService {
				l.What = "several servers"
			}
		}
		l.Path = fmt.Sprintf("/findings/%d", h.Finding)
		switch {
		case h.Kind == store.FindingReturned:
			l.Words = "was accepted, and is no longer: " + h.Cause
		case h.Kind == store.FindingClosed && h.Removed:
			l.Event, l.Remedy, l.Words = estate.NoticeMended, "", "is not in the estate any more; it was so that "+h.Cause
		case h.Kind == store.FindingClosed:
			l.Event, l.Remedy, l.Words = estate.NoticeMended, "", "it is no longer so that "+h.Cause
		}
	case store.OrderIssued:
		l.Event, l.What, l.Words, l.Path = estate.NoticeRenewed, h.Mandate, fmt.Sprintf("a new certificate was issued (order %d)", h.Order), "/mandates/"+h.Mandate
	case store.OrderFailed:
		l.Event, l.What, l.Path = estate.NoticeFailed, h.Mandate, fmt.Sprintf("/mandates/%s?order=%d", h.Mandate, h.Order)
		l.Words = fmt.Sprintf("order %d failed", h.Order)
		if f := h.OrderFailure; f != nil {
			l.Words, l.Remedy = fmt.Sprintf("order %d failed: %s", h.Order, f.Words), f.Advice
		}
	case store.Installed, store.CameBack, store.InstallStuck:
		l.Event, l.What, l.Where, l.Path = estate.NoticeInstalled, h.Mandate, h.OnServer, fmt.Sprintf("/installations/%d", h.Installation)
		l.Words = fmt.Sprintf("installed, by installation %d", h.Installation)
		if h.Mandate == "" {
			l.What, l.Where, l.Words = h.OnServer, "", fmt.Sprintf("mended, by installation %d", h.Installation)
		}
		if h.Kind == store.CameBack {
			l.Event, l.Words = estate.NoticeFailed, fmt.Sprintf("installation %d was taken back: %s", h.Installation, h.Reason)
		} else if h.Kind == store.InstallStuck {
			l.Event, l.Words = estate.NoticeFailed, fmt.Sprintf("installation %d is neither new nor old everywhere: %s", h.Installation, h.Reason)
		}
	case store.RenewalAsked:
		l.Event, l.What, l.Words, l.Path = estate.NoticeAsked, h.Mandate, h.Note, "/mandates/"+h.Mandate
	case store.FacesStale:
		l.Event, l.What, l.Words, l.Path = estate.NoticeStale, "the estate", h.Note, "/surveys"
	}
	return l
}

// endings adds the certificates in use that end in so few days that their owner is to be
// told, each of these once, and gives what is told with it.
func (r *round) endings(ctx context.Context, messages map[string]*notice.Message) (map[string][]store.ToldEnd, error) {
	most := -1
	for i := range r.estate.Notices.Rules {
		if rule := &r.estate.Notices.Rules[i]; slices.Contains(rule.Events, estate.NoticeEnds) {
			most = max(most, rule.Days[0])
		}
	}
	told := map[string][]store.ToldEnd{}
	if most < 0 {
		return told, nil
	}
	list, err := r.store.Endings(ctx, r.now, r.now.Add(time.Duration(most)*lifetime.Day), endingsMost)
	if err != nil {
		return nil, err
	}
	before := map[string]map[string]int{}
	for name := range messages {
		if before[name], err = r.store.ToldEnds(ctx, name); err != nil {
			return nil, err
		}
	}
	for i := range list {
		end := &list[i]
		about := r.of(end)
		for name, days := range r.endReceivers(about, end.NotAfter.Sub(r.now)) {
			m := messages[name]
			if m == nil {
				continue
			}
			if had, was := before[name][string(end.Leaf)]; was && had <= days {
				continue
			}
			before[name][string(end.Leaf)] = days
			told[name] = append(told[name], store.ToldEnd{Owner: name, Leaf: end.Leaf, Days: days})
			m.Add(endLine(end, r.now))
		}
	}
	return told, nil
}

// of is what a certificate's hosts belong to.
func (r *round) of(end *store.Ending) estate.Belongs {
	b := estate.Belongs{Group: end.GroupName, Owner: end.Owner, Tags: end.Tags}
	if b.Owner == "" {
		b.Owner = r.estate.Owner
	}
	return b
}

// endReceivers gives who is told of an end by the rules, each with the fewest days at which.
func (r *round) endReceivers(about estate.Belongs, left time.Duration) map[string]int {
	out := map[string]int{}
	for i := range r.estate.Notices.Rules {
		rule := &r.estate.Notices.Rules[i]
		if !rule.Wants(estate.NoticeEnds, about) {
			continue
		}
		at := -1
		for _, days := range rule.Days { // the most first
			if left <= time.Duration(days)*lifetime.Day {
				at = days
			}
		}
		if at < 0 {
			continue
		}
		for _, name := range rule.Receivers(about) {
			if had, is := out[name]; !is || at < had {
				out[name] = at
			}
		}
	}
	return out
}

// endLine says when a certificate ends.
func endLine(end *store.Ending, now time.Time) notice.Line {
	l := notice.Line{Event: estate.NoticeEnds, What: end.Host, At: now.UTC(), Path: fmt.Sprintf("/certificates/%x", end.Leaf)}
	if end.Hosts > 1 {
		l.Where = fmt.Sprintf("%d hosts", end.Hosts)
	}
	l.Words = fmt.Sprintf("the certificate of %s ends on %s, %s", end.CommonName, end.NotAfter.UTC().Format("2 January 2006 15:04 UTC"),
		inDays(end.NotAfter.Sub(now)))
	return l
}

// inDays says how far off something is.
func inDays(left time.Duration) string {
	switch days := int(left / lifetime.Day); {
	case days == 0:
		return fmt.Sprintf("in %d hours", int(left.Hours()))
	case days == 1:
		return "in 1 day"
	default:
		return fmt.Sprintf("in %d days", days)
	}
}

// digests tells how things stand, once a day at the time the estate says. One that was missed
// comes late, once.
func (r *round) digests(ctx context.Context) error {
	at := r.estate.Notices.Digest
	if at == nil {
		return nil
	}
	due := time.Date(r.now.Year(), r.now.Month(), r.now.Day(), int(at.Hours()), int(at.Minutes())%60, 0, 0, r.now.Location())
	if due.After(r.now) {
		due = due.AddDate(0, 0, -1)
	}
	var names []string
	for name, o := range r.owners {
		if o.DigestAt.Before(due) || o.DigestAt.After(r.now.Add(time.Minute)) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	messages, err := r.standing(ctx, names)
	if err != nil {
		return err
	}
	for name, m := range messages {
		was, err := r.store.NoticeOwners(ctx, []string{name}, r.now.UTC()) // what happened may just have been told
		if err != nil {
			return err
		}
		next := &store.Told{NoticeOwner: was[name]}
		next.DigestAt = r.now.UTC()
		if next.Notices, err = r.addressed(m); err != nil {
			return err
		}
		o := was[name]
		if err := r.store.Tell(ctx, &o, next, r.enqueue); err != nil {
			return err
		}
	}
	return nil
}

// standing writes digests: how things stand, and what happened in the last day.
func (r *round) standing(ctx context.Context, names []string) (map[string]*notice.Message, error) {
	messages := r.messages(notice.Digest, names)
	if err := r.happened(ctx, 0, r.now.Add(-lifetime.Day), messages, true); err != nil {
		return nil, err
	}
	endings, err := r.store.Endings(ctx, r.now, r.now.Add(standingEnds), endingsMost)
	if err != nil {
		return nil, err
	}
	for name, m := range messages {
		among := r.estate.Theirs(name)
		s := &notice.Standing{Open: map[check.Severity]int{}}
		counts, accepted, err := r.store.CountFindingsOf(ctx, among)
		if err != nil {
			return nil, err
		}
		for i, n := range counts {
			s.Open[check.Severities[i]] = n
		}
		s.Accepted = accepted
		if s.Bindings, err = r.store.CountBindingsOf(ctx, among); err != nil {
			return nil, err
		}
		worst, _, err := r.store.Findings(ctx, store.FindingFilter{State: "open", Among: among}, store.Page{Sort: "worst", Limit: standingMost})
		if err != nil {
			return nil, err
		}
		for i := range worst {
			s.Worst = append(s.Worst, lineOf(openNow(&worst[i])))
		}
		for i := range endings {
			if end := &endings[i]; len(s.Ends) < standingMost && r.of(end).Owner == name {
				s.Ends = append(s.Ends, endLine(end, r.now))
			}
		}
		m.Standing = s
	}
	return messages, nil
}

// openNow is an open finding as though it had just been found.
func openNow(f *store.Finding) *store.Happening {
	return &store.Happening{At: f.OpenedAt, Kind: store.FindingOpened, Finding: f.ID, Code: f.Code, Severity: f.Severity, Cause: f.Cause,
		Remedy: f.Remedy, Host: f.Host, Server: f.Server, Address: f.Address, Port: f.Port, GroupName: f.GroupName, Owner: f.Owner, Tags: f.Tags}
}

// addressed writes a message to each address of its owner.
func (r *round) addressed(m *notice.Message) ([]store.Notice, error) {
	m.Settle()
	payload, err := m.Payload()
	if err != nil {
		return nil, err
	}
	html, err := m.HTML()
	if err != nil {
		return nil, err
	}
	o := r.estate.OwnerNamed(m.Owner)
	to := map[string]string{}
	for _, address := range o.Mail {
		to[address] = ByMail
	}
	if o.Webhook != nil {
		to[o.Webhook.Address] = ByWebhook
	}
	var list []store.Notice
	for _, address := range slices.Sorted(maps.Keys(to)) {
		list = append(list, store.Notice{Owner: m.Owner, Kind: string(m.Kind), By: to[address], Receiver: address, Subject: m.Subject(),
			Text: m.Text(), HTML: html, Payload: payload, MadeAt: r.now.UTC()})
	}
	return list, nil
}
