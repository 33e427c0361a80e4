package httpapi

import (
	"context"
	"encoding/json"

	"insegna.example/internal/core/estate"
	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/notice"
	"insegna.example/internal/service"
)

// ListOwners tells who is told, and what is theirs.
func (srv *Server) ListOwners(ctx context.Context, _ contract.ListOwnersRequestObject) (contract.ListOwnersResponseObject, error) {
	v, err := srv.service.Owners(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListOwners200JSONResponse{Items: make([]contract.Owner, len(v.List))}
	if n := v.Notices; n != nil {
		out.Gather = ptr(estate.Interval(n.Gather))
		if n.Digest != nil {
			out.Digest = ptr(estate.Clock(*n.Digest))
		}
	}
	for i := range v.List {
		o := &v.List[i]
		out.Items[i] = contract.Owner{Name: o.Name, Default: o.Default, Mail: append([]string{}, o.Mail...), Groups: append([]string{}, o.Groups...),
			Hosts: o.Hosts, Bindings: o.Bindings, Findings: severityCounts(o.Open, o.Accepted), ToldAt: o.ToldAt, SilentUntil: o.SilentUntil}
		if o.Webhook != nil {
			out.Items[i].Webhook = ptr(o.Webhook.Shown())
		}
	}
	return out, nil
}

// ListNotices lists messages.
func (srv *Server) ListNotices(ctx context.Context, r contract.ListNoticesRequestObject) (contract.ListNoticesResponseObject, error) {
	p := pageOf[string](nil, "-id", r.Params.Cursor, r.Params.Limit)
	before, err := p.Before()
	if err != nil {
		return nil, err
	}
	f := service.NoticeFilter{Owner: orZero(r.Params.Owner)}
	if s := r.Params.State; s != nil && *s != contract.ListNoticesParamsStateAll {
		f.State = string(*s)
	}
	list, err := srv.service.Notices(ctx, f, before, p.Limit+1)
	if err != nil {
		return nil, err
	}
	var out contract.ListNotices200JSONResponse
	if len(list) > p.Limit {
		list = list[:p.Limit]
		out.NextCursor = ptr(p.After(list[p.Limit-1].ID))
	}
	out.Items = noticesOf(list)
	return out, nil
}

// GetNotice gives one message.
func (srv *Server) GetNotice(ctx context.Context, r contract.GetNoticeRequestObject) (contract.GetNoticeResponseObject, error) {
	n, err := srv.service.Notice(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return contract.GetNotice200JSONResponse(noticeOf(n)), nil
}

// PreviewNotice writes what an owner would be told.
func (srv *Server) PreviewNotice(ctx context.Context, r contract.PreviewNoticeRequestObject) (contract.PreviewNoticeResponseObject, error) {
	kind := notice.Events
	if k := r.Body.Kind; k != nil {
		kind = notice.Kind(*k)
	}
	list, err := srv.service.PreviewNotice(ctx, r.Body.Owner, kind)
	if err != nil {
		return nil, err
	}
	return contract.PreviewNotice200JSONResponse{Items: noticesOf(list)}, nil
}

// TestNotice sends a test.
func (srv *Server) TestNotice(ctx context.Context, r contract.TestNoticeRequestObject) (contract.TestNoticeResponseObject, error) {
	list, err := srv.service.TestNotice(ctx, r.Body.Owner)
	if err != nil {
		return nil, err
	}
	return contract.TestNotice202JSONResponse{Items: noticesOf(list)}, nil
}

// TryNotice tries again to deliver a message.
func (srv *Server) TryNotice(ctx context.Context, r contract.TryNoticeRequestObject) (contract.TryNoticeResponseObject, error) {
	n, err := srv.service.TryNotice(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return contract.TryNotice202JSONResponse(noticeOf(n)), nil
}

// noticesOf shows messages.
func noticesOf(list []service.Notice) []contract.Notice {
	out := make([]contract.Notice, len(list))
	for i := range list {
		out[i] = noticeOf(&list[i])
	}
	return out
}

// noticeOf shows a message; lists have nothing of what is in it.
func noticeOf(n *service.Notice) contract.Notice {
	out := contract.Notice{Id: n.ID, Owner: n.Owner, Kind: contract.NoticeKind(n.Kind), By: contract.NoticeBy(n.By), Receiver: n.Receiver,
		Subject: n.Subject, State: contract.NoticeState(n.State()), MadeAt: n.MadeAt.UTC(), Tries: n.Tries, NextAt: n.NextAt,
		DeliveredAt: n.DeliveredAt, Trouble: optional(n.Trouble), Text: optional(n.Text), Html: optional(n.HTML)}
	if n.By == service.ByWebhook {
		out.Receiver = (&estate.Webhook{Address: n.Receiver}).Shown()
	}
	var payload map[string]any
	if len(n.Payload) > 0 && json.Unmarshal(n.Payload, &payload) == nil {
		out.Payload = &payload
	}
	return out
}

// ListSilences lists those that last.
func (srv *Server) ListSilences(ctx context.Context, _ contract.ListSilencesRequestObject) (contract.ListSilencesResponseObject, error) {
	list, err := srv.service.Silences(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListSilences200JSONResponse{Items: make([]contract.Silence, len(list))}
	for i := range list {
		out.Items[i] = silenceOf(&list[i])
	}
	return out, nil
}

// AddSilence begins one.
func (srv *Server) AddSilence(ctx context.Context, r contract.AddSilenceRequestObject) (contract.AddSilenceResponseObject, error) {
	v, err := srv.service.AddSilence(ctx, orZero(r.Body.Owner), r.Body.Until, r.Body.Reason)
	if err != nil {
		return nil, err
	}
	return contract.AddSilence201JSONResponse(silenceOf(v)), nil
}

// EndSilence ends one.
func (srv *Server) EndSilence(ctx context.Context, r contract.EndSilenceRequestObject) (contract.EndSilenceResponseObject, error) {
	return contract.EndSilence204Response{}, srv.service.EndSilence(ctx, r.Id)
}

// silenceOf shows a silence.
func silenceOf(v *service.Silence) contract.Silence {
	return contract.Silence{Id: v.ID, Owner: v.Owner, Until: v.Until.UTC(), Reason: v.Reason, By: v.By, MadeAt: v.MadeAt.UTC()}
}
