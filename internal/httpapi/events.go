package httpapi

import (
	"encoding/json"
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
	stream(c, "survey", progress, func(v *service.Survey) any { return surveyOf(v) })
}

// followEvents streams what happens from now on.
func (srv *Server) followEvents(c *gin.Context) {
	events, err := srv.service.FollowEvents(c.Request.Context())
	if err != nil {
		srv.handlerError(c, err)
		return
	}
	stream(c, "event", events, func(e *service.Event) any {
		return contract.Event{Id: e.ID, At: e.At.UTC(), Kind: contract.EventKind(e.Kind), Survey: e.SurveyID,
			Finding: e.FindingID, Mandate: e.MandateID, Order: e.OrderID, Installation: e.InstallationID}
	})
}

// stream writes what comes through a channel as server-sent events of one name,
// leaving out what says the same as the one before, until the channel is closed.
func stream[T any](c *gin.Context, name string, from <-chan T, as func(T) any) {
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	c.Writer.Flush()
	alive := time.NewTicker(aliveEvery)
	defer alive.Stop()
	for last := ""; ; {
		var err error
		select {
		case v, ok := <-from:
			if !ok {
				return
			}
			body, failed := json.Marshal(as(v))
			if failed != nil {
				return
			}
			if string(body) == last {
				continue
			}
			last = string(body)
			alive.Reset(aliveEvery)
			_, err = fmt.Fprintf(c.Writer, "event: %s\ndata: %s\n\n", name, body)
		case <-alive.C:
			_, err = fmt.Fprint(c.Writer, ": alive\n\n")
		}
		if err != nil {
			return
		}
		c.Writer.Flush()
	}
}
