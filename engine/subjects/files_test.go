package subjects_test

import (
	"archive/tar"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"nimblepane/client"
	"nimblepane/core/build"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/sheet"
	"nimblepane/internal/servicetest"
	"nimblepane/store"
)

const besideSteps = `
  - {name: tally, script: {file: bin/tally.sh}}
  - {name: fares, put: {file: fares.db, to: /var/lib/fares.db}}
  - {name: tides, put: {folder: tides, to: /opt/tides}}
`

// large is a file of several pieces.
func large() []byte { return bytes.Repeat([]byte("fares of the north quay\n"), 5<<20/24) }

func besideSheet() fstest.MapFS {
	return fstest.MapFS{
		"bin/tally.sh": {Data: []byte("#!/bin/sh\ncount\n")}, "fares.db": {Data: large()},
		"tides/neap": {Data: []byte("x")}, "empty": {},
	}
}

func TestFilesTravelWithTheirSheet(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: workshop})
	ctx, c := t.Context(), s.As(role.Operator)
	text := desk("disk: vendor.qcow2", besideSteps, "notes: x")
	_, err := c.StartBuild(ctx, client.StartBuild{Sheet: text})
	require.ErrorIs(t, err, problem.InvalidFile)
	require.ErrorContains(t, err, `step "tides": the folder tides was not sent along with the sheet`)

	of, err := sheet.Parse([]byte(text))
	require.NoError(t, err)
	var wg sync.WaitGroup
	for range 3 { // people who send the same at once
		wg.Go(func() {
			_, err := c.SendSheetFiles(ctx, besideSheet(), of.Sources(), nil)
			require.NoError(t, err)
		})
	}
	wg.Wait()
	told := map[string]int64{}
	files, err := c.SendSheetFiles(ctx, besideSheet(), of.Sources(), func(s sheet.Source, sent, _ int64) {
		told[s.Path] = sent
	})
	require.NoError(t, err)
	require.Empty(t, told, "what is there is not sent again")
	require.Len(t, files, 3)
	content, err := io.ReadAll(s.Store.SheetFileContent(ctx, files["fares.db"]))
	require.NoError(t, err)
	require.Equal(t, large(), content)

	begun, err := c.StartBuild(ctx, client.StartBuild{Sheet: text, Files: files})
	require.NoError(t, err)
	// What a build needs is kept until it has ended, and then for a while.
	require.NoError(t, s.Store.DB.Exec("update sheet_files set used_at = now() - interval '8 days'").Error)
	kept := func() (n int64) {
		require.NoError(t, s.Store.DB.Model(store.SheetFile{}).Count(&n).Error)
		return n
	}
	b := built(s, begun.ID)
	require.Equal(t, build.Ready, b.State, b.Why)
	require.Equal(t, "ran #!/bin/sh\n", b.Steps[0].Output)
	require.Equal(t, "wrote 5242872 bytes with the digest "+files["fares.db"]+"\n", b.Steps[1].Output)
	s.Until("the files to go", func() bool { return kept() == 0 })
	_, err = c.StartBuild(ctx, client.StartBuild{Sheet: text, Files: files})
	require.ErrorIs(t, err, problem.InvalidFile)
}

