package httpapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"insegna.example/internal/httpapi/contract"
	"insegna.example/internal/service"
)

// aliveEvery is how often a sign of life is sent on a stream that is silent.
const aliveEvery = 15 * time.Second

// Pace of looking whether who follows still may, and how long a write may take.
const (
	stillEvery = 5 * time.Second
	writeLimit = 20 * time.Second
)

// followSurvey streams a survey's progress (server-sent events) until it is
// finished. Progress is read from the database, so it is true whichever
// worker does the work.
func (srv *Server) followSurvey(c *gin.Context) {
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil || id < 1 {
		write(c, problem(http.StatusBadRequest, "Bad request", "the survey's number is a whole number from 1", ""))
		return
	}
	progress, err := srv.service.FollowSurvey(c.Request.Context(), id)
	if err != nil {
		srv.handlerError(c, err)
		return
	}
	last := ""
	stream(srv, c, progress, func(v *service.Survey) []byte {
		body, err := json.Marshal(surveyOf(v))
		if err != nil || string(body) == last {
			return nil // nothing new
		}
		last = string(body)
		return fmt.Appendf(nil, "event: survey\ndata: %s\n\n", body)
	})
}

// followEvents streams what happens from now on.
func (srv *Server) followEvents(c *gin.Context) {
	events, err := srv.service.FollowEvents(c.Request.Context())
	if err != nil {
		srv.handlerError(c, err)
		return
	}
	stream(srv, c, events, func(e *service.Events) []byte { return e.As(eventsText) })
}

// eventsText writes events as they are streamed.
func eventsText(list []service.Event) (out []byte) {
	for i := range list {
		e := &list[i]
		body, err := json.Marshal(contract.Event{Id: e.ID, At: e.At.UTC(), Kind: contract.EventKind(e.Kind),
			Survey: e.SurveyID, Finding: e.FindingID, Mandate: e.MandateID, Order: e.OrderID, Installation: e.InstallationID})
		if err == nil {
			out = fmt.Appendf(out, "event: event\ndata: %s\n\n", body)
		}
	}
	return out
}

// stream writes what comes through a channel as server-sent events, until the
// channel is closed, or whoever follows may not any more: that is seen again and
// again, for a session may have ended and a token been revoked.
func stream[T any](srv *Server, c *gin.Context, from <-chan T, as func(T) []byte) {
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	c.Writer.Flush()
	alive, still := time.NewTicker(aliveEvery), time.NewTicker(stillEvery)
	defer alive.Stop()
	defer still.Stop()
	for {
		text := []byte(": alive\n\n")
		select {
		case v, ok := <-from:
			if !ok {
				return
			}
			text = as(v)
			alive.Reset(aliveEvery)
		case <-still.C:
			if !srv.service.StillIn(c.Request.Context()) {
				return
			}
			continue
		case <-alive.C:
		}
		if len(text) == 0 {
			continue
		}
		if err := writeWithin(c.Writer, text); err != nil {
			return
		}
	}
}

// writeWithin writes text out within the limit. The limit ends with it, as what
// is asked next on the same connection has its own.
func writeWithin(w gin.ResponseWriter, text []byte) error {
	control := http.NewResponseController(w)
	if err := control.SetWriteDeadline(time.Now().Add(writeLimit)); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return err
	}
	if _, err := w.Write(text); err != nil {
		return err
	}
	w.Flush()
	_ = control.SetWriteDeadline(time.Time{}) // what cannot be set was not set before
	return nil
}
