package api

import (
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
)

var (
	requests = promauto.NewCounterVec(prometheus.CounterOpts{
		Name: "nimblepane_http_requests_total",
		Help: "HTTP requests that were answered, by method, route and status.",
	}, []string{"method", "route", "code"})
	requestTime = promauto.NewHistogramVec(prometheus.HistogramOpts{
		Name: "nimblepane_http_request_duration_seconds",
		Help: "Time that requests took, but for event streams, which stay open.", Buckets: prometheus.DefBuckets,
	}, []string{"method", "route"})
)

// methods are the known HTTP methods. All others are counted as "other", to limit the number of series.
var methods = []string{"GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"}

// counted counts a request and its time.
func counted(c *gin.Context) {
	began := time.Now()
	c.Next()
	method := "other"
	for _, m := range methods {
		if c.Request.Method == m {
			method = m
		}
	}
	route := c.FullPath()
	if route == "" {
		route = "console"
		if strings.HasPrefix(c.Request.URL.Path, "/"+assets) {
			route = "assets"
		}
	}
	requests.WithLabelValues(method, route, strconv.Itoa(c.Writer.Status())).Inc()
	if route != eventsPath {
		requestTime.WithLabelValues(method, route).Observe(time.Since(began).Seconds())
	}
}
