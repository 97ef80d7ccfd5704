//go:build linux

package depot

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strconv"
	"sync/atomic"
	"time"

	"nimblepane/core/blocks"
	"nimblepane/platform"
)

// Handler serves a depot to the service, and to other depots of its site, which peer returns by their addresses.
//
//	POST   /disks/{disk}/map?digest=D     read what it consists of, if no map with the digest, which it answers with,
//	                                      stands beside it: answers in lines
//	GET    /disks/{disk}/map?digest=D     the block map
//	POST   /disks/{disk}/digest?rate=N    read it from the storage, at most so many bytes a second: answers in lines,
//	                                      the last with the digest of its content
//	POST   /disks/{disk}/blocks?digest=D  {"runs"}: the blocks, as frames
//	POST   /copies/{copy}?beside=NAME...  a block map: begin a copy of it; answers in lines
//	POST   /copies/{copy}/lacks           {"runs"}: which of them it lacks
//	PUT    /copies/{copy}/blocks          {"runs"} and frames
//	POST   /copies/{copy}/fetch           {"runs", "from", "disk", "digest"}: from another depot; answers in lines
//	POST   /copies/{copy}/finish          answers in lines
//	DELETE /disks/{disk}
//
// What takes long answers in lines of JSON, one every few seconds at least,
// the last with what it came to or why not. 422 is a refusal with its reason
// as plain text, 409 blocks that are not what they should be, 503 what may pass.
func Handler(d Depot, peer func(address string) (Depot, error)) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("POST /disks/{disk}/map", func(rw http.ResponseWriter, r *http.Request) {
		inLines(rw, r, func(ctx context.Context, report func(int)) (any, error) {
			m, err := d.Map(ctx, r.PathValue("disk"), r.FormValue("digest"), report)
			if err != nil {
				return nil, err
			}
			return m.Digest(), nil
		})
	})
	mux.HandleFunc("GET /disks/{disk}/map", func(rw http.ResponseWriter, r *http.Request) {
		m, err := d.Map(r.Context(), r.PathValue("disk"), r.FormValue("digest"), func(int) {})
		if err != nil {
			fail(rw, err)
			return
		}
		_ = m.Write(rw) // half a map is none to who reads it
	})
	mux.HandleFunc("POST /disks/{disk}/digest", func(rw http.ResponseWriter, r *http.Request) {
		rate, err := strconv.ParseInt(r.FormValue("rate"), 10, 64)
		if err != nil || rate < 1 {
			fail(rw, refuse("rate %q is no number of bytes a second", r.FormValue("rate")))
			return
		}
		inLines(rw, r, func(ctx context.Context, report func(int)) (any, error) {
			return d.Digest(ctx, r.PathValue("disk"), rate, report)
		})
	})
	mux.HandleFunc("POST /disks/{disk}/blocks", func(rw http.ResponseWriter, r *http.Request) {
		var in order
		if _, err := in.read(r); err != nil {
			fail(rw, err)
			return
		}
		c := &counted{w: rw}
		err := d.Send(r.Context(), r.PathValue("disk"), r.URL.Query().Get("digest"), in.Runs, c)
		if err == nil {
			return
		}
		if c.n == 0 {
			fail(rw, err)
			return
		}
		if isRefusal(err) {
			rw.Header().Set(http.TrailerPrefix+refusalTrailer, err.Error())
			return // without the end of the frames
		}
		panic(http.ErrAbortHandler) // the line breaks, for half an answer must not end well
	})
	mux.HandleFunc("POST /copies/{copy}", func(rw http.ResponseWriter, r *http.Request) {
		m, err := blocks.Read(r.Body)
		if err != nil {
			fail(rw, err)
			return
		}
		inLines(rw, r, func(ctx context.Context, report func(int)) (any, error) {
			return d.Begin(ctx, Coming{r.PathValue("copy"), r.URL.Query()["beside"]}, m, report)
		})
	})
	mux.HandleFunc("POST /copies/{copy}/lacks", func(rw http.ResponseWriter, r *http.Request) {
		var in order
		_, err := in.read(r)
		if err == nil {
			in.Runs, err = d.Lacks(r.Context(), r.PathValue("copy"), in.Runs)
		}
		if err != nil {
			fail(rw, err)
			return
		}
		_ = json.NewEncoder(rw).Encode(in) // whoever asked has gone away
	})
	mux.HandleFunc("PUT /copies/{copy}/blocks", func(rw http.ResponseWriter, r *http.Request) {
		var in order
		frames, err := in.read(r)
		if err == nil {
			err = d.Put(r.Context(), r.PathValue("copy"), in.Runs, frames)
		}
		if err != nil {
			fail(rw, err)
		}
	})
	mux.HandleFunc("POST /copies/{copy}/fetch", func(rw http.ResponseWriter, r *http.Request) {
		var in order
		if _, err := in.read(r); err != nil {
			fail(rw, err)
			return
		}
		from, err := peer(in.From)
		if err != nil {
			fail(rw, err)
			return
		}
		to := Delivery{
			From: from, Disk: in.Disk, Digest: in.Digest, To: d, Coming: Coming{Copy: r.PathValue("copy")},
			Report: func(platform.Transfer) {},
		}
		inLines(rw, r, func(ctx context.Context, _ func(int)) (any, error) {
			return nil, (&run{Delivery: to}).bring(ctx, in.Runs)
		})
	})
	mux.HandleFunc("POST /copies/{copy}/finish", func(rw http.ResponseWriter, r *http.Request) {
		inLines(rw, r, func(ctx context.Context, report func(int)) (any, error) {
			return nil, d.Finish(ctx, r.PathValue("copy"), report)
		})
	})
	mux.HandleFunc("DELETE /disks/{disk}", func(rw http.ResponseWriter, r *http.Request) {
		if err := d.Remove(r.Context(), r.PathValue("disk")); err != nil {
			fail(rw, err)
		}
	})
	return mux
}

