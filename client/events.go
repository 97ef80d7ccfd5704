package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"time"
)

// Event tells watchers what to look at again.
type Event struct {
	Seq     int64           `json:"seq"`
	At      time.Time       `json:"at"`
	Kind    string          `json:"kind"`
	Subject string          `json:"subject"`
	Data    json.RawMessage `json:"data,omitempty"`
}

// Watch calls fn for every event until the context ends or fn returns an
// error. A lost connection is taken up again where it broke off.
func (c *Client) Watch(ctx context.Context, fn func(Event) error) error {
	last := int64(-1)
	for {
		err := c.watch(ctx, &last, fn)
		var stop stopWatching
		if errors.As(err, &stop) {
			return stop.err
		}
		var refused *Error
		if errors.As(err, &refused) && refused.Status < 500 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
	}
}

type stopWatching struct{ err error }

func (s stopWatching) Error() string { return s.err.Error() }

func (c *Client) watch(ctx context.Context, last *int64, fn func(Event) error) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.url+"/api/v1/events", nil)
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if *last >= 0 {
		req.Header.Set("Last-Event-ID", strconv.FormatInt(*last, 10))
	}
	resp, err := c.http.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return &Error{Status: resp.StatusCode, Title: resp.Status}
	}
	lines := bufio.NewScanner(resp.Body)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		data, ok := strings.CutPrefix(lines.Text(), "data:")
		if !ok {
			continue
		}
		var e Event
		if err := json.Unmarshal([]byte(data), &e); err != nil {
			return err
		}
		*last = e.Seq
		if err := fn(e); err != nil {
			return stopWatching{err}
		}
	}
	return lines.Err()
}