func TestAnUploadIsInNobodysWay(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: workshop})
	send := func(as role.Role, path, kind string, body []byte) (f client.SheetFile, err error) {
		r, err := http.NewRequestWithContext(t.Context(), http.MethodPut, s.URL+"/api/v1/sheet-files/"+path,
			bytes.NewReader(body))
		if err != nil {
			return f, err
		}
		r.Header.Set("Authorization", "Bearer "+s.Token(as))
		r.Header.Set("Content-Type", kind)
		answer, err := http.DefaultClient.Do(r)
		if err != nil {
			return f, err
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if answer.StatusCode != http.StatusOK {
			return f, fmt.Errorf("%s: %s", answer.Status, text)
		}
		return f, errors.Join(err, json.Unmarshal(text, &f))
	}
	begin := func(as role.Role, content []byte, size int) (client.SheetFile, error) {
		return send(as, sum(content), "application/json", fmt.Appendf(nil, `{"size":%d}`, size))
	}
	piece := func(as role.Role, digest string, from int, content []byte) (client.SheetFile, error) {
		return send(as, fmt.Sprintf("%s/piece?from=%d", digest, from), "application/octet-stream", content)
	}
	const c, other = role.Operator, role.Approver
	content := []byte("tide tables of north-quay")
	digest := sum(content)
	_, err := begin(other, content, 999_999)
	require.NoError(t, err)
	_, err = piece(other, digest, 0, []byte("not what it says"))
	require.NoError(t, err)

	f, err := begin(c, content, len(content))
	require.NoError(t, err)
	require.Zero(t, f.Have)
	f, err = piece(c, digest, 0, content[:4])
	require.NoError(t, err)
	require.EqualValues(t, 4, f.Have)
	f, err = piece(c, digest, 4, content[4:])
	require.NoError(t, err)
	require.True(t, f.Whole)

	// The other finds it whole, and is told the size.
	_, err = begin(other, content, 999_999)
	require.ErrorContains(t, err, problem.InvalidRequest.URI())
	f, err = begin(other, content, len(content))
	require.NoError(t, err)
	require.True(t, f.Whole)

	// Two who finish the same file at once have it both.
	second := []byte("tide tables of south-quay")
	var wg sync.WaitGroup
	for _, by := range []role.Role{c, other} {
		wg.Go(func() {
			_, err := begin(by, second, len(second))
			assert.NoError(t, err)
			f, err := piece(by, sum(second), 0, second)
			assert.NoError(t, err)
			assert.True(t, f.Whole)
		})
	}
	wg.Wait()
	// A size that was wrong is said again.
	third := []byte("tide tables")
	_, err = begin(c, third, 3)
	require.NoError(t, err)
	_, err = begin(c, third, len(third))
	require.NoError(t, err)
	f, err = piece(c, sum(third), 0, third)
	require.NoError(t, err)
	require.True(t, f.Whole)
}

func TestABuildGoesOnWithTheFilesThatItHad(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{Scenario: workshop})
	ctx, c := t.Context(), s.As(role.Operator)
	text := desk("disk: vendor.qcow2", besideSteps+"\n  - {name: wrong, install: {packages: [tide-table]}}\n",
		"notes: x")
	of, err := sheet.Parse([]byte(text))
	require.NoError(t, err)
	beside := besideSheet()
	files, err := c.SendSheetFiles(ctx, beside, of.Sources(), nil)
	require.NoError(t, err)
	beside["fares.db"].Data = append(large(), '\n')
	other, err := c.SendSheetFiles(ctx, beside, of.Sources(), nil)
	require.NoError(t, err)
	begun, err := c.StartBuild(ctx, client.StartBuild{Sheet: text, Files: files, HoldSeconds: 7200})
	require.NoError(t, err)
	b := failed(s, begun.ID)
	mended := strings.Replace(text, "tide-table]", "tide-tables]", 1)
	_, err = c.GoOn(ctx, b.ID, client.GoOn{Sheet: mended, Files: other})
	require.ErrorIs(t, err, problem.SheetChanged)
	_, err = c.GoOn(ctx, b.ID, client.GoOn{Sheet: mended})
	require.NoError(t, err)
	require.Equal(t, build.Ready, built(s, b.ID).State)
}