// order is what a depot is asked with: blocks, and where they are if it is to fetch them.
type order struct {
	Runs   []blocks.Run `json:"runs"`
	From   string       `json:"from,omitempty"`
	Disk   string       `json:"disk,omitempty"`
	Digest string       `json:"digest,omitempty"`
}

// mostOfOrder is how long the line of an order may be, in bytes: one run of each second block of a window is shorter.
const mostOfOrder = 4 << 20

// read reads an order, which is a line, and returns what follows it.
func (o *order) read(r *http.Request) (io.Reader, error) {
	in := bufio.NewReaderSize(r.Body, 64<<10)
	var line []byte
	for {
		part, err := in.ReadSlice('\n')
		if line = append(line, part...); err == nil || errors.Is(err, io.EOF) {
			break
		}
		if !errors.Is(err, bufio.ErrBufferFull) {
			return nil, err
		}
		if len(line) > mostOfOrder {
			return nil, refuse("the order is too long")
		}
	}
	if err := json.Unmarshal(line, o); err != nil {
		return nil, refuse("the order cannot be read: %s", err)
	}
	return in, nil
}

type counted struct {
	w io.Writer
	n int64
}

func (c *counted) Write(p []byte) (int, error) {
	n, err := c.w.Write(p)
	c.n += int64(n)
	return n, err
}

func fail(rw http.ResponseWriter, err error) {
	var changed *Changed
	switch {
	case errors.As(err, &changed):
		rw.WriteHeader(http.StatusConflict)
		_ = json.NewEncoder(rw).Encode(changed) // whoever asked has gone away
	case isRefusal(err):
		http.Error(rw, err.Error(), http.StatusUnprocessableEntity)
	default:
		http.Error(rw, err.Error(), http.StatusServiceUnavailable)
	}
}

// line is one of an answer in lines.
type line struct {
	Percent int             `json:"percent"`
	Done    json.RawMessage `json:"done,omitempty"`
	Refused string          `json:"refused,omitempty"`
	Changed *Changed        `json:"changed,omitempty"`
	Failed  string          `json:"failed,omitempty"`
}

// alive is how often who does something long says so.
const alive = 3 * time.Second

// inLines does something and says how far it is.
func inLines(rw http.ResponseWriter, r *http.Request, do func(context.Context, func(int)) (any, error)) {
	ctx, cancel := context.WithCancel(r.Context())
	defer cancel()
	var percent atomic.Int64
	type end struct {
		out any
		err error
	}
	ended := make(chan end, 1)
	go func() {
		out, err := do(ctx, func(p int) { percent.Store(int64(p)) })
		ended <- end{out, err}
	}()
	write := func(l line) {
		if json.NewEncoder(rw).Encode(l) != nil {
			cancel()
		}
		_ = http.NewResponseController(rw).Flush() // as above
	}
	tick := time.NewTicker(alive)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			write(line{Percent: int(percent.Load())})
		case e := <-ended:
			last := line{Percent: 100}
			if e.err == nil {
				last.Done, e.err = json.Marshal(e.out)
			}
			switch {
			case errors.As(e.err, &last.Changed):
			case isRefusal(e.err):
				last.Refused = e.err.Error()
			case e.err != nil:
				last.Failed = e.err.Error()
			}
			write(last)
			return
		}
	}
}
