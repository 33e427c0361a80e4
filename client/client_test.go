package client_test

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"insegna.example/client"
)

func serve(t *testing.T, status int, lines ...string) string {
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.WriteHeader(status)
		for _, l := range lines {
			fmt.Fprintf(w, "%s\n", l)
		}
	}))
	t.Cleanup(srv.Close)
	return srv.URL
}

// TestFollowingSaysHowAStreamEnded tells a finished survey from a stream that
// broke, spoke nonsense, or was never there.
func TestFollowingSaysHowAStreamEnded(t *testing.T) {
	const running, finished = `data: {"id":7,"state":"running","done":1}`, `data: {"id":7,"state":"finished","done":2}`
	follow := func(url string, each func(client.Survey) error) error {
		return client.FollowSurvey(t.Context(), http.DefaultClient, url, 7, each)
	}
	var met []int
	note := func(v client.Survey) error { met = append(met, v.Done); return nil }
	require.NoError(t, follow(serve(t, 200, "event: survey", running, "", ": alive", finished, "", running), note))
	assert.Equal(t, []int{1, 2}, met, "what comes after the end is not read")
	assert.ErrorContains(t, follow(serve(t, 200, running), note),
		"following survey 7: the stream ended before the survey did")
	assert.ErrorContains(t, follow(serve(t, 200, "data: {nonsense"), note), "following survey 7: invalid character")
	assert.ErrorContains(t, follow(serve(t, 404), note), "the service answered 404")
	assert.ErrorContains(t, follow(serve(t, 503), note), "the service answered 503")
	enough := errors.New("enough")
	assert.ErrorIs(t, follow(serve(t, 200, running, finished), func(client.Survey) error { return enough }), enough)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	assert.ErrorIs(t, client.FollowSurvey(ctx, http.DefaultClient, serve(t, 200, running), 7, note), context.Canceled)
}

// TestFollowingIsTakenUpAgain breaks every stream after one piece of news: a
// survey is followed to its end all the same.
func TestFollowingIsTakenUpAgain(t *testing.T) {
	at := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		if at++; at%3 == 0 {
			panic(http.ErrAbortHandler) // no answer at all
		}
		state := "running"
		if at > 10 {
			state = "finished"
		}
		for i := range 2 {
			fmt.Fprintf(w, "data: {\"id\":7,\"state\":%q,\"done\":%d}\n\n", state, at+i)
		}
	}))
	defer srv.Close()
	var last client.Survey
	require.NoError(t, client.FollowSurvey(t.Context(), http.DefaultClient, srv.URL, 7,
		func(v client.Survey) error { last = v; return nil }))
	assert.Equal(t, client.SurveyStateFinished, last.State)
}
