package httpapi

import (
	"context"

	"insegna.example/internal/core/journal"
	"insegna.example/internal/httpapi/contract"
)

// ListJournal lists who did what.
func (srv *Server) ListJournal(ctx context.Context,
	r contract.ListJournalRequestObject) (contract.ListJournalResponseObject, error) {
	p := pageOf[string](nil, "-id", r.Params.Cursor, r.Params.Limit)
	before, err := p.Before()
	if err != nil {
		return nil, err
	}
	list, err := srv.service.Journal(ctx, orZero(r.Params.Q), before, p.Limit+1)
	if err != nil {
		return nil, err
	}
	out := contract.ListJournal200JSONResponse{Items: []contract.JournalEntry{}}
	if len(list) > p.Limit {
		list = list[:p.Limit]
		out.NextCursor = ptr(p.After(list[p.Limit-1].ID))
	}
	for _, e := range list {
		out.Items = append(out.Items,
			contract.JournalEntry{Id: e.ID, At: e.At, Actor: e.Actor, Action: e.Action, Subject: e.Subject, Detail: e.Detail,
				Hash: e.Hash.String()})
	}
	return out, nil
}

// VerifyJournal checks that nothing in the journal was changed.
func (srv *Server) VerifyJournal(ctx context.Context,
	r contract.VerifyJournalRequestObject) (contract.VerifyJournalResponseObject, error) {
	v, err := srv.service.VerifyJournal(ctx, orZero(r.Params.Expect))
	if err != nil {
		return nil, err
	}
	out := contract.VerifyJournal200JSONResponse{Whole: v.Broken == nil && v.Expected, Entries: v.Entries}
	if v.Head != (journal.Hash{}) {
		out.Head = v.Head.String()
	}
	switch {
	case v.Broken != nil:
		out.BrokenAt, out.Reason = &v.Broken.ID, &v.Broken.Reason
	case !v.Expected:
		out.Reason = ptr("the expected hash is not in it: entries were taken off its end, or all of it was written anew")
	}
	return out, nil
}
