// Package feed reads a vendor's list of releases in the simplestreams format
// (products:1.0 and index:1.0, the JSON files that distributions publish beside
// their images), and finds the release in it that somebody means.
//
// An index names files of products; a product has versions, which are told
// apart by a serial such as 20261105; a version has items, which are files with
// their size and digest. What is said of the whole holds for its parts, unless
// these say something else. Of each version the one item is taken that is a
// disk; the others are told as what comes with it.
package feed

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"nimblepane/core/base"
	"nimblepane/core/strict"
)

// Bounds of what is read.
const (
	MostBytes  = 32 << 20 // of one file of a feed
	MostFiles  = 200      // that an index names
	MostOffers = 50_000
	MostKept   = 96 << 20 // of all its releases, as they are kept
	mostText   = 200      // bytes of a name
	mostWith   = 50       // files that are told to come with a release
)

// Offer is a release that a feed has.
type Offer struct {
	Product      string      `json:"product"` // the feed's own name of it, which nobody has to know
	Serial       string      `json:"serial"`  // of the release's build, such as 20261105
	Labels       base.Labels `json:"labels"`
	Codename     string      `json:"codename,omitempty"`
	Architecture string      `json:"architecture,omitempty"` // such as x86_64
	Supported    string      `json:"supported,omitempty"`    // until when, as the feed says it
	Path         string      `json:"path"`                   // of the disk, from the feed's root
	Kind         string      `json:"kind"`                   // of file that the feed says it is
	Size         int64       `json:"size"`                   // in bytes; 0 if that is not said
	SHA256       string      `json:"sha256"`
	With         []Extra     `json:"with,omitempty"`
}

// Extra is a file that comes with a release and is not taken.
type Extra struct {
	Name string `json:"name"`
	Kind string `json:"kind,omitempty"`
	Size int64  `json:"size,omitempty"`
}

// Title is what people call the release.
func (o Offer) Title() string { return cmp.Or(o.Labels.Text(), o.Product) + " " + o.Serial }

// text is a value that is written as a text, a number or a truth.
type text string

func (t *text) UnmarshalJSON(b []byte) error {
	var v any
	if err := json.Unmarshal(b, &v); err != nil {
		return err
	}
	switch v := v.(type) {
	case string:
		*t = text(v)
	case float64, bool:
		*t = text(strings.TrimSpace(string(b)))
	default:
		*t = "" // such as null: nothing is said
	}
	return nil
}

// tags are what is said of a product, a version or an item.
type tags struct {
	Publisher    text `json:"publisher"`
	OS           text `json:"os"`
	OSTitle      text `json:"os_title"`
	Edition      text `json:"edition"`
	Variant      text `json:"variant"`
	Version      text `json:"version"`
	Release      text `json:"release"`
	ReleaseTitle text `json:"release_title"`
	Codename     text `json:"release_codename"`
	Arch         text `json:"arch"`
	SupportEnds  text `json:"support_eol"`
}

type stream struct {
	Format   text                       `json:"format"`
	DataType text                       `json:"datatype"`
	Products map[string]json.RawMessage `json:"products"`
}

type product struct {
	tags
	Versions map[string]json.RawMessage `json:"versions"`
}

type version struct {
	tags
	Items map[string]json.RawMessage `json:"items"`
}

type item struct {
	tags
	FType  text  `json:"ftype"`
	Path   text  `json:"path"`
	Size   int64 `json:"size"`
	SHA256 text  `json:"sha256"`
}

// Named is a file of products that an index names.
type Named struct {
	Path string `json:"path"` // from the feed's root
	ID   string `json:"id"`   // its content_id
}

