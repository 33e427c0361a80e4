package client

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
)

// FollowSurvey calls each with a survey's progress as it changes, until the
// survey is finished, each gives an error, or the stream ends. server is the
// address of the calls, such as http://127.0.0.1:7420/api/v1.
func FollowSurvey(ctx context.Context, doer HttpRequestDoer, server string, id int64, each func(Survey) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet,
		fmt.Sprintf("%s/surveys/%d/events", strings.TrimSuffix(server, "/"), id), nil)
	if err != nil {
		return err
	}
	resp, err := doer.Do(req)
	if err != nil {
		return err
	}
	defer func() { _ = resp.Body.Close() }()
	if resp.StatusCode != http.StatusOK {
		return fmt.Errorf("following survey %d: the service answered %s", id, resp.Status)
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
		return err
	}
	return fmt.Errorf("following survey %d: the stream ended before the survey did", id)
}
