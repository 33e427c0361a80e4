package service

import (
	"context"
	"fmt"
	"strings"
	"time"

	"insegna.example/internal/store"
)

// longestAcceptance is how long a finding can be let be without being looked at again.
const longestAcceptance = 366 * 24 * time.Hour

// AcceptFinding lets an open finding be until a time, for a reason, in the name of who asks.
// It comes back then, or before when it is as bad no longer or its evidence is another.
func (s *Surveying) AcceptFinding(ctx context.Context, id int64, until time.Time, reason string) (*Finding, error) {
	now := s.cfg.Clock().UTC()
	reason = strings.TrimSpace(reason)
	switch {
	case !until.After(now):
		return nil, &RefusedError{"the day until which it is to be accepted has passed", "give a day to come, such as " +
			now.AddDate(0, 1, 0).Format(time.DateOnly)}
	case until.Sub(now) > longestAcceptance:
		return nil, &RefusedError{"a finding is accepted for at most 366 days", "give an earlier day; it can be accepted again then"}
	case reason == "":
		return nil, &RefusedError{"nothing says why it is accepted", "give a reason others will understand"}
	}
	until = until.UTC()
	return s.setAcceptance(ctx, id, &until, reason, now)
}

// EndAcceptance opens a finding again that was accepted.
func (s *Surveying) EndAcceptance(ctx context.Context, id int64) (*Finding, error) {
	return s.setAcceptance(ctx, id, nil, "", s.cfg.Clock().UTC())
}

// setAcceptance lets a finding be, or no longer, and writes who did to the journal.
func (s *Surveying) setAcceptance(ctx context.Context, id int64, until *time.Time, reason string, now time.Time) (*Finding, error) {
	f, err := s.finding(ctx, id)
	switch {
	case err != nil:
		return nil, err
	case f.ClosedAt != nil:
		return nil, &RefusedError{fmt.Sprintf("finding #%d is closed", id), "see what is open: insegna finding list"}
	case f.Under != nil:
		return nil, &RefusedError{fmt.Sprintf("finding #%d is counted under #%d, with others that have the same cause", id, *f.Under),
			fmt.Sprintf("accept that one: insegna finding accept %d", *f.Under)}
	case until == nil && f.AcceptedUntil == nil:
		return nil, &RefusedError{fmt.Sprintf("finding #%d is not accepted", id), "see what is: insegna finding list --state accepted"}
	}
	detail := map[string]any{"code": f.Code, "host": f.Host, "server": f.Server}
	act := &store.Act{Actor: actor(ctx), Action: "finding.reopen", Subject: fmt.Sprint(id), Detail: detail}
	if until != nil {
		act.Action, detail["until"], detail["reason"] = "finding.accept", *until, reason
	}
	done, err := s.store.AcceptFinding(ctx, id, until, reason, now, act)
	if err != nil {
		return nil, err
	}
	if !done {
		return nil, &RefusedError{fmt.Sprintf("finding #%d was closed meanwhile", id), "see what is open: insegna finding list"}
	}
	s.today.forget()
	return s.finding(ctx, id)
}

// finding gives one finding; ErrNotFound when there is none.
func (s *Surveying) finding(ctx context.Context, id int64) (*Finding, error) {
	list, _, err := s.store.Findings(ctx, store.FindingFilter{State: "all", ID: id}, store.Page{Sort: "worst", Limit: 1})
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, ErrNotFound
	}
	return &list[0], nil
}
