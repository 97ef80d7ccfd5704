//go:build linux

package open_test

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/agent/open"
	"nimblepane/core/proof"
	"nimblepane/core/sheet"
)

// fareDesk is a program that does what it is told.
func fareDesk(t *testing.T, does string) sheet.Application {
	path := filepath.Join(t.TempDir(), "fare-desk")
	require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+does+"\n"), 0o755))
	return sheet.Application{Name: "Fare Desk", Command: path, Within: sheet.Span(20 * time.Second)}
}

func TestAnApplicationIsSeenToComeUp(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/health" {
			w.WriteHeader(http.StatusNotFound)
		}
	}))
	t.Cleanup(server.Close)
	port, err := strconv.Atoi(server.URL[strings.LastIndexByte(server.URL, ':')+1:])
	require.NoError(t, err)
	d := open.Desk{Home: t.TempDir()}
	soon := sheet.Span(time.Second)
	for name, c := range map[string]struct {
		does  string
		opens sheet.Opens
		why   string
	}{
		"ends":       {"echo tides; exit 3", sheet.Opens{ExitCode: new(3)}, ""},
		"ends badly": {"exit 4", sheet.Opens{ExitCode: new(3)}, "it ended with exit code 4, and not 3"},
		"process":    {"sleep 60", sheet.Opens{Process: "fare-desk"}, ""},
		"no process": {"exec sleep 60", sheet.Opens{Process: "berths"}, "it was not so that a process berths runs"},
		"port":       {"sleep 60", sheet.Opens{Port: port}, ""},
		"answer":     {"sleep 60 & exit 0", sheet.Opens{HTTP: server.URL + "/health"}, ""},
		"no answer":  {"sleep 60", sheet.Opens{HTTP: server.URL + "/none"}, "/none answers"},
		"no display": {"sleep 60", sheet.Opens{Window: "Fares"}, "there is no X server"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := fareDesk(t, c.does)
			if a.Opens = c.opens; c.why != "" {
				a.Within = soon
			}
			r := d.Application(t.Context(), a)
			require.Equal(t, proof.OfApplication, r.Kind)
			require.Positive(t, r.Seconds)
			if c.why == "" {
				require.Empty(t, r.Why)
			} else {
				require.Contains(t, r.Why, c.why)
			}
			if name == "ends" {
				require.Equal(t, "tides\n", r.Output)
			}
		})
	}
	r := d.Application(t.Context(), sheet.Application{Command: "/none/fare-desk", Within: soon})
	require.Contains(t, r.Why, "it could not be started")
}

func TestAnApplicationIsEndedWithAllThatItStarted(t *testing.T) {
	t.Parallel()
	file := filepath.Join(t.TempDir(), "pid")
	a := fareDesk(t, "sleep 600 & echo $! > "+file+".new; mv "+file+".new "+file+"; exec sleep 601")
	a.Opens.Process = "sleep"
	require.Empty(t, open.Desk{Home: t.TempDir()}.Application(t.Context(), a).Why)
	text, err := os.ReadFile(file)
	if err != nil {
		return // another sleep was seen, and it was ended before it had started anything
	}
	require.Eventually(t, func() bool {
		state, err := os.ReadFile("/proc/" + strings.TrimSpace(string(text)) + "/stat")
		return err != nil || strings.Contains(string(state), ") Z ")
	}, 10*time.Second, 10*time.Millisecond)
}

func TestAWindowIsSeen(t *testing.T) {
	t.Parallel()
	for _, program := range []string{"Xvfb", "xwininfo", "xmessage"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not installed", program)
		}
	}
	if os.Geteuid() != 0 {
		t.Skip("the person is made by root only")
	}
	d, closes, err := open.ForProof(t.Context())
	require.NoError(t, err)
	t.Cleanup(closes)
	a := fareDesk(t, "exec xmessage -title 'Fares of today' x")
	a.Opens.Window, d.As = "Fares of", nil // the program is in a folder of the test's
	r := d.Application(t.Context(), a)
	require.Empty(t, r.Why, r.Output)
	p, err := png.Decode(bytes.NewReader(r.Picture))
	require.NoError(t, err)
	require.Equal(t, image.Pt(1280, 800), p.Bounds().Size())
	seen := map[color.Color]bool{}
	for x := range 400 {
		for y := range 200 {
			seen[p.At(x, y)] = true
		}
	}
	require.Greater(t, len(seen), 1, "there is a window on it")
}
