package service

import (
	"context"
	"fmt"

	"insegna.example/internal/core/fault"
	"insegna.example/internal/store"
)

// SurveyChanges are what changed in a survey, or since an earlier one.
type SurveyChanges struct {
	Survey, Since  int64           // the later and the earlier one
	Changes        []store.Change  // in what visitors meet
	Opened, Closed []store.Finding // findings, between the two
	Clipped        bool            // there are more than shown
}

// SurveyChanges compares the state after a survey with the one after an
// earlier survey; since nil means the survey before.
func (s *Surveying) SurveyChanges(ctx context.Context, survey int64, since *int64) (*SurveyChanges, error) {
	if _, err := s.store.Survey(ctx, survey); err != nil {
		return nil, err
	}
	out := &SurveyChanges{Survey: survey}
	if since != nil {
		out.Since = *since
	} else if before, err := s.store.Surveys(ctx, survey, 1); err != nil {
		return nil, err
	} else if len(before) > 0 {
		out.Since = before[0].ID
	}
	if out.Since >= survey {
		return nil, &OrderError{survey, out.Since}
	}
	var err error
	if out.Changes, err = s.store.Changes(ctx, out.Since, survey, changesShown+1); err != nil {
		return nil, err
	}
	page := store.Page{Sort: "worst", Limit: changesShown}
	var moreOpened, moreClosed string
	if out.Opened, moreOpened, err = s.store.Findings(ctx,
		store.FindingFilter{State: "all", OpenedAfter: &out.Since, UpTo: survey}, page); err != nil {
		return nil, err
	}
	if out.Closed, moreClosed, err = s.store.Findings(ctx,
		store.FindingFilter{State: "all", ClosedAfter: &out.Since, UpTo: survey}, page); err != nil {
		return nil, err
	}
	out.Clipped = moreOpened+moreClosed != "" || len(out.Changes) > changesShown
	out.Changes = out.Changes[:min(len(out.Changes), changesShown)]
	return out, nil
}

// OrderError says that the survey to compare with is not an earlier one.
type OrderError struct{ Survey, Since int64 }

// Error says which way round the surveys belong.
func (e *OrderError) Error() string {
	return fmt.Sprintf("survey %d is not earlier than survey %d; give the earlier one as since", e.Since, e.Survey)
}

// Told implements fault.Error.
func (e *OrderError) Told() fault.Told {
	return fault.Told{Class: fault.NotTaken, Title: "Wrong order", Next: ""}
}
