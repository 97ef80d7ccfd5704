package depot

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"nimblepane/core/blocks"
	"nimblepane/platform"
)

// Remote is a depot that is asked over HTTPS.
type Remote struct {
	address string
	http    *http.Client
}

// silence is how long nothing may come of a depot that is asked before the line is given up.
const silence = 30 * time.Second

// Dial returns the depot at an https address; both show each other certificates. Nothing is asked of it yet.
func Dial(address string, conf *tls.Config) *Remote {
	return &Remote{strings.TrimSuffix(address, "/"), &http.Client{Transport: &http.Transport{
		TLSClientConfig: conf, TLSHandshakeTimeout: 10 * time.Second, DisableCompression: true,
		DialContext:     (&net.Dialer{Timeout: 10 * time.Second, KeepAlive: 15 * time.Second}).DialContext,
		IdleConnTimeout: time.Minute,
	}}}
}

// Close lets go of its connections.
func (d *Remote) Close() { d.http.CloseIdleConnections() }

// refusalTrailer is the header behind blocks that ended early, with the reason.
const refusalTrailer = "Refused"

// Map is Depot's.
func (d *Remote) Map(ctx context.Context, disk, digest string, report func(int)) (m *blocks.Map, err error) {
	at := d.disk(disk) + "/map?digest="
	if err := d.inLines(ctx, at+url.QueryEscape(digest), nil, &digest, report); err != nil {
		return nil, err
	}
	at += url.QueryEscape(digest)
	err = d.call(ctx, http.MethodGet, at, nil, func(r *http.Response, body io.Reader) error {
		m, err = blocks.Read(body)
		return err
	})
	if err == nil && m.Digest() != digest {
		err = fmt.Errorf("depot %s answers with the map of %s", d.address, m.Digest())
	}
	return m, err
}

// Send is Depot's.
func (d *Remote) Send(ctx context.Context, disk, digest string, runs []blocks.Run, w io.Writer) error {
	body, err := json.Marshal(order{Runs: runs})
	if err != nil {
		return err
	}
	at := d.disk(disk) + "/blocks?digest=" + url.QueryEscape(digest)
	return d.call(ctx, http.MethodPost, at, bytes.NewReader(body), func(r *http.Response, body io.Reader) error {
		if _, err := io.Copy(w, body); err != nil {
			return err
		}
		if why := r.Trailer.Get(refusalTrailer); why != "" {
			return refuse("%s", why)
		}
		return nil
	})
}

// Begin is Depot's.
func (d *Remote) Begin(ctx context.Context, c Coming, m *blocks.Map, report func(int)) (b Begun, err error) {
	in, out := io.Pipe()
	go func() {
		out.CloseWithError(m.Write(out)) // nil: the end
	}()
	defer in.Close()
	err = d.inLines(ctx, d.copyAt(c.Copy)+"?"+url.Values{"beside": c.Beside}.Encode(), in, &b, report)
	if err == nil && !m.Within(b.Lacking) {
		err = fmt.Errorf("depot %s lacks blocks that the disk does not have", d.address)
	}
	return b, err
}

// Lacks is Depot's.
func (d *Remote) Lacks(ctx context.Context, copy string, runs []blocks.Run) ([]blocks.Run, error) {
	body, err := json.Marshal(order{Runs: runs})
	if err != nil {
		return nil, err
	}
	var out order
	err = d.call(ctx, http.MethodPost, d.copyAt(copy)+"/lacks", bytes.NewReader(body),
		func(_ *http.Response, body io.Reader) error {
			return json.NewDecoder(io.LimitReader(body, mostOfAnswer)).Decode(&out)
		})
	return out.Runs, err
}

// Put is Depot's.
func (d *Remote) Put(ctx context.Context, copy string, runs []blocks.Run, frames io.Reader) error {
	head, err := json.Marshal(order{Runs: runs})
	if err != nil {
		return err
	}
	return d.call(ctx, http.MethodPut, d.copyAt(copy)+"/blocks", io.MultiReader(bytes.NewReader(append(head, '\n')),
		frames), nil)
}

// canFetch says that the depot can ask another one itself.
func (d *Remote) canFetch(from Depot) bool {
	_, ok := from.(*Remote)
	return ok
}

