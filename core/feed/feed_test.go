package feed

import (
	"bytes"
	"crypto"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/stretchr/testify/require"

	"nimblepane/core/base"
)

var sum = strings.Repeat("0f", 32)

func products(products string) []byte {
	return []byte(`{"format": "products:1.0", "datatype": "image-downloads", "os_title": "Harbour Linux",
		"products": {` + products + `}}`)
}

func TestWhatIsSaidOfTheWholeHoldsForItsParts(t *testing.T) {
	t.Parallel()
	offers, left, err := Products(products(`"works.estuary:harbour:13:amd64": {"arch": "amd64", "version": 13,
		"release_codename": "estuary", "support_eol": "2029-06-01", "edition": "desktop", "versions": {
			"20261105": {"items": {
				"manifest": {"ftype": "manifest", "path": "13/list.txt", "size": 9},
				"tarball": {"ftype": "disk.img", "path": "13/disk.img.xz", "size": 4, "sha256": "`+sum+`"},
				"old": {"ftype": "vmdk", "path": "13/disk.vmdk", "size": 8, "sha256": "`+sum+`"},
				"disk": {"ftype": "qcow2", "path": "works.estuary:13/disk.qcow2", "size": 7, "sha256": "`+strings.ToUpper(sum)+`"}}},
			"20261205": {"edition": "server", "items": {
				"0-kvm": {"ftype": "disk-kvm.img", "path": "13/kvm.img", "sha256": "`+sum+`"},
				"disk": {"ftype": "disk1.img", "path": "13/next.img", "sha256": "`+sum+`"}}}}}`), "Estuary Works")
	require.NoError(t, err)
	require.Empty(t, left)
	require.Equal(t, []Offer{
		{
			Product: "works.estuary:harbour:13:amd64", Serial: "20261105", Labels: base.Labels{
				Publisher: "Estuary Works", Product: "Harbour Linux", Edition: "desktop", Release: "13",
			}, Codename: "estuary", Architecture: "x86_64", Supported: "2029-06-01",
			Path: "works.estuary:13/disk.qcow2",
			Kind: "qcow2", Size: 7, SHA256: sum, With: []Extra{
				{"manifest", "manifest", 9},
				{"old", "vmdk", 8},
				{"tarball", "disk.img", 4},
			},
		},
		{
			Product: "works.estuary:harbour:13:amd64", Serial: "20261205", Labels: base.Labels{
				Publisher: "Estuary Works", Product: "Harbour Linux", Edition: "server", Release: "13",
			}, Codename: "estuary", Architecture: "x86_64", Supported: "2029-06-01", Path: "13/next.img",
			Kind: "disk1.img", SHA256: sum, With: []Extra{{"0-kvm", "disk-kvm.img", 0}},
		},
	}, offers)
	require.Equal(t, "Estuary Works Harbour Linux desktop 13 20261105", offers[0].Title())
}

func TestWhatCannotBeTakenIsLeftOutWithAReason(t *testing.T) {
	t.Parallel()
	version := func(items string) string { return `{"versions": {"1": {"items": {` + items + `}}}}` }
	for items, why := range map[string]string{
		`"list": {"ftype": "manifest", "path": "list"}`:                              "none of its files is a disk",
		`"d": {"ftype": "qcow2", "path": "d"}`:                                       "has no SHA-256 digest",
		`"d": {"ftype": "qcow2", "path": "d", "sha256": "feed"}`:                     "has no SHA-256 digest",
		`"d": {"ftype": "qcow2", "path": "../d", "sha256": "` + sum + `"}`:           "leads out of the feed",
		`"d": {"ftype": "qcow2", "path": "/etc/d", "sha256": "` + sum + `"}`:         "leads out of the feed",
		`"d": {"ftype": "qcow2", "path": "http://x/d", "sha256": "` + sum + `"}`:     "leads out of the feed",
		`"d": {"ftype": "qcow2", "path": "d", "size": -1, "sha256": "` + sum + `"}`:  "has -1 bytes",
		`"d": {"ftype": "qcow2", "path": "d", "size": "x", "sha256": "` + sum + `"}`: "size has to be a whole number, and is a text",
		`"d": 3`: "item d: it has to be an object, and is a number",
	} {
		offers, left, err := Products(products(`"p": `+version(items)), "")
		require.NoError(t, err, items)
		require.Empty(t, offers, items)
		require.Len(t, left, 1, items)
		require.Contains(t, left[0], "product p, version 1: ", items)
		require.Contains(t, left[0], why, items)
	}
	offers, left, err := Products(products(`"p": 3, "q": `+version(`"d": {"ftype": "vhd", "path": "d", "sha256": "`+
		sum+`"}`)), "")
	require.NoError(t, err)
	require.Len(t, offers, 1, "one that is wrong keeps none of the others out")
	require.Contains(t, left[0], "product p: ")
	for text, why := range map[string]string{
		"<html>":                      "no JSON file",
		`{"format": "index:1.0"}`:     `its format is "index:1.0", and that of products is products:1.0`,
		`{"format": "products:\n9"}`:  `its format is "products: 9"`,
		`{"products": {"p": "quay"}}`: `its format is ""`,
	} {
		_, _, err := Products([]byte(text), "")
		require.ErrorContains(t, err, why)
	}
}