func TestWhatIsSentIsWhatWasMeant(t *testing.T) {
	t.Parallel()
	s := servicetest.Start(t, servicetest.Options{})
	c := s.As(role.Operator)
	tarOf := func(name string) []byte {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		require.NoError(t, w.WriteHeader(&tar.Header{Typeflag: tar.TypeReg, Name: name}))
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	digest := func(content []byte) string {
		sum := sha256.Sum256(content)
		return hex.EncodeToString(sum[:])
	}
	put := func(path string, body []byte, kind string) (int, string) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPut, s.URL+"/api/v1/sheet-files/"+path,
			bytes.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+s.Token(role.Operator))
		req.Header.Set("Content-Type", kind)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer resp.Body.Close()
		text, err := io.ReadAll(resp.Body)
		require.NoError(t, err)
		return resp.StatusCode, string(text)
	}
	announce := func(digest, folder string, size int) (int, string) {
		return put(digest+"?folder="+folder, fmt.Appendf(nil, `{"size":%d}`, size), "application/json")
	}
	piece := func(digest, folder, from string, content []byte) (int, string) {
		return put(digest+"/piece?folder="+folder+"&from="+from, content, "application/octet-stream")
	}
	evil := tarOf("../../etc/cron.d/x")
	status, _ := announce(digest(evil), "true", len(evil))
	require.Equal(t, http.StatusOK, status)
	status, text := piece(digest(evil), "true", "0", evil)
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, `the uploaded archive is not a folder: \"../../etc/cron.d/x\" in it would be unpacked outside its folder`)
	_, err := c.StartBuild(context.Background(), client.StartBuild{
		Sheet: desk("disk: vendor.qcow2", "\n  - {name: x, put: {folder: x, to: /opt/x}}\n", "notes: x"),
		Files: map[string]string{"x": digest(evil)},
	})
	require.ErrorIs(t, err, problem.InvalidFile)

	good := tarOf("x")
	status, _ = announce(digest(good), "false", len(good))
	require.Equal(t, http.StatusOK, status)
	status, text = piece(digest(good), "false", "5", good)
	require.Equal(t, http.StatusConflict, status)
	require.Contains(t, text, "0 bytes of the file are stored: continue at byte 0, not at byte 5")
	status, text = piece(digest(good), "false", "0", append(good, 'x'))
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, "the file has 1536 bytes as announced, but the upload reaches byte 1537")
	status, text = piece(digest(good), "false", "0", bytes.Repeat([]byte{'x'}, len(good)))
	require.Equal(t, http.StatusUnprocessableEntity, status)
	require.Contains(t, text, problem.DigestMismatch.URI())
	status, _ = piece(digest(good), "false", "0", good)
	require.Equal(t, http.StatusNotFound, status, "it is forgotten, and can be sent again")
	status, _ = announce(digest(good), "false", len(good))
	require.Equal(t, http.StatusOK, status)
	status, _ = piece(digest(good), "false", "0", good[:512])
	require.Equal(t, http.StatusOK, status)
	status, text = announce(digest(good), "false", len(good)+1)
	require.Equal(t, http.StatusOK, status, "another size begins the upload again: "+text)
	status, text = announce(digest(good), "false", len(good))
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, text, `"have":0`)
	status, _ = piece(digest(good), "false", "0", good[:512])
	require.Equal(t, http.StatusOK, status)
	status, text = piece(digest(good), "false", "512", good[512:])
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, text, `"whole":true`)
	status, text = announce(digest(good), "true", len(good))
	require.Equal(t, http.StatusOK, status, "it is the archive of a folder, too: "+text)
	// All of it had come when the service was stopped, and nobody had looked at it yet.
	require.NoError(t, s.Store.DB.Exec("update sheet_files set whole = false, sender = 'operator'").Error)
	status, text = announce(digest(good), "true", len(good))
	require.Equal(t, http.StatusOK, status)
	require.Contains(t, text, `"whole":true`)
	status, text = announce(digest(good), "false", 65<<30)
	require.Equal(t, http.StatusRequestEntityTooLarge, status)
	require.Contains(t, text, problem.TooLarge.URI())
	status, _ = announce("x", "false", 1)
	require.Equal(t, http.StatusUnprocessableEntity, status)
}
