package api

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-contrib/sse"
	"github.com/gin-gonic/gin"

	"nimblepane/client"
	"nimblepane/core/problem"
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
	eventsPath    = "/api/v1/events"
	eventsAtOnce  = 500
	eventsAtRest  = 15 * time.Second // a comment is sent, so that proxies keep the connection
	eventsGathers = 100 * time.Millisecond
	eventsMissed  = 5_000 // whoever missed more has to look at everything anyway
)

// streams counts the event streams that are open, of one account and in all:
// each holds a connection.
type streams struct {
	mu     sync.Mutex
	all    int
	byName map[string]int
}

const (
	streamsEach = 12
	streamsAll  = 2_000
)

// open counts one more, if there is room; close takes it back.
func (s *streams) open(name string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= streamsAll || s.byName[name] >= streamsEach {
		return false
	}
	s.all++
	s.byName[name]++
	return true
}

func (s *streams) close(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.byName[name]--; s.byName[name] == 0 {
		delete(s.byName, name)
	}
}

// events serves the event stream: server-sent events with the event's number
// as their id. A client that names the last id that it saw is sent what came
// after; another is sent what comes from now on. The stream ends with the
// token or session that let it in.
func (s *Server) events() {
	s.gin.HEAD(eventsPath, s.authenticate, func(c *gin.Context) {
		if whoever(c.Request.Context()).ID == 0 {
			abort(c, problem.NotSignedIn, "sign in first")
			return
		}
		c.Header("Content-Type", "text/event-stream")
		c.Status(http.StatusOK)
	})
	s.gin.GET(eventsPath, s.authenticate, func(c *gin.Context) {
		ctx := c.Request.Context()
		by := rightOf(ctx)
		if by.account.ID == 0 {
			abort(c, problem.NotSignedIn, "sign in first")
			return
		}
		if !s.streams.open(by.account.Name) {
			c.Header("Retry-After", "10")
			abort(c, problem.TooManyRequests, "you have %d open event streams, or the service has too many: close "+
				"one first",
				streamsEach)
			return
		}
		defer s.streams.close(by.account.Name)
		ctx, end := context.WithDeadline(ctx, by.until())
		defer end()
		last, err := s.store.LastEvent(ctx)
		if err != nil {
			s.noDatabase(c, err)
			return
		}
		if id := c.GetHeader("Last-Event-ID"); id != "" {
			seen, err := strconv.ParseInt(id, 10, 64)
			if err != nil || seen < 0 {
				abort(c, problem.MalformedRequest, "Last-Event-ID is not the ID of an event")
				return
			}
			last = max(min(last, seen), last-eventsMissed)
		}
		c.Header("Content-Type", "text/event-stream")
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
				if concernsRights(e.Kind) && !s.stillGood(c, by) {
					return
				}
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
				if !s.stillGood(c, by) {
					return
				}
				if _, err := c.Writer.WriteString(": here\n\n"); err != nil {
					return
				}
			}
		}
	})
}

func concernsRights(kind string) bool {
	return strings.HasPrefix(kind, "account.") || strings.HasPrefix(kind, "token.")
}

// stillGood says whether what let a stream in would let it in now. While the
// database is away nothing is sent, and nothing is known.
func (s *Server) stillGood(c *gin.Context, by right) bool {
	bearer, _ := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	cookie, _ := c.Cookie(sessionCookie)
	now, err := s.find(c.Request.Context(), bearer, cookie)
	return err == nil && now.account.ID == by.account.ID || err != nil && !errors.Is(err, store.ErrNotFound)
}
