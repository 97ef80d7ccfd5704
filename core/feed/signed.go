package feed

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
)

// CheckKey returns an error if that is no OpenPGP public key in its armoured form (RFC 9580).
func CheckKey(key string) error {
	_, err := keyring(key)
	return err
}

func keyring(key string) (openpgp.EntityList, error) {
	keys, err := openpgp.ReadArmoredKeyRing(bytes.NewReader([]byte(key)))
	if err != nil || len(keys) == 0 {
		return nil, errors.New("that is no OpenPGP public key: give the armoured text, which begins with -----BEGIN " +
			"PGP PUBLIC KEY BLOCK-----")
	}
	for _, k := range keys {
		if k.PrivateKey != nil {
			return nil, errors.New("that is a private key, which nobody should have given away: give the public one")
		}
	}
	return keys, nil
}

// Signed returns what was signed in a file in the cleartext form (RFC 9580, section 7), as feeds publish it with the
// ending .sjson, if one of the keys did so.
func Signed(file []byte, key string) ([]byte, error) {
	keys, err := keyring(key)
	if err != nil {
		return nil, err
	}
	block, rest := clearsign.Decode(file)
	if block == nil || len(bytes.TrimSpace(rest)) > 0 {
		return nil, errors.New("it is not signed, and the feed is to be")
	}
	if _, err := block.VerifySignature(keys, nil); err != nil {
		return nil, fmt.Errorf("its signature is not right: %w", err)
	}
	return block.Plaintext, nil
}
