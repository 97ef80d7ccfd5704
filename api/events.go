package api

import (
	"context"
	"log/slog"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/gin-contrib/sse"
	"github.com/gin-gonic/gin"

	"nimblepane/client"
	"nimblepane/store"
)

// hub wakes the event streams when there may be new events.
type hub struct {
	mu   sync.Mutex
	wake chan struct{} // closed and replaced at every waking
}

func newHub() *hub { return &hub{wake: make(chan struct{})} }

func (h *hub) wakeAll() {
	h.mu.Lock()
	defer h.mu.Unlock()
	close(h.wake)
	h.wake = make(chan struct{})
}

func (h *hub) next() <-chan struct{} {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.wake
}

// run listens to the database until the context ends.
func (h *hub) run(ctx context.Context, st *store.Store, log *slog.Logger) {
	for ctx.Err() == nil {
		if err := st.Listen(ctx, h.wakeAll); err != nil && ctx.Err() == nil {
			log.Warn("lost the event listener, listening again", "err", err)
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
		}
	}
}

const (
	eventsAtOnce  = 500
	eventsAtRest  = 15 * time.Second // a comment is sent, so that proxies keep the connection
	eventsGathers = 100 * time.Millisecond
)

// events serves the event stream: server-sent events with the event's number
// as their id. A client that names the last id that it saw is sent what came
// after; another is sent what comes from now on.
func (s *Server) events() {
	s.gin.GET("/api/v1/events", s.authenticate, func(c *gin.Context) {
		ctx := c.Request.Context()
		if whoever(ctx).ID == 0 {
			problem(c, http.StatusUnauthorized, "sign in first")
			return
		}
		last, err := s.store.LastEvent(ctx)
		if err != nil {
			problem(c, http.StatusServiceUnavailable, "the database does not answer")
			return
		}
		if id := c.GetHeader("Last-Event-ID"); id != "" {
			seen, err := strconv.ParseInt(id, 10, 64)
			if err != nil {
				problem(c, http.StatusBadRequest, "Last-Event-ID is not the id of an event")
				return
			}
			last = min(last, seen)
		}
		c.Header("Content-Type", "text/event-stream")
		c.Header("Cache-Control", "no-cache")
		c.Header("X-Accel-Buffering", "no")
		_, _ = c.Writer.WriteString("retry: 1000\n\n")
		c.Writer.Flush()
		for {
			wake := s.hub.next()
			list, err := s.store.EventsAfter(ctx, last, eventsAtOnce)
			if err != nil {
				return
			}
			for _, e := range list {
				last = e.Seq
				if sse.Encode(c.Writer, sse.Event{Id: itoa(e.Seq), Event: "change", Data: client.Event(e)}) != nil {
					return
				}
			}
			c.Writer.Flush()
			if len(list) == eventsAtOnce {
				continue
			}
			select {
			case <-ctx.Done():
				return
			case <-wake:
				// Events come in crowds; a moment later there are more to send in one go.
				select {
				case <-ctx.Done():
					return
				case <-time.After(eventsGathers):
				}
			case <-time.After(eventsAtRest):
				if _, err := c.Writer.WriteString(": here\n\n"); err != nil {
					return
				}
			}
		}
	})
}
