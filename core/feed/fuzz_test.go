package feed

import (
	"testing"

	"nimblepane/internal/fuzzlimit"
)

func FuzzFeed(f *testing.F) {
	f.Add([]byte(products(`"a": {"arch": "amd64", "versions": {"1": {"items": {"d": {"ftype": "qcow2", "path": "d", "sha256": "` +
		sum + `"}}}}}`)))
	f.Add([]byte(`{"format": "index:1.0", "index": {"a": {"format": "products:1.0", "path": "a.json"}}}`))
	f.Add([]byte("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n{}\n-----BEGIN PGP SIGNATURE-----\n"))
	f.Fuzz(func(t *testing.T, file []byte) {
		defer fuzzlimit.Check(t)()
		_ = IsProducts(file)
		if files, err := Index(file); err == nil {
			for _, p := range files {
				if err := checkPath(p.Path); err != nil {
					t.Fatal(err)
				}
			}
		}
		offers, _, err := Products(file, "Estuary Works")
		if err != nil {
			return
		}
		for _, o := range offers {
			if err := checkPath(o.Path); err != nil {
				t.Fatal(err)
			}
		}
		_, _, _ = Signed(file, "")
	})
}
