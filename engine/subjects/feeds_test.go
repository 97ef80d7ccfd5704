package subjects_test

import (
	"bytes"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"

	"nimblepane/client"
	"nimblepane/core/base"
	"nimblepane/core/build"
	"nimblepane/core/feed"
	"nimblepane/core/problem"
	"nimblepane/core/role"
	"nimblepane/core/schedule"
	"nimblepane/internal/servicetest"
	"nimblepane/platform/practice/vendor"
)

// published is a vendor's folder with a release for each serial, all of the same disk but for its last byte.
func published(t *testing.T, packed []byte, serials ...string) string {
	t.Helper()
	folder := t.TempDir()
	publish(t, folder, packed, serials...)
	return folder
}

func publish(t *testing.T, folder string, packed []byte, serials ...string) {
	t.Helper()
	list := "publisher: Estuary Works\nproducts:\n  - name: Harbour Linux\n    release: \"13\"\n    serials:\n"
	for i, serial := range serials {
		file := serial + ".qcow2"
		require.NoError(t, os.WriteFile(filepath.Join(folder, file), append(bytes.Clone(packed), byte(i)), 0o600))
		list += fmt.Sprintf("      %q: %s\n", serial, file)
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, vendor.File), []byte(list), 0o600))
}

// fed is a service that reads a feed.
func fed(t *testing.T, s *servicetest.Service, f client.NewFeed) client.Feed {
	t.Helper()
	f.Name = "estuary"
	read, err := s.As(role.Operator).AddFeed(t.Context(), f)
	require.NoError(t, err)
	s.Until("the feed to be read", func() bool {
		read, err = s.As(role.Viewer).Feed(t.Context(), f.Name)
		require.NoError(t, err)
		return read.LookedAt != nil
	})
	return read
}

const ofVendor = "image: counter-desk\nbase:\n  vendor: {feed: estuary, product: Harbour Linux, release: \"13\"}\n" +
	"machine: {site: north-quay}\ntime-limit: 20h\n" +
	"steps:\n  - {name: hello, script: {text: \"#!/bin/sh\\necho hello\\n\"}}\n"

