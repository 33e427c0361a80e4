package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/store"
)

// Feed is an address at which whoever has it reads the calendar.
type Feed = store.Feed

// calendarMost is how many dates a calendar has at most, the nearest first.
const calendarMost = 2000

// calendarBack and calendarAhead are how far back and ahead a calendar goes.
const (
	calendarBack  = 14 * 24 * time.Hour
	calendarAhead = 400 * 24 * time.Hour
)

// Calendar is what is to come: ends, renewals and acceptances.
type Calendar struct {
	Estate  string    // its name
	Owner   string    // only what is theirs; "" for all
	Console string    // address its links lead to; "" for none
	Dates   []Date    // in order
	Left    int       // that are not among the dates
	At      time.Time // it was put together
}

// Date is one of them.
type Date struct {
	ID      string    // stays the same
	At      time.Time // in UTC
	Summary string    // in one line
	Words   string    // more about it
	Path    string    // in the console
}

// MakeFeed makes an address for the calendar, shown once, of all or of what is an owner's. It
// ends with the access of who makes it.
func (s *Notifying) MakeFeed(ctx context.Context, name, owner string) (*Feed, string, error) {
	c := CallerOf(ctx)
	name = strings.TrimSpace(name)
	if c == nil || name == "" {
		return nil, "", &RefusedError{"the feed has no name", "say what it is for"}
	}
	if owner != "" {
		e, _, err := s.declaring.estateInForce(ctx)
		if errors.Is(err, store.ErrNotFound) {
			return nil, "", ErrNoEstate
		} else if err != nil {
			return nil, "", err
		}
		if e.OwnerNamed(owner) == nil {
			return nil, "", &UnknownError{"owner", owner, "notice owners"}
		}
	}
	secret, text := newSecret()
	f := &Feed{Name: name, Owner: owner, PersonID: c.Person.ID, MadeAt: time.Now().UTC(), Person: *c.Person}
	return f, text, s.store.MakeFeed(ctx, f, secret, &store.Act{Actor: c.Person.Name, Action: "feed.make", Subject: name,
		Detail: map[string]any{"owner": owner}})
}

// Feeds lists the caller's own feeds; an admin sees everybody's.
func (s *Notifying) Feeds(ctx context.Context) ([]Feed, error) {
	return s.store.Feeds(ctx, ownOnly(CallerOf(ctx)))
}

// RevokeFeed ends a feed, the caller's own; an admin may end everybody's.
func (s *Notifying) RevokeFeed(ctx context.Context, id int64) error {
	return s.store.RevokeFeed(ctx, id, ownOnly(CallerOf(ctx)), func(f *Feed) *store.Act {
		return &store.Act{Actor: actor(ctx), Action: "feed.revoke", Subject: f.Name}
	}, time.Now().UTC())
}

