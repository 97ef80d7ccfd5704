package api

import (
	"errors"
	"io"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"nimblepane/agent"
	"nimblepane/core/problem"
	"nimblepane/core/strict"
	"nimblepane/engine/fleet"
	"nimblepane/store"
)

// agents serves the protocol of package agent.
func (s *Server) agents() {
	s.gin.POST(agent.EnrolPath, func(c *gin.Context) {
		var in agent.EnrolRequest
		if !readAgent(c, &in) {
			return
		}
		if in.Token == "" || len(in.Token) > 200 {
			abort(c, problem.InvalidRequest, "token: give the one-time token of the machine's seed")
			return
		}
		reply, err := s.Fleet.Enrol(c.Request.Context(), in.Token)
		if errors.Is(err, fleet.ErrUnknownAgent) { // it may be that of a machine that proves a version
			if proof, perr := s.Proofs.Enrol(c.Request.Context(), in.Token); !errors.Is(perr, store.ErrNotFound) {
				reply, err = proof, perr
			}
		}
		s.answerAgent(c, reply, err)
	})
	s.gin.POST(agent.HeartbeatPath, func(c *gin.Context) {
		credential, found := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
		if !found || len(credential) > 200 {
			abort(c, problem.NotSignedIn, "the heartbeat has no credential: enrol first")
			return
		}
		var in agent.Heartbeat
		if !readAgent(c, &in) {
			return
		}
		reply, err := s.Fleet.Heartbeat(c.Request.Context(), credential, in)
		if errors.Is(err, fleet.ErrUnknownAgent) {
			proof, perr := s.Proofs.Heartbeat(c.Request.Context(), credential, in)
			if !errors.Is(perr, store.ErrNotFound) {
				reply, err = proof, perr
			}
		}
		s.answerAgent(c, reply, err)
	})
}

// readAgent reads what an agent sends, or answers what is wrong with it.
func readAgent(c *gin.Context, into any) bool {
	text, err := io.ReadAll(http.MaxBytesReader(c.Writer, c.Request.Body, agent.MaxBody))
	var long *http.MaxBytesError
	switch {
	case errors.As(err, &long):
		abort(c, problem.TooLarge, "the request is too large: the most is %d bytes", agent.MaxBody)
		return false
	case err != nil:
		c.Abort() // the agent went away
		return false
	}
	if err := strict.Unmarshal(text, into); err != nil {
		abort(c, problem.MalformedRequest, "the body is malformed: %s", err)
		return false
	}
	return true
}

// unanswered is what the log says when agents are turned away.
const unanswered = "an agent could not be answered"

func (s *Server) answerAgent(c *gin.Context, body any, err error) {
	var wrong *problem.Problem
	switch {
	case err == nil:
		s.away.Worked(away)
		s.away.Worked(unanswered)
		c.JSON(http.StatusOK, body)
	case errors.Is(err, fleet.ErrUnknownAgent):
		abort(c, problem.NotSignedIn, "%s", err)
	case errors.As(err, &wrong):
		abort(c, problem.InvalidRequest, "%s", wrong)
	case c.Request.Context().Err() != nil:
		c.Abort() // the agent went away, or the service stops
	case store.IsAway(err):
		s.noDatabase(c, err)
	default:
		s.away.Failed(unanswered, err)
		abort(c, problem.Unavailable, "the service cannot process the request now; try again")
	}
}
