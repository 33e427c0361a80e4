package main

import (
	"context"
	"fmt"
	"strings"

	"insegna.example/demo"
)

// order enters the name server's key, agrees to the CA's terms, and at the
// first start of all orders what can be had: one mandate is ordered, one is
// rehearsed, as far as it goes, and one cannot be had, for the reason the estate
// file tells.
func (s *running) order(ctx context.Context, e *demo.Estate) error {
	for name, file := range map[string]string{"harbour-tsig": e.TSIGFile(), "operations-hook": e.HookFile()} {
		if err := s.quietly(ctx, admin, "credential", "add", name, "--file", file); err != nil {
			return err
		}
	}
	// The CA keeps nothing between two starts, so the account is made anew.
	args := []string{"ca", "agree", "harbour-light"}
	for _, directory := range []string{e.CADirectory(), e.TestCADirectory()} {
		args = append(args, "--terms", strings.TrimSuffix(directory, "/directory")+"/terms")
	}
	if err := s.quietly(ctx, admin, args...); err != nil {
		return err
	}
	if s.said.link() == "" {
		return nil
	}
	if err := s.insegna(ctx, "mandate", "order", "seafront"); err != nil {
		return err
	}
	if err := s.quietly(ctx, admin, "mandate", "rehearse", "booking"); err != nil {
		return err
	}
	if err := s.quietly(ctx, admin, "mandate", "order", "timetable"); err == nil {
		return fmt.Errorf("the mandate timetable should not be possible before its redirect is mended")
	}
	return s.otherWays(ctx, e)
}

// carried is the number of the order whose request goes out by hand: the fifth of a
// first start.
const carried = "5"

// otherWays takes the crew's CA in and has it issue, sends a request out by hand, what
// comes back for which lies in the inbox, and asks the crew's CA over ACME.
func (s *running) otherWays(ctx context.Context, e *demo.Estate) error {
	for _, args := range [][]string{append([]string{"ca", "take", "crew"}, e.PrivateCA()...), {"mandate", "order", "logbook"},
		{"mandate", "order", "pilot-station"}, {"order", "request", carried, "--out", e.Request()},
		{"order", "sent", carried}} {
		if err := s.quietly(ctx, admin, args...); err != nil {
			return err
		}
	}
	if err := e.Reply(); err != nil {
		return err
	}
	for _, args := range [][]string{{"ca", "agree", "crew-network"}, {"mandate", "order", "galley"},
		{"install", "galley", "--yes"}} {
		if err := s.quietly(ctx, admin, args...); err != nil {
			return err
		}
	}
	return nil
}