// Calendar gives what is to come to whoever shows the secret of a feed; ErrNotFound when there
// is none in force.
func (s *Notifying) Calendar(ctx context.Context, token string) (*Calendar, error) {
	secret, err := secretOf(token)
	if err != nil {
		return nil, ErrNotFound
	}
	now := s.cfg.Clock().UTC()
	f, err := s.store.Feed(ctx, secret, now)
	if err != nil {
		return nil, err
	}
	e, _, err := s.declaring.estateInForce(ctx)
	if errors.Is(err, store.ErrNotFound) {
		return &Calendar{At: now}, nil
	} else if err != nil {
		return nil, err
	}
	c := &Calendar{Estate: e.Name, Owner: f.Owner, At: now}
	if e.Notices != nil {
		c.Console = e.Notices.Console
	}
	for _, add := range []func(context.Context, *estate.Estate, *Calendar) error{s.endDates, s.renewalDates, s.acceptanceDates} {
		if err := add(ctx, e, c); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(c.Dates, func(a, b Date) int {
		if d := a.At.Compare(b.At); d != 0 {
			return d
		}
		return strings.Compare(a.ID, b.ID)
	})
	if over := len(c.Dates) - calendarMost; over > 0 {
		c.Dates, c.Left = c.Dates[:calendarMost], over
	}
	return c, nil
}

// theirs says whether something that belongs to an owner is in the calendar.
func (c *Calendar) theirs(e *estate.Estate, owner string) bool {
	return c.Owner == "" || slices.Contains(e.Theirs(c.Owner).Owners, owner)
}

// endDates adds the ends of certificates in use, each once.
func (s *Notifying) endDates(ctx context.Context, e *estate.Estate, c *Calendar) error {
	list, err := s.store.Endings(ctx, c.At.Add(-calendarBack), c.At.Add(calendarAhead), endingsMost)
	if err != nil {
		return err
	}
	at := map[string]int{}
	for i := range list {
		end := &list[i]
		if !c.theirs(e, end.Owner) {
			continue
		}
		id := fmt.Sprintf("end-%x", end.Leaf)
		if n, is := at[id]; is {
			c.Dates[n].Words += fmt.Sprintf("\n%s of %s", hostsOf(end), end.GroupName)
			continue
		}
		at[id] = len(c.Dates)
		c.Dates = append(c.Dates, Date{ID: id, At: end.NotAfter.UTC(), Path: fmt.Sprintf("/certificates/%x", end.Leaf),
			Summary: end.Host + ": the certificate ends", Words: fmt.Sprintf("The certificate of %s, served for %s.", end.CommonName, hostsOf(end))})
	}
	return nil
}

// hostsOf names the first of a certificate's hosts.
func hostsOf(end *store.Ending) string {
	if end.Hosts > 1 {
		return fmt.Sprintf("%s and %d more", end.Host, end.Hosts-1)
	}
	return end.Host
}

// renewalDates adds when mandates are due.
func (s *Notifying) renewalDates(ctx context.Context, e *estate.Estate, c *Calendar) error {
	list, err := s.store.Mandates(ctx, "", "", calendarMost)
	if err != nil {
		return err
	}
	for i := range list {
		m := &list[i]
		owner := e.Owner
		for _, name := range m.Spec.Names {
			if h := e.Host(name); h != nil {
				owner = e.OfHost(h).Owner
				break
			}
		}
		if m.NextAt == nil || !c.theirs(e, owner) {
			continue
		}
		c.Dates = append(c.Dates, Date{ID: "renewal-" + m.Name, At: m.NextAt.UTC(), Path: "/mandates/" + m.Name,
			Summary: m.Name + ": renewed by itself", Words: fmt.Sprintf("Of %s, from %s.", strings.Join(firstNames(m.Spec.Names), ", "), m.CA)})
	}
	return nil
}

// namesTold is how many names of a mandate are told.
const namesTold = 5

// firstNames are the first of some names.
func firstNames(list []string) []string {
	if len(list) <= namesTold {
		return list
	}
	return append(slices.Clone(list[:namesTold]), fmt.Sprintf("%d more", len(list)-namesTold))
}

// acceptanceDates adds when accepted findings come back.
func (s *Notifying) acceptanceDates(ctx context.Context, e *estate.Estate, c *Calendar) error {
	list, _, err := s.store.Findings(ctx, store.FindingFilter{State: "accepted"}, store.Page{Sort: "worst", Limit: calendarMost})
	if err != nil {
		return err
	}
	for i := range list {
		f := &list[i]
		what := f.Host
		if what == "" {
			what = f.Server
		}
		if !c.theirs(e, f.Owner) {
			continue
		}
		c.Dates = append(c.Dates, Date{ID: fmt.Sprintf("acceptance-%d", f.ID), At: f.AcceptedUntil.UTC(), Path: "/findings/" + fmt.Sprint(f.ID),
			Summary: fmt.Sprintf("%s: %s is accepted until now", what, f.Code), Words: fmt.Sprintf("Accepted by %s: %s\n%s.", f.AcceptedBy, f.AcceptedReason, f.Cause)})
	}
	return nil
}
