// Package vendor plays a vendor that publishes disk images with a list of its
// releases, in the simplestreams format (index:1.0 and products:1.0).
//
// It publishes what is in a folder: feed.yaml says what is of which product and
// serial. The folder is read for each request, so that a release comes out by
// being put there.
package vendor

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"

	"github.com/goccy/go-yaml"
)

// File is the name of the list in the folder.
const File = "feed.yaml"

// List is what a vendor publishes.
type List struct {
	Publisher string    `yaml:"publisher"`
	Products  []Product `yaml:"products"`
}

// Product is one line of releases.
type Product struct {
	Name      string            `yaml:"name"`
	Edition   string            `yaml:"edition"`
	Release   string            `yaml:"release"`
	Codename  string            `yaml:"codename"`
	Supported string            `yaml:"supported"` // until when
	Serials   map[string]string `yaml:"serials"`   // the files of disks in the folder
	With      map[string]string `yaml:"with"`      // other files that come with each, by what they are
}

const (
	indexPath    = "streams/v1/index.json"
	productsPath = "streams/v1/disks.json"
	contentID    = "disks" // of the file of products
)

// Handler publishes a folder.
func Handler(folder fs.FS) http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /"+indexPath, func(w http.ResponseWriter, _ *http.Request) {
		answer(w, map[string]any{"format": "index:1.0", "index": map[string]any{contentID: map[string]string{
			"format": "products:1.0", "datatype": "image-downloads", "path": productsPath,
		}}}, nil)
	})
	mux.HandleFunc("GET /"+productsPath, func(w http.ResponseWriter, _ *http.Request) {
		list, err := products(folder)
		answer(w, list, err)
	})
	mux.Handle("GET /disks/", http.StripPrefix("/disks/", http.FileServerFS(folder)))
	return mux
}

func answer(w http.ResponseWriter, v any, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(v) // whoever asked has gone
}

// products is the file of products of a folder.
func products(folder fs.FS) (map[string]any, error) {
	text, err := fs.ReadFile(folder, File)
	if err != nil {
		return nil, err
	}
	var list List
	if err := yaml.UnmarshalWithOptions(text, &list, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s: %w", File, err)
	}
	of := map[string]any{}
	for _, p := range list.Products {
		versions := map[string]any{}
		for serial, name := range p.Serials {
			items := map[string]any{}
			for kind, name := range p.With {
				if items[kind], err = item(folder, kind, name); err != nil {
					return nil, err
				}
			}
			if items["disk"], err = item(folder, strings.TrimPrefix(path.Ext(name), "."), name); err != nil {
				return nil, err
			}
			versions[serial] = map[string]any{"items": items}
		}
		id := strings.ReplaceAll(strings.ToLower(strings.Join([]string{p.Name, p.Edition, p.Release, "amd64"}, ":")),
			" ", "-")
		of[id] = map[string]any{
			"os_title": p.Name, "edition": p.Edition, "version": p.Release, "release_codename": p.Codename,
			"arch": "amd64", "support_eol": p.Supported, "versions": versions,
		}
	}
	return map[string]any{
		"format": "products:1.0", "content_id": contentID, "datatype": "image-downloads", "publisher": list.Publisher,
		"products": of,
	}, nil
}

func item(folder fs.FS, kind, name string) (map[string]any, error) {
	f, err := folder.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	hash := sha256.New()
	size, err := io.Copy(hash, f)
	return map[string]any{
		"ftype": kind, "path": "disks/" + name, "size": size, "sha256": hex.EncodeToString(hash.Sum(nil)),
	}, err
}