func TestANewReleaseOfAVendorBecomesAVersion(t *testing.T) {
	t.Parallel()
	packed := diskFile(t, "qcow2")
	folder := published(t, packed, "20260602", "20260804")
	server := httptest.NewServer(vendor.Handler(os.DirFS(folder)))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{})
	ctx, c := t.Context(), s.As(role.Operator)
	f := fed(t, s, client.NewFeed{Address: server.URL})
	require.Empty(t, f.Why)
	require.Equal(t, 2, f.Releases)
	rows, err := c.Releases(ctx, "", feed.Want{Text: "harbour"})
	require.NoError(t, err)
	require.Equal(t, []string{"20260804", "20260602"}, []string{rows[0].Serial, rows[1].Serial})
	require.Equal(t, server.URL+"/disks/20260804.qcow2", rows[0].Address)

	of13 := base.Labels{Product: "harbour linux", Release: "13"}
	_, err = c.BringBase(ctx, client.NewBase{Name: "h", Feed: "estuary", Labels: base.Labels{Release: "14"}})
	require.ErrorContains(t, err, "feed estuary: the feed has no release 14: it has Estuary Works Harbour Linux 13 "+
		"x86_64")
	_, err = c.BringBase(ctx, client.NewBase{Name: "h", Feed: "sea", Labels: of13})
	require.ErrorIs(t, err, problem.NotFound)
	_, err = c.BringBase(ctx, client.NewBase{Name: "h", Feed: "estuary", Labels: of13, Address: server.URL})
	require.ErrorIs(t, err, problem.InvalidRequest)
	_, err = c.BringBase(ctx, client.NewBase{Name: "pinned", Feed: "estuary", Labels: of13, Serial: "20260602"})
	require.NoError(t, err)
	b := baseEnds(t, s, "pinned")
	require.Equal(t, base.Ready, b.State, b.Why)
	require.Equal(t, "Estuary Works", b.Labels.Publisher)
	require.Equal(t, "20260804", b.Newer.Serial)
	// What was brought in by hand is known by its digest.
	_, err = c.SendBase(ctx, client.NewBase{Name: "by-hand"}, bytes.NewReader(append(bytes.Clone(packed), 0)),
		func(client.Base) {})
	require.NoError(t, err)
	require.Equal(t, "20260804", baseEnds(t, s, "by-hand").Newer.Serial)

	// A build of the newest has it brought in, and says which it is.
	built, err := c.StartBuild(ctx, client.StartBuild{Sheet: ofVendor})
	require.NoError(t, err)
	require.Equal(t, "Estuary Works Harbour Linux 13 20260804", built.Base)
	ready := func(id int64) (b client.WholeBuild) {
		s.Until("the build to be ready", func() bool {
			b, err = c.Build(ctx, id)
			require.NoError(t, err)
			require.NotEqual(t, build.Failed, b.State, b.Why)
			return b.State == build.Ready
		})
		return b
	}
	ready(built.ID)
	b, err = c.Base(ctx, "harbour-linux-13-20260804")
	require.NoError(t, err)
	require.Nil(t, b.Newer)

	// A schedule on changes does nothing until the next release comes out, and then one thing.
	_, err = c.SaveSheet(ctx, "desk", 0, client.SheetText{Text: ofVendor})
	require.NoError(t, err)
	_, err = c.AddSchedule(ctx, client.NewSchedule{Name: "newest", Sheet: "desk", Mode: schedule.OnChanges})
	require.NoError(t, err)
	publish(t, folder, packed, "20260602", "20260804", "20261103")
	_, err = c.ReadFeed(ctx, "estuary")
	require.NoError(t, err)
	var runs []client.ScheduleRun
	s.Until("the schedule to start a build", func() bool {
		sc, err := c.Schedule(ctx, "newest")
		require.NoError(t, err)
		runs = sc.Runs
		return len(runs) > 0
	})
	b2 := ready(runs[0].Build)
	require.Equal(t, "Estuary Works Harbour Linux 13 20261103", b2.Base)
	require.NoError(t, s.Subjects.Schedules.Follow(ctx))
	sc, err := c.Schedule(ctx, "newest")
	require.NoError(t, err)
	require.Len(t, sc.Runs, 1)

	// One that is pinned stays what it is; one that the feed does not have is refused.
	pinned := strings.Replace(ofVendor, "release:", "serial: \"20260602\", release:", 1)
	built, err = c.StartBuild(ctx, client.StartBuild{Sheet: pinned})
	require.NoError(t, err)
	require.Equal(t, "Estuary Works Harbour Linux 13 20260602", built.Base)
	_, err = c.StartBuild(ctx, client.StartBuild{Sheet: strings.Replace(pinned, "20260602", "20250101", 1)})
	require.ErrorContains(t, err, "serial 20250101 any more, or not yet: the newest is serial 20261103")
	require.NoError(t, c.DeleteFeed(ctx, "estuary"))
	_, err = c.StartBuild(ctx, client.StartBuild{Sheet: ofVendor})
	require.ErrorContains(t, err, `feed "estuary"`)
}

func TestAReleaseThatIsNotWhatItsFeedSaysEndsItsBuildAndIsBroughtInAnew(t *testing.T) {
	t.Parallel()
	packed := diskFile(t, "qcow2")
	folder := published(t, packed, "1")
	real, says := vendor.Handler(os.DirFS(folder)), ""
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/disks/") && says != "" {
			fmt.Fprint(w, says)
			return
		}
		real.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{})
	ctx, c := t.Context(), s.As(role.Operator)
	fed(t, s, client.NewFeed{Address: server.URL})
	failed := func(why string) {
		t.Helper()
		built, err := c.StartBuild(ctx, client.StartBuild{Sheet: ofVendor})
		require.NoError(t, err)
		s.Until("the build to fail", func() bool {
			built, err = c.Build(ctx, built.ID)
			require.NoError(t, err)
			return built.Settled
		})
		require.Equal(t, build.Failed, built.State)
		require.Contains(t, built.Why, why)
	}
	says = "short"
	failed(fmt.Sprintf("feed estuary says that the file has %d bytes, and the address that it has 5", len(packed)+1))
	says = strings.Repeat("x", len(packed)+1)
	failed("what came has the digest " + sum([]byte(says)))
	says = ""
	built, err := c.StartBuild(ctx, client.StartBuild{Sheet: ofVendor})
	require.NoError(t, err)
	s.Until("the build to be ready", func() bool {
		built, err = c.Build(ctx, built.ID)
		require.NoError(t, err)
		require.NotEqual(t, build.Failed, built.State, built.Why)
		return built.State == build.Ready
	})
	rows, err := c.Bases(ctx, true)
	require.NoError(t, err)
	require.Len(t, rows, 3)
	require.Equal(t, []base.State{base.Ready, base.Retired, base.Retired}, []base.State{
		rows[0].State, rows[1].State, rows[2].State,
	})
}

