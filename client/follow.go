package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"
)

// How often a stream that broke off is taken up again before anything new came,
// and the wait before the first time, which doubles: the service may be starting
// again, or a proxy between may end what lasts long.
const (
	followAgain = 5
	followWait  = 200 * time.Millisecond
)

// brokenError says that a stream broke off, which may be taken up again.
type brokenError struct{ err error }

func (e *brokenError) Error() string { return e.err.Error() }
func (e *brokenError) Unwrap() error { return e.err }

// FollowSurvey calls each with a survey's progress as it changes, until the
// survey is finished or each gives an error. A stream that breaks off is taken up
// again; the error after some tries in vain is that of the last. server is the
// address of the calls, such as http://127.0.0.1:7420/api/v1.
func FollowSurvey(ctx context.Context, doer HttpRequestDoer, server string, id int64, each func(Survey) error) error {
	wait, left, done := followWait, followAgain, 0
	for {
		err := followOnce(ctx, doer, server, id, func(v Survey) error {
			if v.Done > done {
				wait, left, done = followWait, followAgain, v.Done
			}
			return each(v)
		})
		var broken *brokenError
		if left--; left < 0 || !errors.As(err, &broken) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(wait):
			wait *= 2
		}
	}
}

// followOnce follows one stream to its end.
func followOnce(ctx context.Context, doer HttpRequestDoer, server string, id int64, each func(Survey) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet,
		fmt.Sprintf("%s/surveys/%d/events", strings.TrimSuffix(server, "/"), id), nil)
	if err != nil {
		return err
	}
	resp, err := doer.Do(req)
	if err != nil {
		return &brokenError{err}
	}
	defer func() { _ = resp.Body.Close() }()
	switch refused := fmt.Errorf("following survey %d: the service answered %s", id, resp.Status); {
	case resp.StatusCode >= http.StatusInternalServerError:
		return &brokenError{refused}
	case resp.StatusCode != http.StatusOK:
		return refused
	}
	lines := bufio.NewScanner(resp.Body)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data: ")
		if !ok {
			continue
		}
		var v Survey
		if err := json.Unmarshal([]byte(data), &v); err != nil {
			return fmt.Errorf("following survey %d: %w", id, err)
		}
		if err := each(v); err != nil {
			return err
		}
		if v.State == SurveyStateFinished {
			return nil
		}
	}
	if err := lines.Err(); err != nil {
		return &brokenError{err}
	}
	return &brokenError{fmt.Errorf("following survey %d: the stream ended before the survey did", id)}
}
