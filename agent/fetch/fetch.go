// Package fetch fetches files over HTTP for build machines.
package fetch

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
)

// File fetches what is at the address and writes it to the path, for its owner
// only. Nothing is there, or what was there before, unless the content has the
// SHA-256 digest, in hexadecimal digits.
func File(ctx context.Context, address, digest, path string) (err error) {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return err
	}
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode != http.StatusOK {
		return fmt.Errorf("%s answered %s: see that the file is there, and that this machine may have it", address,
			response.Status)
	}
	part, err := os.CreateTemp(filepath.Dir(path), filepath.Base(path)+".part-*")
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.Remove(part.Name()))
		}
	}()
	sum := sha256.New()
	_, err = io.Copy(io.MultiWriter(part, sum), response.Body)
	if err = errors.Join(err, part.Close()); err != nil {
		return fmt.Errorf("fetch %s: %w", address, err)
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != digest {
		return fmt.Errorf("what came from %s has the digest %s, and not %s: it is another file, or was changed",
			address, got, digest)
	}
	return os.Rename(part.Name(), path)
}
