//go:build linux

package depot

import (
	"context"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"time"
)

// Serve serves a depot to the service and to other depots until the context
// ends. What is under way then breaks off, and goes on when the depot is back.
func Serve(ctx context.Context, l net.Listener, d Depot, c Certificates, names []string, log *slog.Logger) error {
	conf, err := c.Server(names)
	if err != nil {
		return errors.Join(err, l.Close())
	}
	handler := Handler(d, func(address string) (Depot, error) {
		conf, err := c.Client()
		if err != nil {
			return nil, refuse("this depot cannot ask others: %s", err)
		}
		return Dial(address, conf), nil
	})
	s := &http.Server{
		Handler: handler, TLSConfig: conf, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn),
	}
	stop := context.AfterFunc(ctx, func() { s.Close() })
	defer stop()
	log.Info("the depot is open", "address", l.Addr().String())
	if err := s.ServeTLS(l, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}