func TestAnIndexNamesTheFilesOfProducts(t *testing.T) {
	t.Parallel()
	files, err := Index([]byte(`{"format": "index:1.0", "index": {
		"b": {"datatype": "image-downloads", "format": "products:1.0", "path": "streams/v1/b.json"},
		"a": {"format": "products:1.0", "path": "streams/v1/a.json"},
		"c": {"datatype": "image-ids", "format": "products:1.0", "path": "streams/v1/c.json"}}}`))
	require.NoError(t, err)
	require.Equal(t, []Named{{"streams/v1/a.json", "a"}, {"streams/v1/b.json", "b"}}, files)
	for text, why := range map[string]string{
		"no":                         "no JSON file",
		`{"format": "products:1.0"}`: "that of an index is index:1.0",
		`{"format": "index:1.0"}`:    "it names no file of products",
		`{"format": "index:1.0", "index": {"a": {"format": "products:1.0", "path": "../a"}}}`: "leads out of the feed",
	} {
		_, err := Index([]byte(text))
		require.ErrorContains(t, err, why)
	}
	require.True(t, IsProducts(products("")))
	require.False(t, IsProducts([]byte("[]")))
}

func offer(release, serial string) Offer {
	return Offer{
		Product: "harbour:" + release, Serial: serial, Codename: "name" + release, Architecture: base.Architecture,
		Labels: base.Labels{Publisher: "Estuary Works", Product: "Harbour Linux", Release: release},
	}
}

func TestTheNewestOfAProductIsFoundOrWhatThereIsInstead(t *testing.T) {
	t.Parallel()
	arm := offer("14", "3")
	arm.Product, arm.Architecture = "harbour:14:arm", "aarch64"
	offers := []Offer{offer("12", "20260901"), offer("13", "9"), offer("13", "10"), arm}
	want := func(release, serial string) Want {
		return Want{Labels: base.Labels{Product: "harbour linux", Release: release}, Serial: serial}
	}
	one, err := want("13", "").One(offers)
	require.NoError(t, err)
	require.Equal(t, "10", one.Serial)
	one, err = want("NAME12", "").One(offers)
	require.NoError(t, err, "the code name will do")
	require.Equal(t, "20260901", one.Serial)
	one, err = want("13", "9").One(offers)
	require.NoError(t, err)
	require.Equal(t, "9", one.Serial)
	for _, c := range []struct {
		want Want
		why  string
	}{
		{want("", ""), "several products are meant by product harbour linux: say which of Estuary Works Harbour " +
			"Linux 12 x86_64; Estuary Works Harbour Linux 13 x86_64"},
		{want("15", ""), "the feed has no product harbour linux, release 15: it has Estuary Works Harbour Linux 12"},
		{want("13", "11"), "the feed has no product harbour linux, release 13, serial 11 any more, or not yet: the " +
			"newest is serial 10"},
		{want("14", ""), "only for machines of architecture aarch64, and hosts are x86_64"},
		{Want{Text: "quay"}, "the feed has no text quay"},
	} {
		_, err := c.want.One(offers)
		require.ErrorContains(t, err, c.why)
	}
	Sort(offers)
	require.Equal(t, []string{"3", "10", "9", "20260901"}, []string{
		offers[0].Serial, offers[1].Serial, offers[2].Serial, offers[3].Serial,
	})
	require.True(t, Want{Text: "ESTUARY works"}.Meets(offers[0]))
	require.Equal(t, "any release", Want{}.String())
}