func (d *Remote) fetch(ctx context.Context, copy string, runs []blocks.Run, from Depot, disk, digest string) error {
	body, err := json.Marshal(order{Runs: runs, From: from.(*Remote).address, Disk: disk, Digest: digest})
	if err != nil {
		return err
	}
	return d.inLines(ctx, d.copyAt(copy)+"/fetch", bytes.NewReader(body), nil, func(int) {})
}

// Finish is Depot's.
func (d *Remote) Finish(ctx context.Context, copy string, report func(int)) error {
	return d.inLines(ctx, d.copyAt(copy)+"/finish", nil, nil, report)
}

// Digest is Depot's.
func (d *Remote) Digest(ctx context.Context, disk string, rate int64, report func(int)) (digest string, err error) {
	err = d.inLines(ctx, d.disk(disk)+"/digest?rate="+strconv.FormatInt(rate, 10), nil, &digest, report)
	return digest, err
}

// Remove is Depot's.
func (d *Remote) Remove(ctx context.Context, name string) error {
	return d.call(ctx, http.MethodDelete, d.disk(name), nil, nil)
}

func (d *Remote) disk(name string) string   { return d.address + "/disks/" + url.PathEscape(name) }
func (d *Remote) copyAt(name string) string { return d.address + "/copies/" + url.PathEscape(name) }

// mostOfAnswer is how long an answer that is no map and no blocks may be, in bytes.
const mostOfAnswer = 64 << 20

// inLines asks for something long, and follows how far it is.
func (d *Remote) inLines(ctx context.Context, at string, body io.Reader, into any, report func(int)) error {
	return d.call(ctx, http.MethodPost, at, body, func(_ *http.Response, body io.Reader) error {
		lines := json.NewDecoder(io.LimitReader(body, mostOfAnswer))
		for {
			var l line
			err := lines.Decode(&l)
			switch {
			case err != nil:
				return fmt.Errorf("the answer broke off: %w", err)
			case l.Changed != nil:
				return l.Changed
			case l.Refused != "":
				return refuse("%s", l.Refused)
			case l.Failed != "":
				return errors.New(l.Failed)
			case l.Done == nil:
				report(l.Percent)
				continue
			case into == nil:
				return nil
			}
			return json.Unmarshal(l.Done, into)
		}
	})
}

// call asks something of the depot, and gives up when nothing moves any more, in either direction.
func (d *Remote) call(ctx context.Context, method, at string, body io.Reader,
	answer func(*http.Response, io.Reader) error,
) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	watch := time.AfterFunc(silence, func() { cancel(errors.New("nothing came for " + silence.String())) })
	defer watch.Stop()
	moved := func() { watch.Reset(silence) }
	if body != nil {
		body = &moving{body, moved}
	}
	req, err := http.NewRequestWithContext(ctx, method, at, body)
	if err != nil {
		return err
	}
	r, err := d.http.Do(req)
	if err != nil {
		if cause := context.Cause(ctx); cause != nil {
			err = cause
		}
		return fmt.Errorf("depot %s: %w", d.address, err)
	}
	defer r.Body.Close()
	in := &moving{r.Body, moved}
	switch r.StatusCode {
	case http.StatusOK:
		if answer == nil {
			_, err = io.Copy(io.Discard, in)
		} else {
			err = answer(r, in)
		}
		var changed *Changed
		if err != nil && !isRefusal(err) && !errors.As(err, &changed) {
			err = fmt.Errorf("depot %s: %w", d.address, err)
		}
		return err
	case http.StatusConflict:
		var changed Changed
		if err := json.NewDecoder(io.LimitReader(in, mostOfAnswer)).Decode(&changed); err != nil {
			return fmt.Errorf("depot %s: %w", d.address, err)
		}
		return &changed
	}
	text, _ := io.ReadAll(io.LimitReader(in, 4000))
	why := string(bytes.TrimSpace(text))
	if r.StatusCode == http.StatusUnprocessableEntity {
		return &platform.Refusal{Why: why}
	}
	return fmt.Errorf("depot %s: %s: %s", d.address, r.Status, why)
}

// moving tells when something moves.
type moving struct {
	io.Reader
	moved func()
}

func (m *moving) Read(p []byte) (int, error) {
	n, err := m.Reader.Read(p)
	if n > 0 {
		m.moved()
	}
	return n, err
}