// Index reads an index and returns the files of products that it names, by path.
func Index(file []byte) (files []Named, err error) {
	var index struct {
		Format text `json:"format"`
		Index  map[string]struct {
			DataType text `json:"datatype"`
			Format   text `json:"format"`
			Path     text `json:"path"`
		} `json:"index"`
	}
	if err := json.Unmarshal(file, &index); err != nil {
		return nil, fmt.Errorf("it is no JSON file of the simplestreams format: %w", strict.JSON(err))
	}
	if index.Format != "index:1.0" {
		return nil, fmt.Errorf("its format is %q, and that of an index is index:1.0", cut(string(index.Format)))
	}
	for _, name := range slices.Sorted(maps.Keys(index.Index)) {
		e := index.Index[name]
		if e.Format != "products:1.0" || e.DataType != "" && e.DataType != "image-downloads" {
			continue // something else that the vendor publishes
		}
		if err := checkPath(string(e.Path)); err != nil {
			return nil, fmt.Errorf("the path of %s: %w", cut(name), err)
		}
		files = append(files, Named{string(e.Path), name})
	}
	slices.SortFunc(files, func(a, b Named) int {
		return cmp.Or(cmp.Compare(a.Path, b.Path), cmp.Compare(a.ID, b.ID))
	})
	files = slices.CompactFunc(files, func(a, b Named) bool { return a.Path == b.Path })
	switch {
	case len(files) == 0:
		return nil, fmt.Errorf("it names no file of products with disk images (format products:1.0, datatype " +
			"image-downloads)")
	case len(files) > MostFiles:
		return nil, fmt.Errorf("it names %d files of products: at most %d are read", len(files), MostFiles)
	}
	return files, nil
}

// ContentID returns what a file says it is, "" if it does not.
func ContentID(file []byte) string {
	var s struct {
		ID text `json:"content_id"`
	}
	if json.Unmarshal(file, &s) != nil {
		return ""
	}
	return string(s.ID)
}

// IsProducts says whether a file is one of products, and not an index.
func IsProducts(file []byte) bool {
	var s struct {
		Format text `json:"format"`
	}
	return json.Unmarshal(file, &s) == nil && s.Format == "products:1.0"
}

// Products reads a file of products. The publisher is theirs unless they say another. What cannot be taken is left
// out, with a reason for each; the error is of a file that is none.
func Products(file []byte, publisher string) (offers []Offer, left []string, err error) {
	var top struct {
		tags
		stream
	}
	if err := json.Unmarshal(file, &top); err != nil {
		return nil, nil, fmt.Errorf("it is no JSON file of the simplestreams format: %w", strict.JSON(err))
	}
	if top.Format != "products:1.0" {
		return nil, nil, fmt.Errorf("its format is %q, and that of products is products:1.0", cut(string(top.Format)))
	}
	if top.tags.Publisher == "" {
		top.tags.Publisher = text(publisher)
	}
	for _, id := range slices.Sorted(maps.Keys(top.Products)) {
		p := product{tags: top.tags}
		if err := json.Unmarshal(top.Products[id], &p); err != nil {
			left = append(left, fmt.Sprintf("product %s: %s", cut(id), strict.JSON(err)))
			continue
		}
		for _, serial := range slices.Sorted(maps.Keys(p.Versions)) {
			o, err := offerOf(id, serial, p.tags, p.Versions[serial])
			if err != nil {
				left = append(left, fmt.Sprintf("product %s, version %s: %s", cut(id), cut(serial), err))
				continue
			}
			if offers = append(offers, o); len(offers) > MostOffers {
				return nil, nil, fmt.Errorf("it has more than %d releases, which are at most read", MostOffers)
			}
		}
	}
	return offers, left, nil
}