func TestSerialsAreComparedByTheirNumbers(t *testing.T) {
	t.Parallel()
	order := []string{
		"", "9", "10", "20261105", "20261105.1", "20261105.2", "20261105.10", "20261106-rc", "a", "a2", "a10",
	}
	for i, a := range order {
		for j, b := range order {
			require.Equal(t, i < j, CompareSerials(a, b) < 0, "%q %q", a, b)
			require.Equal(t, i > j, CompareSerials(a, b) > 0, "%q %q", a, b)
		}
	}
	require.Zero(t, CompareSerials("007", "7"))
}

func TestASignedFeedIsThatOfWhoseKeyIsGiven(t *testing.T) {
	t.Parallel()
	pair := func() (*openpgp.Entity, string) {
		e, err := openpgp.NewEntity("Estuary Works", "", "feed@estuary.example",
			&packet.Config{Algorithm: packet.PubKeyAlgoRSA, RSABits: 2048})
		require.NoError(t, err)
		var b bytes.Buffer
		w, err := armor.Encode(&b, openpgp.PublicKeyType, nil)
		require.NoError(t, err)
		require.NoError(t, e.Serialize(w))
		require.NoError(t, w.Close())
		return e, b.String()
	}
	vendor, key := pair()
	_, another := pair()
	var signed bytes.Buffer
	w, err := clearsign.Encode(&signed, vendor.PrivateKey, nil)
	require.NoError(t, err)
	_, err = w.Write([]byte(`{"format": "index:1.0"}`))
	require.NoError(t, err)
	require.NoError(t, w.Close())

	for _, keys := range []string{key, key + "\n" + another, another + "\n" + key} {
		text, at, err := Signed(signed.Bytes(), keys)
		require.NoError(t, err)
		require.JSONEq(t, `{"format": "index:1.0"}`, string(text))
		require.WithinDuration(t, time.Now(), at, time.Hour)
	}
	_, _, err = Signed(signed.Bytes(), another)
	require.ErrorContains(t, err, "its signature is not right")
	weak := bytes.NewBufferString("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA1\n\n{}\n")
	sig := &packet.Signature{
		Version: 4, SigType: packet.SigTypeText, PubKeyAlgo: vendor.PrivateKey.PubKeyAlgo, Hash: crypto.SHA1,
		CreationTime: time.Now(), IssuerKeyId: &vendor.PrivateKey.KeyId,
	}
	hash, err := sig.PrepareSign(nil)
	require.NoError(t, err)
	_, err = hash.Write([]byte("{}"))
	require.NoError(t, err)
	require.NoError(t, sig.Sign(hash, vendor.PrivateKey,
		&packet.Config{NonDeterministicSignaturesViaNotation: new(bool)}))
	w, err = armor.Encode(weak, openpgp.SignatureType, nil)
	require.NoError(t, err)
	require.NoError(t, sig.Serialize(w))
	require.NoError(t, w.Close())
	_, _, err = Signed(weak.Bytes(), key)
	require.ErrorContains(t, err, "SHA-1) with which another file could have the same one")
	_, _, err = Signed(bytes.Replace(signed.Bytes(), []byte("index"), []byte("other"), 1), key)
	require.ErrorContains(t, err, "its signature is not right")
	_, _, err = Signed([]byte(`{"format": "index:1.0"}`), key)
	require.ErrorContains(t, err, "it is not signed")
	require.NoError(t, CheckKey(key))
	var binary bytes.Buffer
	require.NoError(t, vendor.Serialize(&binary))
	written, err := Armoured(binary.Bytes())
	require.NoError(t, err)
	_, _, err = Signed(signed.Bytes(), written)
	require.NoError(t, err)
	asItIs, err := Armoured([]byte(key))
	require.NoError(t, err)
	require.Equal(t, key, asItIs)
	_, err = Armoured([]byte("no key"))
	require.Error(t, err)
	require.ErrorContains(t, CheckKey(key+"\n-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nxxxx\n-----END PGP PUBLIC KEY "+
		"BLOCK-----\n"), "key block 2 cannot be read")
	require.ErrorContains(t, CheckKey("ssh-ed25519 AAAA"), "no OpenPGP public key")
	var private bytes.Buffer
	aw, err := armor.Encode(&private, openpgp.PrivateKeyType, nil)
	require.NoError(t, err)
	require.NoError(t, vendor.SerializePrivate(aw, nil))
	require.NoError(t, aw.Close())
	require.ErrorContains(t, CheckKey(private.String()), "private key")
}
