package api_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/internal/servicetest"
)

func TestADryRunSaysWhetherARequestWouldBeRefusedAndChangesNothing(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	one := s.Live("back-office")
	operator, viewer := s.Token(role.Operator), s.Token(role.Viewer)
	before := last(t, s)
	version := "/api/v1/images/counter-desk/versions/" + one
	machine := `{"name":"bm-dry","base_disk":"vendor.qcow2","machine_class":"standard"}`
	for _, c := range []struct {
		name, method, path, token, body, says string
		status                                int
		headers                               []string
	}{
		{"possible", "POST", "/api/v1/hosts/bo-001/rebuild", operator, `{}`, `{}`, 200, nil},
		{"something new", "POST", "/api/v1/sites/north-quay/build-machines", operator, machine, `{}`, 200, nil},
		{
			"with a key", "POST", "/api/v1/hosts/bo-001/rebuild", operator, `{}`, `{}`, 200,
			[]string{"Idempotency-Key", "dry"},
		},
		{"refused", "POST", version + "/retire", operator, `{"reason":"r"}`, "live names it", 409, nil},
		{"no such thing", "POST", "/api/v1/hosts/bo-999/rebuild", operator, `{}`, "bo-999", 404, nil},
		{"not allowed", "POST", "/api/v1/hosts/bo-001/rebuild", viewer, `{}`, "operator", 403, nil},
		{"bad input", "POST", "/api/v1/hosts/bo-001/rebuild", operator, `{"reson":""}`, "reson", 422, nil},
		{
			"an operation without one", "POST", "/api/v1/rollovers", operator, `{"pools":["back-office"]}`,
			problem.NoDryRun.URI(), 422, nil,
		},
	} {
		t.Run(c.name, func(t *testing.T) {
			a := send(t, s, c.method, c.path, c.token, c.body, append([]string{"Dry-Run", "true"}, c.headers...)...)
			require.Equal(t, c.status, a.status, a.text)
			require.Contains(t, a.text, c.says)
			require.Equal(t, before, last(t, s), "it changed something")
		})
	}
	a := send(t, s, "POST", "/api/v1/hosts/bo-001/rebuild", operator, `{}`, "Dry-Run", "1")
	require.Equal(t, 422, a.status)
	require.Contains(t, a.text, `Dry-Run \"1\": use true`)
	a = send(t, s, "POST", "/api/v1/hosts/bo-001/rebuild", operator, `{}`, "Idempotency-Key", "dry")
	require.Equal(t, 202, a.status, a.text)
	rows, err := s.As(role.Viewer).Rollovers(t.Context(), "back-office", "", true, 10)
	require.NoError(t, err)
	require.Len(t, rows, 1, "the key of a dry run is free for the request itself")
	_, err = s.As(role.Operator).RebuildHost(client.DryRun(t.Context()), "bo-001", client.RebuildHost{})
	require.ErrorContains(t, err, "rollover", "a dry run is refused as the request would be")
}
