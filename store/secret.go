package store

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
)

// NewSecret returns 256 random bits as text: a token, a credential, or what a session is known by.
func NewSecret() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // it does not fail
	return base64.RawURLEncoding.EncodeToString(b)
}

// Digest is what is kept of a secret: its SHA-256. A random secret needs no slower one.
func Digest(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}
