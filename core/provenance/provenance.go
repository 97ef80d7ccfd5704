// Package provenance writes down how a version was made, in a form that others
// can check: a statement in the in-toto form with a SLSA provenance in it,
// signed in a DSSE envelope with an ed25519 key.
//
// Whoever has the envelope and the service's public key can tell, without the
// service, that a disk is the one that this version was sealed as, and from
// what, by which steps and on whose word it was made. No secret is in it: what
// a sheet takes from elsewhere is named and not told.
package provenance

import (
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
	"time"

	slsa "github.com/in-toto/attestation/go/predicates/provenance/v1"
	intoto "github.com/in-toto/attestation/go/v1"
	"github.com/secure-systems-lab/go-securesystemslib/dsse"
	"google.golang.org/protobuf/encoding/protojson"
	"google.golang.org/protobuf/types/known/structpb"
	"google.golang.org/protobuf/types/known/timestamppb"
)

// Forms of what is written (https://in-toto.io/Statement/v1, https://slsa.dev/spec/v1.0/provenance).
const (
	payloadType   = "application/vnd.in-toto+json"
	predicateType = "https://slsa.dev/provenance/v1"
)

// Kinds of builds, as a statement names them: what its parameters mean follows from that.
const (
	BySheet = "urn:nimblepane:build-sheet:1"
	// BySheetAndHand is a build with manual work on its machine, or that was continued after a failure: its sheet
	// does not describe the whole disk.
	BySheetAndHand = "urn:nimblepane:build-sheet-and-manual-work:1"
	ByHand         = "urn:nimblepane:capture-by-hand:1"
)

// MostOfEnvelope is how long an envelope may be that is read, in bytes.
const MostOfEnvelope = 16 << 20

// Thing is something that went into a version or came of it.
type Thing struct {
	Name   string `json:"name"`
	URI    string `json:"uri,omitempty"`    // where it came from
	SHA256 string `json:"sha256,omitempty"` // in hexadecimal digits; "" if that is not known
}

// Made is how a version was made.
type Made struct {
	Version  Thing             // its name, and the digest of its disk
	Kind     string            // of the build
	Told     map[string]any    // what whoever began it said: sheet, parameters, commit
	Did      map[string]any    // what was done then: steps, seal checks, what was sealed
	From     []Thing           // bases, files, what was fetched
	Brought  []Thing           // beside the disk
	Builder  string            // a URI of the service
	Versions map[string]string // of the programs that made it
	Run      string            // the build, as the service calls it
	Began    time.Time
	Ended    time.Time
}

// Statement writes it as an in-toto statement with a SLSA provenance, in JSON.
func Statement(m Made) ([]byte, error) {
	told, err := plain(m.Told)
	if err != nil {
		return nil, fmt.Errorf("what was said: %w", err)
	}
	did, err := plain(m.Did)
	if err != nil {
		return nil, fmt.Errorf("what was done: %w", err)
	}
	p := &slsa.Provenance{
		BuildDefinition: &slsa.BuildDefinition{
			BuildType: m.Kind, ExternalParameters: told, InternalParameters: did,
			ResolvedDependencies: described(m.From),
		},
		RunDetails: &slsa.RunDetails{
			Builder: &slsa.Builder{Id: m.Builder, Version: m.Versions},
			Metadata: &slsa.BuildMetadata{
				InvocationId: m.Run, StartedOn: timestamppb.New(m.Began), FinishedOn: timestamppb.New(m.Ended),
			},
			Byproducts: described(m.Brought),
		},
	}
	text, err := protojson.Marshal(p)
	if err != nil {
		return nil, err
	}
	predicate := &structpb.Struct{}
	if err := protojson.Unmarshal(text, predicate); err != nil {
		return nil, err
	}
	s := &intoto.Statement{
		Type: intoto.StatementTypeUri, PredicateType: predicateType, Predicate: predicate,
		Subject: described([]Thing{m.Version}),
	}
	if err := errors.Join(p.Validate(), s.Validate()); err != nil {
		return nil, err
	}
	if text, err = protojson.Marshal(s); err != nil {
		return nil, err
	}
	// The library varies its spaces, so that nobody relies on them.
	var out bytes.Buffer
	err = json.Compact(&out, text)
	return out.Bytes(), err
}

// plain makes of a value of ours what JSON has for it.
func plain(v map[string]any) (*structpb.Struct, error) {
	text, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	s := &structpb.Struct{}
	return s, protojson.Unmarshal(text, s)
}

func described(things []Thing) (list []*intoto.ResourceDescriptor) {
	for _, t := range things {
		if t.SHA256 == "" && t.URI == "" {
			continue // a descriptor needs a digest or a URI (in-toto attestation 1.0, ResourceDescriptor)
		}
		d := &intoto.ResourceDescriptor{Name: t.Name, Uri: t.URI}
		if t.SHA256 != "" {
			d.Digest = map[string]string{"sha256": t.SHA256}
		}
		list = append(list, d)
	}
	return list
}

// KeyID is how a public key is called: the SHA-256 of its DER form (RFC 8410), in hexadecimal digits.
func KeyID(key ed25519.PublicKey) string {
	sum := sha256.Sum256(der(key))
	return hex.EncodeToString(sum[:])
}

func der(key ed25519.PublicKey) []byte {
	out, err := x509.MarshalPKIXPublicKey(key)
	if err != nil {
		panic(err) // ed25519 is known to it
	}
	return out
}

// PEM writes a public key as programs read them.
func PEM(key ed25519.PublicKey) []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der(key)})
}