func TestAFeedThatCannotBeReadSaysWhyAndKeepsWhatWasThere(t *testing.T) {
	t.Parallel()
	folder := published(t, []byte("disk"), "1")
	var answer http.HandlerFunc
	real := vendor.Handler(os.DirFS(folder))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if answer != nil {
			answer(w, r)
			return
		}
		real.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{})
	ctx, c := t.Context(), s.As(role.Operator)
	for why, in := range map[string]client.NewFeed{
		"write http:// or https://":      {Name: "a", Address: "file:///etc"},
		"has no user, query or fragment": {Name: "a", Address: "http://a:b@images.example"},
		"no OpenPGP public key":          {Name: "a", Address: "http://images.example", Key: "key"},
		"feed name":                      {Name: "A", Address: "http://images.example"},
		"cannot be read every 1s":        {Name: "a", Address: "http://images.example", Every: 1},
	} {
		_, err := c.AddFeed(ctx, in)
		require.ErrorContains(t, err, why)
	}
	f := fed(t, s, client.NewFeed{Address: server.URL + "/streams/v1/disks.json"})
	require.Equal(t, 1, f.Releases, f.Why)
	for why, how := range map[string]http.HandlerFunc{
		"answers 500 Internal Server Error": func(w http.ResponseWriter, _ *http.Request) {
			http.Error(w, "flooded", http.StatusInternalServerError)
		},
		"it is no JSON file": func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<html>") },
		"it leads on more than 5 times": func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, r.URL.Path+"x", http.StatusFound)
		},
	} {
		answer = how
		before := f.LookedAt
		_, err := c.ReadFeed(ctx, "estuary")
		require.NoError(t, err)
		s.Until("the feed to be read", func() bool {
			f, err = c.Feed(ctx, "estuary")
			require.NoError(t, err)
			return f.LookedAt.After(*before)
		})
		require.Contains(t, f.Why, why)
		require.Equal(t, 1, f.Releases)
	}
	today, err := c.Today(ctx)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(today), "Feed estuary cannot be read")

	// What listens on the service's own computer is asked only with leave.
	s = servicetest.Start(t, servicetest.Options{FetchElsewhere: true})
	require.Contains(t, fed(t, s, client.NewFeed{Address: server.URL}).Why, "not asked without leave")
}

