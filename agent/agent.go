// Package agent is what an agent inside a host and the service say to each other.
//
// A host calls the service, never the other way. At its first start the agent
// trades a one-time enrolment token for a credential of its own. From then on
// it sends a heartbeat: which version it was made from, who is signed in, how
// loaded it is, and which orders it has carried out. The answer says what to
// do: whether to take new sessions, whom to tell what, whom to sign off,
// whether to run the checks, and when to speak again.
//
// Orders are repeated in every answer until a heartbeat confirms them, so a
// lost answer costs one interval and nothing else. A drain order has a number,
// and the heartbeat names the number that it obeys: only a list of sessions
// that comes with it says anything about who is left.
package agent

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"
)

// Paths of the protocol, below the service's address.
const (
	EnrolPath     = "/agent/v1/enrol"
	HeartbeatPath = "/agent/v1/heartbeat"
)

// EnrolRequest trades a token for a credential.
type EnrolRequest struct {
	Token string `json:"token"`
}

// EnrolReply is the credential, which the agent keeps where only it can read.
type EnrolReply struct {
	Host       string `json:"host"`
	Credential string `json:"credential"`
}

// Heartbeat is what an agent reports.
type Heartbeat struct {
	// Stamp is the version that the host's disk was made from, "IMAGE NUMBER", as written into it.
	Stamp string `json:"stamp"`
	// Drain is the number of the drain order that the host obeys, 0 if it takes new sessions.
	Drain    int64     `json:"drain"`
	Checks   Checks    `json:"checks"`
	Load     float64   `json:"load"` // one-minute load average over the number of cores
	Sessions []Session `json:"sessions"`
	Done     []int64   `json:"done"` // orders carried out since the last answer that still had them
}

// Checks is how the checks that were last asked for stand.
type Checks struct {
	Order int64       `json:"order"` // the number under which they were asked for, 0 if never
	State ChecksState `json:"state"` // "" if never asked for
	Why   string      `json:"why"`   // which check failed, and how
}

// ChecksState is how checks stand.
type ChecksState string

const (
	ChecksUnderWay ChecksState = "under way"
	ChecksPassed   ChecksState = "passed"
	ChecksFailed   ChecksState = "failed"
)

// ChecksStates are all of them.
func ChecksStates() []ChecksState { return []ChecksState{ChecksUnderWay, ChecksPassed, ChecksFailed} }

// Session is one person signed in.
type Session struct {
	Key    string       `json:"key"` // unique on the host, for as long as it has its disk
	Person string       `json:"person"`
	State  SessionState `json:"state"`
	Since  time.Time    `json:"since"`
}

// SessionState says what somebody does who is signed in.
type SessionState string

const (
	Active       SessionState = "active"
	Idle         SessionState = "idle"
	Disconnected SessionState = "disconnected"
)

// SessionStates are all of them.
func SessionStates() []SessionState { return []SessionState{Active, Idle, Disconnected} }

// Answer is what the agent is to do.
type Answer struct {
	NextMillis int64   `json:"next_ms"` // when to send the next heartbeat, in milliseconds from now
	Drain      int64   `json:"drain"`   // refuse new sessions under this order; 0: take them
	Check      int64   `json:"check"`   // run the checks under this order, if they were not
	Orders     []Order `json:"orders"`
}

// Order is one thing to do to a session.
type Order struct {
	ID      int64     `json:"id"`
	Kind    OrderKind `json:"kind"`
	Session string    `json:"session"`
	Text    string    `json:"text,omitempty"`
}

// OrderKind says what an order is.
type OrderKind string

const (
	ShowText   OrderKind = "tell"     // show a text to the person
	EndSession OrderKind = "sign-off" // end the session
)

// ErrRefused is returned when the service does not know the token or credential.
var ErrRefused = errors.New("the service refused the agent")

// Caller speaks to a service.
type Caller struct {
	URL  string
	HTTP *http.Client
}

// Enrol trades the token for a credential. ErrRefused: the token is unknown or was used.
func (c Caller) Enrol(ctx context.Context, token string) (reply EnrolReply, err error) {
	err = c.call(ctx, EnrolPath, "", EnrolRequest{Token: token}, &reply)
	return reply, err
}

// Beat sends a heartbeat. ErrRefused: the credential is not, or no longer, that of a host.
func (c Caller) Beat(ctx context.Context, credential string, beat Heartbeat) (answer Answer, err error) {
	err = c.call(ctx, HeartbeatPath, credential, beat, &answer)
	return answer, err
}

func (c Caller) call(ctx context.Context, path, credential string, body, into any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.URL+path, bytes.NewReader(b))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	if credential != "" {
		req.Header.Set("Authorization", "Bearer "+credential)
	}
	resp, err := c.HTTP.Do(req)
	if err != nil {
		return err
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusUnauthorized {
		return ErrRefused
	}
	if resp.StatusCode != http.StatusOK {
		text, _ := io.ReadAll(io.LimitReader(resp.Body, 500))
		return fmt.Errorf("%s: %s: %s", path, resp.Status, text)
	}
	return json.NewDecoder(resp.Body).Decode(into)
}
