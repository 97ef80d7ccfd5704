package world

import (
	"cmp"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"

	"nimblepane/platform"
)

// Handler serves what the service asks of the world's sites, and the knobs.
//
//	GET, PUT /clock                                 the clock; PUT takes {"rate": 60}, or {"forward": NANOSECONDS}
//	PUT      /sites/{site}/operations/{key}         begin an operation; ?rate=BYTES a second that a delivery may send
//	PUT      /sites/{site}/operations/{key}/rate    what it may from now on
//	GET      /sites/{site}/operations/{key}         how it stands
//	GET      /sites/{site}/operations/{key}/output?from=BYTES
//	GET      /sites/{site}/build-machines
//	POST     /sites/{site}/build-machines/{machine}/exec
//	GET, PUT /sites/{site}/build-machines/{machine}/file?path=PATH
//	GET, PUT /sites/{site}/knobs
//
// 404 is an unknown site or key, 422 a refusal with its reason as plain text,
// 503 something that may pass.
func (w *World) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /clock", func(rw http.ResponseWriter, _ *http.Request) { reply(rw, w.Clock(), nil) })
	mux.HandleFunc("PUT /clock", func(rw http.ResponseWriter, r *http.Request) {
		var in struct {
			Rate    float64       `json:"rate"`
			Forward time.Duration `json:"forward"`
		}
		if read(rw, r, &in) {
			set := func() error { return w.SetRate(in.Rate) }
			if in.Forward != 0 {
				set = func() error { return w.Forward(in.Forward) }
			}
			err := set()
			if err != nil {
				err = &platform.Refusal{Why: err.Error()}
			}
			reply(rw, w.Clock(), err)
		}
	})
	mux.HandleFunc("PUT /sites/{site}/operations/{key}", func(rw http.ResponseWriter, r *http.Request) {
		var op platform.Operation
		rate, err := strconv.ParseInt(cmp.Or(r.URL.Query().Get("rate"), "0"), 10, 64)
		if err != nil || rate < 0 {
			http.Error(rw, "rate: write a number of bytes a second", http.StatusBadRequest)
			return
		}
		if read(rw, r, &op) {
			reply(rw, struct{}{}, w.startAt(r.PathValue("site"), r.PathValue("key"), op, rate))
		}
	})
	mux.HandleFunc("PUT /sites/{site}/operations/{key}/rate", func(rw http.ResponseWriter, r *http.Request) {
		var rate int64
		if read(rw, r, &rate) {
			reply(rw, struct{}{}, w.allow(r.PathValue("key"), rate))
		}
	})
	mux.HandleFunc("GET /sites/{site}/operations/{key}", func(rw http.ResponseWriter, r *http.Request) {
		p, ok := w.ask(r.PathValue("key"))
		if !ok {
			reply(rw, nil, platform.ErrUnknown)
			return
		}
		reply(rw, p, nil)
	})
	mux.HandleFunc("GET /sites/{site}/operations/{key}/output", func(rw http.ResponseWriter, r *http.Request) {
		from, err := strconv.ParseInt(r.URL.Query().Get("from"), 10, 64)
		if err != nil || from < 0 {
			http.Error(rw, "from: write a number of bytes", http.StatusBadRequest)
			return
		}
		text, err := w.output(r.PathValue("key"), from)
		reply(rw, text, err)
	})
	mux.HandleFunc("GET /sites/{site}/build-machines", func(rw http.ResponseWriter, r *http.Request) {
		reply(rw, w.buildMachines(r.PathValue("site")), nil)
	})
	mux.HandleFunc("POST /sites/{site}/build-machines/{machine}/exec", func(rw http.ResponseWriter, r *http.Request) {
		var c platform.Command
		if read(rw, r, &c) {
			o, err := w.exec(r.PathValue("site"), r.PathValue("machine"), c)
			reply(rw, o, err)
		}
	})
	mux.HandleFunc("GET /sites/{site}/build-machines/{machine}/file", func(rw http.ResponseWriter, r *http.Request) {
		content, err := w.getFile(r.PathValue("site"), r.PathValue("machine"), r.URL.Query().Get("path"))
		reply(rw, content, err)
	})
	mux.HandleFunc("PUT /sites/{site}/build-machines/{machine}/file", func(rw http.ResponseWriter, r *http.Request) {
		content, err := io.ReadAll(http.MaxBytesReader(rw, r.Body, mostOfFile+1))
		if err != nil {
			http.Error(rw, "the file is too large for a practice machine", http.StatusUnprocessableEntity)
			return
		}
		err = w.putFile(r.PathValue("site"), r.PathValue("machine"), r.URL.Query().Get("path"), content)
		reply(rw, struct{}{}, err)
	})
	mux.HandleFunc("GET /sites/{site}/knobs", func(rw http.ResponseWriter, r *http.Request) {
		k, err := w.Knobs(r.PathValue("site"))
		reply(rw, k, err)
	})
	mux.HandleFunc("PUT /sites/{site}/knobs", func(rw http.ResponseWriter, r *http.Request) {
		var k Knobs
		if read(rw, r, &k) {
			err := w.SetKnobs(r.PathValue("site"), k)
			if err != nil && !errors.Is(err, errNoSite) {
				err = &platform.Refusal{Why: err.Error()}
			}
			reply(rw, k, err)
		}
	})
	return mux
}

func read(rw http.ResponseWriter, r *http.Request, into any) bool {
	d := json.NewDecoder(http.MaxBytesReader(rw, r.Body, 1<<20))
	d.DisallowUnknownFields()
	if err := d.Decode(into); err != nil {
		http.Error(rw, err.Error(), http.StatusBadRequest)
		return false
	}
	return true
}

func reply(rw http.ResponseWriter, body any, err error) {
	var refusal *platform.Refusal
	switch {
	case errors.Is(err, platform.ErrUnknown), errors.Is(err, errNoSite):
		http.Error(rw, err.Error(), http.StatusNotFound)
	case errors.As(err, &refusal):
		http.Error(rw, refusal.Why, http.StatusUnprocessableEntity)
	case err != nil:
		http.Error(rw, err.Error(), http.StatusServiceUnavailable)
	default:
		rw.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(rw).Encode(body) // whoever asked has gone away
	}
}