func TestASignedFeedIsBelievedOnlyIfItIs(t *testing.T) {
	t.Parallel()
	vendorKey, err := openpgp.NewEntity("Estuary Works", "", "feed@estuary.example", nil)
	require.NoError(t, err)
	var key bytes.Buffer
	w, err := armor.Encode(&key, openpgp.PublicKeyType, nil)
	require.NoError(t, err)
	require.NoError(t, vendorKey.Serialize(w))
	require.NoError(t, w.Close())
	folder, forged, swapped := published(t, []byte("disk"), "1"), false, false
	signedAt := time.Now
	plain := vendor.Handler(os.DirFS(folder))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		r.URL.Path = strings.Replace(r.URL.Path, ".sjson", ".json", 1)
		if swapped && strings.HasSuffix(r.URL.Path, "disks.json") {
			r.URL.Path = strings.Replace(r.URL.Path, "disks", "others", 1)
		}
		rec := httptest.NewRecorder()
		plain.ServeHTTP(rec, r)
		if forged {
			_, _ = w.Write(rec.Body.Bytes())
			return
		}
		signed, err := clearsign.Encode(w, vendorKey.PrivateKey, &packet.Config{Time: signedAt})
		if err == nil {
			text := rec.Body.Bytes()
			if swapped && strings.HasSuffix(r.URL.Path, "others.json") {
				text = []byte(`{"format": "products:1.0", "content_id": "others", "products": {}}`)
			}
			_, _ = signed.Write(text)
			err = signed.Close()
		}
		if err != nil {
			panic(err)
		}
	}))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{})
	f := fed(t, s, client.NewFeed{Address: server.URL, Key: key.String()})
	require.Empty(t, f.Why)
	require.True(t, f.Signed)
	require.Equal(t, 1, f.Releases)
	require.NotNil(t, f.SignedAt)
	read := func() client.Feed {
		before, err := s.As(role.Viewer).Feed(t.Context(), "estuary")
		require.NoError(t, err)
		_, err = s.As(role.Operator).ReadFeed(t.Context(), "estuary")
		require.NoError(t, err)
		s.Until("the feed to be read", func() bool {
			f, err = s.As(role.Viewer).Feed(t.Context(), "estuary")
			return err == nil && f.LookedAt.After(*before.LookedAt)
		})
		return f
	}
	signedAt = func() time.Time { return time.Now().Add(-24 * time.Hour) }
	require.Contains(t, read().Why, "an older file does not replace a newer one")
	require.Equal(t, 1, f.Releases, "the releases of the last good read stay")
	signedAt, swapped = time.Now, true
	require.Contains(t, read().Why, `the signed file is "others", and the index names "disks" there`)
	swapped = false
	require.Empty(t, read().Why)
	require.NoError(t, s.As(role.Operator).DeleteFeed(t.Context(), "estuary"))
	forged = true
	f = fed(t, s, client.NewFeed{Address: server.URL, Key: key.String()})
	require.Contains(t, f.Why, "it is not signed, and the feed is to be")
	require.Zero(t, f.Releases)
}

func TestAFeedThatHangsKeepsNoOtherFromBeingRead(t *testing.T) {
	t.Parallel()
	asked, end := make(chan struct{}, 1), make(chan struct{})
	hangs := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {
		asked <- struct{}{}
		<-end
	}))
	t.Cleanup(hangs.Close)
	t.Cleanup(func() { close(end) })
	server := httptest.NewServer(vendor.Handler(os.DirFS(published(t, []byte("disk"), "1"))))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{})
	_, err := s.As(role.Operator).AddFeed(t.Context(), client.NewFeed{Name: "hangs", Address: hangs.URL})
	require.NoError(t, err)
	<-asked
	require.Equal(t, 1, fed(t, s, client.NewFeed{Address: server.URL}).Releases)
	f, err := s.As(role.Viewer).Feed(t.Context(), "hangs")
	require.NoError(t, err)
	require.Nil(t, f.LookedAt, "it hangs still")
	_, err = s.As(role.Operator).StartBuild(t.Context(), client.StartBuild{
		Sheet: strings.Replace(ofVendor, "estuary", "hangs", 1),
	})
	require.ErrorIs(t, err, problem.SourceFailed)
}

func TestTwoWhoBuildOfOneReleaseAtOnceBringItInOnce(t *testing.T) {
	t.Parallel()
	server := httptest.NewServer(vendor.Handler(os.DirFS(published(t, diskFile(t, "qcow2"), "1"))))
	t.Cleanup(server.Close)
	s := servicetest.Start(t, servicetest.Options{})
	fed(t, s, client.NewFeed{Address: server.URL})
	var both errgroup.Group
	for range 4 {
		both.Go(func() error {
			_, err := s.As(role.Operator).StartBuild(t.Context(), client.StartBuild{Sheet: ofVendor})
			return err
		})
	}
	require.NoError(t, both.Wait())
	rows, err := s.As(role.Viewer).Bases(t.Context(), true)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	s.Until("the builds to be ready", func() bool {
		builds, err := s.As(role.Viewer).Builds(t.Context(), "counter-desk", build.Ready, 10)
		require.NoError(t, err)
		return len(builds) == 4
	})
}
