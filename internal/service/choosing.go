package service

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"insegna.example/internal/core/fault"
	"insegna.example/internal/issue"
	"insegna.example/internal/store"
)

// choose has mandates that name several CAs ordered from the one that is next: the
// first that can be asked and has not failed since the last certificate; where all have,
// the one whose failure is the longest ago. The mandates' CA becomes that one; the words
// say, by mandate, why it is not the first. A CA that is gone ("" for none) is not asked.
func (s *Ordering) choose(ctx context.Context, list []store.Mandate, gone string) (words map[int64]string, err error) {
	words = map[int64]string{}
	for i := range list {
		m := &list[i]
		if len(m.Spec.Otherwise) == 0 {
			continue
		}
		failed, err := s.store.FailedSince(ctx, m.ID)
		if err != nil {
			return nil, err
		}
		var said []string
		usable := -1
		candidates := append([]string{m.Spec.CA}, m.Spec.Otherwise...)
		for n, name := range candidates {
			if name == gone {
				said = append(said, name+" is gone")
				continue
			}
			why, err := s.unusable(ctx, name, *m)
			if err != nil {
				return nil, err
			}
			f, tried := failed[name]
			if why != "" {
				said = append(said, why)
				continue
			}
			if !tried || ofOurs[f.Failure.Kind] {
				usable = n
				break
			}
			said = append(said, fmt.Sprintf("%s failed: %s", name, clipText(f.Failure.Words)))
			if usable < 0 || f.ID < failed[candidates[usable]].ID {
				usable = n
			}
		}
		if usable > 0 {
			m.CA, m.Spec.CA = candidates[usable], candidates[usable]
			words[m.ID] = fmt.Sprintf("ordered from %s; %s", m.CA, joinWords(said))
		}
	}
	return words, nil
}

// ofOurs are the kinds of failure that no other CA mends.
var ofOurs = map[string]bool{issue.NotPublished: true, issue.NotSpread: true, "refused": true, issue.NoKey: true, "bad-key": true}

// joinWords puts reasons one behind the other.
func joinWords(list []string) string {
	list = slices.Compact(list)
	out := ""
	for i, w := range list {
		if i > 0 {
			out += "; "
		}
		out += w
	}
	return out
}

// unusable says why a CA cannot be asked for a mandate now; "" when it can.
func (s *Ordering) unusable(ctx context.Context, name string, m store.Mandate) (string, error) {
	_, ca, _, err := s.ca(ctx, name)
	if err == nil {
		_, err = s.askable(ctx, ca, []store.Mandate{m}, false)
	}
	if err != nil {
		var told fault.Error
		if errors.As(err, &told) {
			return err.Error(), nil
		}
		return "", err
	}
	b, err := s.budget(ctx, ca)
	if err == nil && b.Left() == 0 {
		return (&BudgetError{ca.Name, b}).Error(), nil
	}
	return "", err
}
