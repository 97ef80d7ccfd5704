// Package practice is the platform of practice sites: it speaks to the process
// nimblepane-practice, which plays the machines and the people.
package practice

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"sync"
	"time"

	"nimblepane/core/estate"
	"nimblepane/platform"
	"nimblepane/platform/practice/world"
)

// Site is one practice site.
type Site struct {
	address, name string
	http          *http.Client
	allowance     func(ctx context.Context, key string) (int64, error)

	mu      sync.Mutex
	allowed map[string]int64 // by operation
}

// Open is the platform's opener: a site's address is where its practice process listens.
func Open(site estate.Site, env platform.Environment) (platform.Platform, error) {
	s := New(site.Address, site.Name)
	s.allowance = env.Allowance
	return s, nil
}

// New returns the site of that name, played by the process at the address.
func New(address, name string) *Site {
	return &Site{
		address: address, name: name, allowed: map[string]int64{},
		http: &http.Client{Timeout: 10 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 64}},
	}
}

var (
	_ platform.Platform = (*Site)(nil)
	_ platform.Builder  = (*Site)(nil)
)

// Start begins the operation under the key.
func (s *Site) Start(ctx context.Context, key string, op platform.Operation) error {
	at := s.operation(key)
	if op.Kind == string(platform.DeliverCopy) && s.allowance != nil {
		rate, err := s.allowance(ctx, key)
		if err != nil {
			return err
		}
		at += "?rate=" + strconv.FormatInt(rate, 10)
	}
	return s.call(ctx, http.MethodPut, at, op, nil)
}

// Ask returns how the operation stands.
func (s *Site) Ask(ctx context.Context, key string) (p platform.Progress, err error) {
	if err = s.call(ctx, http.MethodGet, s.operation(key), nil, &p); err != nil || p.Transfer == nil ||
		s.allowance == nil {
		return p, err
	}
	return p, s.allow(ctx, key, p.State == platform.UnderWay)
}

// allow tells the site what a delivery may take, if that is news.
func (s *Site) allow(ctx context.Context, key string, underWay bool) error {
	if !underWay {
		s.mu.Lock()
		defer s.mu.Unlock()
		delete(s.allowed, key)
		return nil
	}
	rate, err := s.allowance(ctx, key)
	if err != nil {
		return err
	}
	s.mu.Lock()
	told, ok := s.allowed[key]
	s.mu.Unlock()
	if ok && told == rate {
		return nil
	}
	if err := s.call(ctx, http.MethodPut, s.operation(key)+"/rate", rate, nil); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.allowed[key] = rate
	return nil
}

// Output returns what the step of the operation has written.
func (s *Site) Output(ctx context.Context, key string, from int64) (text []byte, err error) {
	err = s.call(ctx, http.MethodGet, s.operation(key)+"/output?from="+strconv.FormatInt(from, 10), nil, &text)
	return text, err
}

// BuildMachines returns the site's build machines.
func (s *Site) BuildMachines(ctx context.Context) (list []platform.BuildMachine, err error) {
	err = s.call(ctx, http.MethodGet, "/sites/"+url.PathEscape(s.name)+"/build-machines", nil, &list)
	return list, err
}

func (s *Site) buildMachine(name, what string) string {
	return "/sites/" + url.PathEscape(s.name) + "/build-machines/" + url.PathEscape(name) + what
}

// Exec is platform.Builder's: what a program does is played by the scenario's scripts.
func (s *Site) Exec(ctx context.Context, name string, c platform.Command) (o platform.Outcome, err error) {
	err = s.call(ctx, http.MethodPost, s.buildMachine(name, "/exec"), c, &o)
	return o, err
}

// Put is platform.Builder's.
func (s *Site) Put(ctx context.Context, name, path string, content io.Reader) error {
	return s.send(ctx, http.MethodPut, s.buildMachine(name, "/file?path="+url.QueryEscape(path)), content, nil)
}

// Get is platform.Builder's.
func (s *Site) Get(ctx context.Context, name, path string, into io.Writer) error {
	var content []byte
	err := s.call(ctx, http.MethodGet, s.buildMachine(name, "/file?path="+url.QueryEscape(path)), nil, &content)
	if err != nil {
		return err
	}
	_, err = into.Write(content)
	return err
}

// Nodes returns none: what practice machines run on is not played.
func (s *Site) Nodes(context.Context) ([]platform.Node, error) { return nil, nil }

// CheckRoom returns nil: a practice site has room.
func (s *Site) CheckRoom(context.Context, []string, string) error { return nil }

// Machine returns platform.ErrUnknown: there is nothing behind a practice host.
func (s *Site) Machine(context.Context, string) (platform.Machine, error) {
	return platform.Machine{}, platform.ErrUnknown
}

// PowerOn does nothing: practice machines are never off.
func (s *Site) PowerOn(context.Context, string) error { return nil }

// Close lets go of the connections.
func (s *Site) Close() { s.http.CloseIdleConnections() }

// Clock returns the clock of the practice process.
func (s *Site) Clock(ctx context.Context) (c world.Clock, err error) {
	err = s.call(ctx, http.MethodGet, "/clock", nil, &c)
	return c, err
}

func (s *Site) operation(key string) string {
	return "/sites/" + url.PathEscape(s.name) + "/operations/" + url.PathEscape(key)
}

func (s *Site) call(ctx context.Context, method, path string, body, into any) error {
	var r io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return err
		}
		r = bytes.NewReader(b)
	}
	return s.send(ctx, method, path, r, into)
}

func (s *Site) send(ctx context.Context, method, path string, body io.Reader, into any) error {
	req, err := http.NewRequestWithContext(ctx, method, s.address+path, body)
	if err != nil {
		return err
	}
	resp, err := s.http.Do(req)
	if err != nil {
		return fmt.Errorf("practice site %s: %w", s.name, err)
	}
	defer resp.Body.Close()
	switch resp.StatusCode {
	case http.StatusOK:
		if into != nil {
			return json.NewDecoder(resp.Body).Decode(into)
		}
		_, err := io.Copy(io.Discard, resp.Body)
		return err
	case http.StatusNotFound:
		return platform.ErrUnknown
	}
	text, _ := io.ReadAll(io.LimitReader(resp.Body, 1000))
	switch resp.StatusCode {
	case http.StatusUnprocessableEntity:
		return &platform.Refusal{Why: string(bytes.TrimSpace(text))}
	case http.StatusServiceUnavailable:
		return &platform.Busy{Why: string(bytes.TrimSpace(text))}
	}
	return fmt.Errorf("practice site %s: %s: %s", s.name, resp.Status, text)
}