// offerOf reads a version of a product, and takes the item of it that is a disk.
func offerOf(id, serial string, of tags, raw json.RawMessage) (o Offer, err error) {
	v := version{tags: of}
	if err := json.Unmarshal(raw, &v); err != nil {
		return o, strict.JSON(err)
	}
	if id == "" || serial == "" || len(id) > mostText || len(serial) > mostText {
		return o, fmt.Errorf("its name has to have 1 to %d bytes", mostText)
	}
	var disk item
	chosen, best := "", 0
	for _, name := range slices.Sorted(maps.Keys(v.Items)) {
		i := item{tags: v.tags}
		if err := json.Unmarshal(v.Items[name], &i); err != nil {
			return o, fmt.Errorf("item %s: %w", cut(name), strict.JSON(err))
		}
		o.With = append(o.With, Extra{cut(name), cut(string(i.FType)), i.Size})
		if r := rank(i); r > best {
			disk, chosen, best = i, cut(name), r
		}
	}
	if best == 0 {
		return o, fmt.Errorf("none of its files is a disk (qcow2, img, raw, vhd, vhdx, vmdk)")
	}
	o.With = slices.DeleteFunc(o.With, func(e Extra) bool { return e.Name == chosen })
	o.With = o.With[:min(len(o.With), mostWith)]
	if err := checkPath(string(disk.Path)); err != nil {
		return o, fmt.Errorf("the path of item %s: %w", chosen, err)
	}
	sum := strings.ToLower(string(disk.SHA256))
	if err := base.CheckDigest(sum); err != nil {
		return o, fmt.Errorf("item %s has no SHA-256 digest, without which nobody can see that it is what was meant",
			chosen)
	}
	if disk.Size < 0 || disk.Size > base.MostBytes {
		return o, fmt.Errorf("item %s has %d bytes", chosen, disk.Size)
	}
	t := disk.tags
	o.Product, o.Serial, o.Path, o.Kind, o.Size, o.SHA256 = id, serial, string(disk.Path), cut(string(disk.FType)),
		disk.Size, sum
	o.Labels = base.Labels{
		Publisher: cut(string(t.Publisher)), Product: cut(string(cmp.Or(t.OSTitle, t.OS))),
		Edition: cut(string(cmp.Or(t.Edition, t.Variant))),
		Release: cut(string(cmp.Or(t.Version, t.ReleaseTitle, t.Release))),
	}
	o.Codename = cut(string(cmp.Or(t.Codename, t.Release)))
	o.Architecture = Architecture(cut(string(t.Arch)))
	o.Supported = cut(string(t.SupportEnds))
	return o, nil
}

// Architecture is what one is called here, that has several names.
func Architecture(name string) string {
	switch name {
	case "amd64", "x86-64":
		return "x86_64"
	case "arm64":
		return "aarch64"
	}
	return name
}

// kinds are the endings of files that are disks, what is taken before the others last.
var kinds = []string{".raw", ".vmdk", ".vhd", ".vhdx", ".img", ".qcow2"}

// usual are what distributions call the disk that is for any machine, where they have several of a kind.
var usual = []string{"disk.img", "disk1.img"}

// rank says whether an item is a disk that can be taken, and how gladly; 0 if it is none.
func rank(i item) int {
	for r, kind := range kinds {
		if path.Ext(string(i.Path)) == kind || strings.HasSuffix("."+string(i.FType), kind) &&
			!slices.Contains([]string{".xz", ".gz", ".zip", ".zst", ".bz2"}, path.Ext(string(i.Path))) {
			switch {
			case i.SHA256 == "":
				return 1 // another may say its digest
			case slices.Contains(usual, string(i.FType)):
				return 2*r + 3
			}
			return 2*r + 2
		}
	}
	return 0
}

// checkPath refuses a path that leads out of a feed.
func checkPath(p string) error {
	if p == "" || len(p) > 1000 || path.IsAbs(p) || path.Clean(p) != p || strings.HasPrefix(p, "..") ||
		strings.ContainsAny(p, "\\?#%\x00\n") {
		return fmt.Errorf("%q leads out of the feed, or is no path", cut(p))
	}
	return nil
}

// cut is a text of somebody else's as it is shown.
func cut(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "?"))
	if len(s) > mostText {
		s = strings.ToValidUTF8(s[:mostText], "") + "..."
	}
	return s
}
