package httpapi

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"insegna.example/internal/store"
)

// Pace of an event stream: how often progress is read while somebody
// follows, and how often a sign of life is sent.
const (
	followEvery = 250 * time.Millisecond
	aliveEvery  = 15 * time.Second
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
	v, err := srv.service.Store().Survey(c.Request.Context(), id)
	if err != nil {
		srv.handlerError(c, err)
		return
	}
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	h.Set("X-Accel-Buffering", "no")
	c.Status(http.StatusOK)
	srv.stream(c, v)
}

func (srv *Server) stream(c *gin.Context, v *store.Survey) {
	ctx := c.Request.Context()
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	last, said := "", time.Now()
	for {
		body, err := json.Marshal(surveyOf(v))
		if err != nil {
			return
		}
		if string(body) != last {
			last, said = string(body), time.Now()
			_, err = fmt.Fprintf(c.Writer, "event: survey\ndata: %s\n\n", body)
		} else if time.Since(said) > aliveEvery {
			said = time.Now()
			_, err = fmt.Fprint(c.Writer, ": alive\n\n")
		}
		if err != nil || v.State == store.Finished {
			c.Writer.Flush()
			return
		}
		c.Writer.Flush()
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		next, err := srv.service.Store().Survey(ctx, v.ID)
		if err != nil {
			return
		}
		v = next
	}
}
