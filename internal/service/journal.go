package service

import (
	"context"
	"errors"

	"insegna.example/internal/core/journal"
)

// Verification is what a walk through the whole journal came to.
type Verification struct {
	journal.Check
	Broken   *journal.BrokenError // nil when every entry fits
	Expected bool                 // the expected hash is in the journal; true when none was given
}

// VerifyJournal walks the whole journal. Expect is a hash noted earlier, "" for
// none: when it is not met, entries were taken off the end or all were written
// anew.
func (s *Access) VerifyJournal(ctx context.Context, expect string) (*Verification, error) {
	v := &Verification{Expected: expect == ""}
	err := s.store.EachEntry(ctx, func(e *journal.Entry) error {
		if err := v.Next(e); err != nil {
			return err
		}
		v.Expected = v.Expected || e.Hash.String() == expect
		return nil
	})
	if errors.As(err, &v.Broken) {
		return v, nil
	}
	return v, err
}
