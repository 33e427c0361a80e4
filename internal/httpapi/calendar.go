package httpapi

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// GetCalendar gives the calendar to whoever has its address.
func (srv *Server) GetCalendar(ctx context.Context, r contract.GetCalendarRequestObject) (contract.GetCalendarResponseObject, error) {
	c, err := srv.service.Calendar(ctx, strings.TrimSuffix(r.Token, ".ics"))
	if err != nil {
		return nil, err
	}
	return calendarText(calendarOf(c)), nil
}

// calendarText is a reply of a calendar.
type calendarText string

// VisitGetCalendarResponse implements contract.GetCalendarResponseObject.
func (text calendarText) VisitGetCalendarResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "text/calendar; charset=utf-8")
	w.Header().Set("Content-Disposition", `inline; filename="insegna.ics"`)
	w.Header().Set("Cache-Control", "private, max-age=300")
	_, err := w.Write([]byte(text))
	return err
}

// dateLasts is how long a date is shown in calendars, which leave out what takes no time.
const dateLasts = 30 * time.Minute

// calendarOf writes a calendar (RFC 5545; how often to come again is RFC 7986's).
func calendarOf(c *service.Calendar) string {
	cal := ics.NewCalendar()
	cal.SetProductId("-//Insegna//calendar//EN")
	cal.SetMethod(ics.MethodPublish)
	name := c.Estate
	if c.Owner != "" {
		name += ", " + c.Owner
	}
	if name != "" {
		cal.SetName(name)
	}
	cal.SetRefreshInterval("PT1H")
	if c.Left > 0 {
		cal.SetDescription(fmt.Sprintf("%d later dates are left out", c.Left))
	}
	for i := range c.Dates {
		d := &c.Dates[i]
		e := cal.AddEvent(d.ID + "@insegna")
		e.SetDtStampTime(c.At)
		e.SetStartAt(d.At)
		e.SetEndAt(d.At.Add(dateLasts))
		e.SetSummary(d.Summary)
		e.SetDescription(d.Words)
		e.SetTimeTransparency(ics.TransparencyTransparent)
		if c.Console != "" {
			e.SetURL(c.Console + d.Path)
		}
	}
	return cal.Serialize(ics.WithNewLineWindows)
}

// ListFeeds lists addresses of the calendar.
func (srv *Server) ListFeeds(ctx context.Context, _ contract.ListFeedsRequestObject) (contract.ListFeedsResponseObject, error) {
	list, err := srv.service.Feeds(ctx)
	if err != nil {
		return nil, err
	}
	out := contract.ListFeeds200JSONResponse{Items: make([]contract.Feed, len(list))}
	for i := range list {
		out.Items[i] = feedOf(&list[i])
	}
	return out, nil
}

// MakeFeed makes one.
func (srv *Server) MakeFeed(ctx context.Context, r contract.MakeFeedRequestObject) (contract.MakeFeedResponseObject, error) {
	f, secret, err := srv.service.MakeFeed(ctx, r.Body.Name, orZero(r.Body.Owner))
	if err != nil {
		return nil, err
	}
	out := feedOf(f)
	out.Path = ptr("/api/v1/calendar/" + secret + ".ics")
	return contract.MakeFeed201JSONResponse(out), nil
}

// RevokeFeed ends one.
func (srv *Server) RevokeFeed(ctx context.Context, r contract.RevokeFeedRequestObject) (contract.RevokeFeedResponseObject, error) {
	return contract.RevokeFeed204Response{}, srv.service.RevokeFeed(ctx, r.Id)
}

// feedOf shows an address without its secret.
func feedOf(f *service.Feed) contract.Feed {
	return contract.Feed{Id: f.ID, Name: f.Name, Owner: f.Owner, Person: f.Person.Name, MadeAt: f.MadeAt.UTC(), UsedAt: f.UsedAt}
}
