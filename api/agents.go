package api

import (
	"errors"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"nimblepane/agent"
	"nimblepane/engine"
)

// agents serves the protocol of package agent.
func (s *Server) agents() {
	answer := func(c *gin.Context, body any, err error) {
		switch {
		case errors.Is(err, engine.ErrUnknownAgent):
			problem(c, http.StatusUnauthorized, err.Error())
		case c.Request.Context().Err() != nil:
			c.Abort() // the agent went away, or the service stops
		case err != nil:
			s.log.Error("an agent could not be answered", "err", err)
			problem(c, http.StatusServiceUnavailable, "the service cannot take this in now; try again")
		default:
			c.JSON(http.StatusOK, body)
		}
	}
	s.gin.POST(agent.EnrolPath, func(c *gin.Context) {
		var in agent.EnrolRequest
		if err := c.ShouldBindJSON(&in); err != nil || in.Token == "" {
			problem(c, http.StatusBadRequest, `the body has to be {"token": "..."}`)
			return
		}
		reply, err := s.engine.Enrol(c.Request.Context(), in.Token)
		answer(c, reply, err)
	})
	s.gin.POST(agent.HeartbeatPath, func(c *gin.Context) {
		credential, found := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
		if !found {
			problem(c, http.StatusUnauthorized, "the heartbeat carries no credential: enrol first")
			return
		}
		var in agent.Heartbeat
		if err := c.ShouldBindJSON(&in); err != nil {
			problem(c, http.StatusBadRequest, "the heartbeat is malformed: "+err.Error())
			return
		}
		reply, err := s.engine.Heartbeat(c.Request.Context(), credential, in)
		answer(c, reply, err)
	})
}
