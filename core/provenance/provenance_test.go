package provenance_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"nimblepane/core/provenance"
)

func made() provenance.Made {
	return provenance.Made{
		Version: provenance.Thing{Name: "counter-desk 2026.11.1", SHA256: strings.Repeat("ab", 32)},
		Kind:    provenance.BySheet, Builder: "https://panes.example", Run: "build 7",
		Versions: map[string]string{"nimblepaned": "1.0"},
		Began:    time.Date(2026, 11, 28, 1, 0, 0, 0, time.UTC), Ended: time.Date(2026, 11, 28, 3, 0, 0, 0, time.UTC),
		Told: map[string]any{
			"sheet":      map[string]any{"commit": "c0ffee"},
			"parameters": map[string]string{"queue": "office"},
		},
		Did: map[string]any{"seal_checks": []map[string]any{{"check": "leftovers", "waived": "the manual's"}}},
		From: []provenance.Thing{
			{Name: "base harbour-13", URI: "https://images.example/13.qcow2", SHA256: strings.Repeat("cd", 32)},
			{Name: "disk vendor.qcow2"},
		},
		Brought: []provenance.Thing{{Name: "software list", SHA256: strings.Repeat("ef", 32)}},
	}
}

func TestHowAVersionWasMadeIsSignedAndVerified(t *testing.T) {
	t.Parallel()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	other, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	statement, err := provenance.Statement(made())
	require.NoError(t, err)
	again, err := provenance.Statement(made())
	require.NoError(t, err)
	require.Equal(t, string(statement), string(again))

	var form struct {
		Type          string `json:"_type"`
		PredicateType string
		Subject       []struct {
			Name   string
			Digest map[string]string
		}
		Predicate struct {
			BuildDefinition struct {
				BuildType          string
				ExternalParameters map[string]any
			}
		}
	}
	require.NoError(t, json.Unmarshal(statement, &form))
	require.Equal(t, "https://in-toto.io/Statement/v1", form.Type)
	require.Equal(t, "https://slsa.dev/provenance/v1", form.PredicateType)
	require.Equal(t, strings.Repeat("ab", 32), form.Subject[0].Digest["sha256"])
	require.Contains(t, form.Predicate.BuildDefinition.ExternalParameters, "parameters")

	envelope := provenance.Sign(statement, private)
	v, err := provenance.Verify(envelope, []ed25519.PublicKey{other, public})
	require.NoError(t, err)
	m := made()
	require.Equal(t, provenance.KeyID(public), v.KeyID)
	require.Equal(t, []any{m.Version, m.Kind, m.Builder, m.Run, m.Began, m.Ended, m.From[:1], m.Brought},
		[]any{v.Version, v.Kind, v.Builder, v.Run, v.Began, v.Ended, v.From, v.Brought})
	require.Equal(t, "c0ffee", v.Told["sheet"].(map[string]any)["commit"])
	m.Version.SHA256 = ""
	_, err = provenance.Statement(m)
	require.Error(t, err, "a subject has a digest")

	read, err := provenance.PublicKeys(append(provenance.PEM(other), provenance.PEM(public)...))
	require.NoError(t, err)
	require.Equal(t, []ed25519.PublicKey{other, public}, read)
}

func TestWhatIsNotToBeTrustedIsRefusedWithAReason(t *testing.T) {
	t.Parallel()
	public, private, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	other, _, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	statement, err := provenance.Statement(made())
	require.NoError(t, err)
	envelope := string(provenance.Sign(statement, private))
	keys := []ed25519.PublicKey{public}
	changed := base64.StdEncoding.EncodeToString([]byte(strings.Replace(string(statement), "ab", "ac", 1)))
	unchanged := base64.StdEncoding.EncodeToString(statement)
	type tried struct{ text, why string }
	for _, c := range []tried{
		{"", "it is no signed envelope"},
		{"{}", "it is an envelope of"},
		{strings.Replace(envelope, unchanged, changed, 1), "none of the keys has signed it as it is"},
		{strings.Replace(envelope, unchanged, "?", 1), "its content cannot be read"},
		{strings.Replace(envelope, "application/vnd.in-toto+json", "text/html", 1), `it is an envelope of "text/html"`},
		{string(provenance.Sign([]byte("tides"), private)), "it is signed, and is no statement"},
		{
			string(provenance.Sign([]byte(`{"predicateType": "x"}`), private)),
			`it is signed, and is a statement of kind "x" about 0 things`,
		},
	} {
		_, err := provenance.Verify([]byte(c.text), keys)
		require.ErrorContains(t, err, c.why)
	}
	_, err = provenance.Verify([]byte(envelope), []ed25519.PublicKey{other})
	require.ErrorContains(t, err, "none of the keys")
	_, err = provenance.Verify(make([]byte, provenance.MostOfEnvelope+1), keys)
	require.ErrorContains(t, err, "bytes, and")

	block := func(kind, content string) string {
		return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: []byte(content)}))
	}
	for _, c := range []tried{
		{"tides", "there is no public key in it"},
		{block("PUBLIC KEY", "x"), "it is no public key"},
		{block("CERTIFICATE", ""), "it has a CERTIFICATE in it"},
	} {
		_, err := provenance.PublicKeys([]byte(c.text))
		require.ErrorContains(t, err, c.why)
	}
	der, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	key, err := provenance.PrivateKey([]byte(block("PRIVATE KEY", string(der))))
	require.NoError(t, err)
	require.Equal(t, private, key)
	for _, text := range []string{"tides", block("PRIVATE KEY", "x")} {
		_, err := provenance.PrivateKey([]byte(text))
		require.Error(t, err)
	}
	odd := made()
	odd.Version.SHA256 = "no digits"
	_, err = provenance.Statement(odd)
	require.Error(t, err)
}