// PublicKeys reads the ed25519 keys of a text in PEM form.
func PublicKeys(text []byte) (keys []ed25519.PublicKey, err error) {
	for block, rest := pem.Decode(text); block != nil; block, rest = pem.Decode(rest) {
		if block.Type != "PUBLIC KEY" {
			return nil, fmt.Errorf("it has a %s in it, and should have a PUBLIC KEY", block.Type)
		}
		k, err := x509.ParsePKIXPublicKey(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("it is no public key: %w", err)
		}
		key, is := k.(ed25519.PublicKey)
		if !is {
			return nil, fmt.Errorf("it is a key of kind %T, and versions are signed with ed25519", k)
		}
		keys = append(keys, key)
	}
	if len(keys) == 0 {
		return nil, errors.New("there is no public key in it: it begins with -----BEGIN PUBLIC KEY-----")
	}
	return keys, nil
}

// PrivateKey reads an ed25519 key in PEM form (PKCS #8).
func PrivateKey(text []byte) (ed25519.PrivateKey, error) {
	block, _ := pem.Decode(text)
	if block == nil || block.Type != "PRIVATE KEY" {
		return nil, errors.New("there is no private key in it: make one with openssl genpkey -algorithm ed25519")
	}
	k, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("it is no private key: %w", err)
	}
	key, is := k.(ed25519.PrivateKey)
	if !is {
		return nil, fmt.Errorf("it is a key of kind %T: make one with openssl genpkey -algorithm ed25519", k)
	}
	return key, nil
}

// Sign puts a statement into an envelope (https://github.com/secure-systems-lab/dsse).
func Sign(statement []byte, key ed25519.PrivateKey) []byte {
	public := key.Public().(ed25519.PublicKey) // it is one
	text, _ := json.Marshal(dsse.Envelope{     // plain values: cannot fail
		PayloadType: payloadType, Payload: base64.StdEncoding.EncodeToString(statement),
		Signatures: []dsse.Signature{{
			KeyID: KeyID(public), Sig: base64.StdEncoding.EncodeToString(ed25519.Sign(key, dsse.PAE(payloadType,
				statement))),
		}},
	})
	return text
}

// Verified is what an envelope says, once one of the keys was found to have signed it.
type Verified struct {
	KeyID     string
	Version   Thing // the name of the version, and the digest of its disk
	Kind      string
	Builder   string
	Run       string
	Began     time.Time
	Ended     time.Time
	Told      map[string]any
	Did       map[string]any
	From      []Thing
	Brought   []Thing
	Statement []byte
}

// Verify returns what an envelope says if one of the keys has signed it. The error says why it is not to be trusted.
func Verify(envelope []byte, keys []ed25519.PublicKey) (v Verified, err error) {
	if len(envelope) > MostOfEnvelope {
		return v, fmt.Errorf("it has %d bytes, and %d are read", len(envelope), MostOfEnvelope)
	}
	var e dsse.Envelope
	if err := json.Unmarshal(envelope, &e); err != nil {
		return v, fmt.Errorf("it is no signed envelope: %w", err)
	}
	if e.PayloadType != payloadType {
		return v, fmt.Errorf("it is an envelope of %.60q, and should be one of %q", e.PayloadType, payloadType)
	}
	if v.Statement, err = e.DecodeB64Payload(); err != nil {
		return v, fmt.Errorf("its content cannot be read: %w", err)
	}
	text := dsse.PAE(e.PayloadType, v.Statement)
	for _, s := range e.Signatures {
		sig, err := base64.StdEncoding.DecodeString(s.Sig)
		if err != nil {
			continue
		}
		for _, key := range keys {
			if ed25519.Verify(key, text, sig) {
				v.KeyID = KeyID(key)
			}
		}
	}
	if v.KeyID == "" {
		return v, errors.New("none of the keys has signed it as it is: it was changed, or is of another service")
	}
	return v, v.read()
}

// read reads the statement.
func (v *Verified) read() error {
	s := &intoto.Statement{}
	lenient := protojson.UnmarshalOptions{DiscardUnknown: true}
	if err := lenient.Unmarshal(v.Statement, s); err != nil {
		return fmt.Errorf("it is signed, and is no statement: %w", err)
	}
	if s.GetPredicateType() != predicateType || len(s.GetSubject()) != 1 {
		return fmt.Errorf("it is signed, and is a statement of kind %.60q about %d things: it should be one of %q "+
			"about one", s.GetPredicateType(), len(s.GetSubject()), predicateType)
	}
	text, err := protojson.Marshal(s.GetPredicate())
	if err != nil {
		return err
	}
	p := &slsa.Provenance{}
	if err := lenient.Unmarshal(text, p); err != nil {
		return fmt.Errorf("it is signed, and is no provenance: %w", err)
	}
	d, run := p.GetBuildDefinition(), p.GetRunDetails()
	v.Version = things(s.GetSubject())[0]
	v.Kind, v.Builder, v.Run = d.GetBuildType(), run.GetBuilder().GetId(), run.GetMetadata().GetInvocationId()
	v.Began, v.Ended = run.GetMetadata().GetStartedOn().AsTime(), run.GetMetadata().GetFinishedOn().AsTime()
	v.Told, v.Did = d.GetExternalParameters().AsMap(), d.GetInternalParameters().AsMap()
	v.From, v.Brought = things(d.GetResolvedDependencies()), things(run.GetByproducts())
	return nil
}

func things(list []*intoto.ResourceDescriptor) (out []Thing) {
	for _, d := range list {
		out = append(out, Thing{Name: d.GetName(), URI: d.GetUri(), SHA256: d.GetDigest()["sha256"]})
	}
	return out
}

// Digest takes the hexadecimal digits out of a digest as versions have it, "sha256:...".
func Digest(digest string) string { return strings.TrimPrefix(digest, "sha256:") }
