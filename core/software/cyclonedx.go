package software

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	cdx "github.com/CycloneDX/cyclonedx-go"
	"github.com/github/go-spdx/v2/spdxexp"
	"github.com/github/go-spdx/v2/spdxexp/spdxlicenses"
	jsonv2 "github.com/go-json-experiment/json"
	jsonv1 "github.com/go-json-experiment/json/v1"
	"github.com/google/uuid"
	"github.com/klauspost/compress/gzip"
	"github.com/package-url/packageurl-go"

	"nimblepane/core/strict"
)

// What a document may hold at most.
const (
	MostOfDocument = 64 << 20 // bytes of it, not packed
	MostOfPacked   = 16 << 20 // bytes of it, packed
	MostEntries    = 50_000
	longestText    = 2_000 // bytes of a name, a version or whatever else is said of an entry
)

// Names of the properties by which a document says what CycloneDX has no field for.
const (
	propertyOrigin   = "nimblepane:origin"
	propertyPath     = "nimblepane:path"
	propertyNoticed  = "nimblepane:noticed"
	propertySecurity = "nimblepane:security-fix"
	propertyOpens    = "nimblepane:opens"
	propertyFacts    = "nimblepane:facts"
	propertySource   = "nimblepane:source"
	propertyManager  = "nimblepane:manager"
)

// Subject is the version that a document is about.
type Subject struct {
	Image, Number string
	Digest        string // of its disk, "sha256:..."
	Taken         time.Time
	Tool, Version string // that took it
}

// namespace is what serial numbers of documents are made in.
var namespace = uuid.MustParse("0f1c9f6e-6a0b-5b5e-9d3a-6a1f3c0c7e11")

// Document writes the list as CycloneDX 1.6, in JSON
// (https://cyclonedx.org/docs/1.6/json/). The facts are a property of the
// operating system, as JSON. The same list of the same version has the same
// document, to the letter.
func (l List) Document(s Subject) ([]byte, error) {
	bom := cdx.NewBOM()
	bom.SpecVersion = cdx.SpecVersion1_6
	bom.JSONSchema = "http://cyclonedx.org/schema/bom-1.6.schema.json"
	bom.SerialNumber = uuid.NewSHA1(namespace, []byte(s.Image+" "+s.Number+" "+s.Digest)).URN()
	about := &cdx.Component{
		BOMRef: "version", Type: cdx.ComponentTypeOS, Name: cmp.Or(s.Image, "machine"), Version: s.Number,
	}
	if sum, ok := strings.CutPrefix(s.Digest, "sha256:"); ok {
		about.Hashes = &[]cdx.Hash{{Algorithm: cdx.HashAlgoSHA256, Value: sum}}
	}
	bom.Metadata = &cdx.Metadata{
		Timestamp: s.Taken.UTC().Format(time.RFC3339), Component: about,
		Tools: &cdx.ToolsChoice{Components: &[]cdx.Component{{
			Type: cdx.ComponentTypeApplication, Name: s.Tool, Version: s.Version,
		}}},
	}
	facts, err := json.Marshal(l.Facts)
	if err != nil {
		return nil, err
	}
	about.Properties = &[]cdx.Property{{Name: propertyFacts, Value: string(facts)}}
	vendor, release := l.vendor()
	components := make([]cdx.Component, 0, len(l.Entries))
	seen := map[string]int{}
	for _, e := range l.Entries {
		c := e.component(vendor, release)
		if seen[c.BOMRef]++; seen[c.BOMRef] > 1 {
			c.BOMRef = fmt.Sprintf("%s#%d", c.BOMRef, seen[c.BOMRef])
		}
		components = append(components, c)
	}
	bom.Components = &components
	var out bytes.Buffer
	e := cdx.NewBOMEncoder(&out, cdx.BOMFileFormatJSON)
	e.SetEscapeHTML(true)
	if err := e.Encode(bom); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// vendor returns whose packages the system's are, and of which release, as package URLs name them: debian, 12.
func (l List) vendor() (vendor, release string) {
	for _, e := range l.Entries {
		if e.Origin == System {
			return e.Name, e.Version
		}
	}
	return "", ""
}

func (e Entry) component(vendor, release string) cdx.Component {
	c := cdx.Component{
		Type: cdx.ComponentTypeLibrary, Name: e.Name, Version: e.Version, Description: e.Summary,
		PackageURL: e.packageURL(vendor, release),
	}
	c.BOMRef = cmp.Or(c.PackageURL, string(e.Origin)+"/"+e.Name+"@"+e.Version)
	switch {
	case e.Origin == System:
		c.Type = cdx.ComponentTypeOS
	case e.Origin == Application || e.Noticed:
		c.Type = cdx.ComponentTypeApplication
	}
	if e.Publisher != "" {
		c.Publisher = e.Publisher
	}
	if e.Licence != "" {
		c.Licenses = &cdx.Licenses{licence(e.Licence)}
	}
	var more []cdx.Property
	say := func(name, value string) {
		if value != "" {
			more = append(more, cdx.Property{Name: name, Value: value})
		}
	}
	say(propertyOrigin, string(e.Origin))
	say(propertySource, strings.TrimSpace(e.Source+" "+e.SourceVersion))
	say(propertyPath, e.Path)
	say(propertyManager, string(e.Manager))
	if e.Noticed {
		say(propertyNoticed, "true")
	}
	if e.Security {
		say(propertySecurity, "true")
	}
	for _, o := range e.Opens {
		say(propertyOpens, o)
	}
	c.Properties = &more
	return c
}

// licence is a licence by its SPDX identifier or as an SPDX expression, where it is one, and otherwise by its name.
func licence(text string) cdx.LicenseChoice {
	for _, known := range []func(string) (bool, string){
		spdxlicenses.IsActiveLicense,
		spdxlicenses.IsDeprecatedLicense,
	} {
		if is, id := known(text); is {
			return cdx.LicenseChoice{License: &cdx.License{ID: id}}
		}
	}
	if valid, _ := spdxexp.ValidateLicenses([]string{text}); valid {
		return cdx.LicenseChoice{Expression: text}
	}
	return cdx.LicenseChoice{License: &cdx.License{Name: text}}
}

// packageURL is how the world calls it (https://github.com/package-url/purl-spec).
// There is none of an operating system and of what a build sheet lists.
func (e Entry) packageURL(vendor, release string) string {
	var qualifiers packageurl.Qualifiers
	qualify := func(key, value string) {
		if value != "" {
			qualifiers = append(qualifiers, packageurl.Qualifier{Key: key, Value: value})
		}
	}
	kind, group, name, version := packageurl.TypeGeneric, "", e.Name, e.Version
	switch e.Origin {
	case Application, System, Other:
		return ""
	case Deb, RPM:
		kind, group = string(e.Origin), vendor
		qualify("arch", e.Arch)
		if vendor != "" && release != "" {
			qualify("distro", vendor+"-"+release)
		}
		if epoch, rest, has := strings.Cut(version, ":"); has && e.Origin == RPM {
			version = rest
			qualify("epoch", epoch)
		}
		if e.Source != "" && e.Origin == Deb {
			qualify("upstream", strings.TrimSuffix(e.Source+"@"+e.SourceVersion, "@"))
		}
	case Python:
		kind, name = packageurl.TypePyPi, strings.ReplaceAll(strings.ToLower(e.Name), "_", "-")
	case NPM:
		kind = packageurl.TypeNPM
		if scope, rest, ok := strings.Cut(e.Name, "/"); ok {
			group, name = scope, rest
		}
	default:
		qualify("arch", e.Arch)
	}
	return packageurl.NewPackageURL(kind, group, name, version, qualifiers, "").ToString()
}

// Read reads a document in CycloneDX 1.2 to 1.6, in JSON. The error says what
// is wrong with one that cannot be. Texts keep what is in them but NUL and what
// is no UTF-8: whoever shows them has to see to it that they do no harm.
func Read(document []byte) (l List, s Subject, err error) {
	if len(document) > MostOfDocument {
		return l, s, fmt.Errorf("it has %d bytes, and %d are read", len(document), MostOfDocument)
	}
	var bom cdx.BOM
	// As the library's own decoder, in two thirds of the time.
	if err := jsonv2.Unmarshal(document, &bom, jsonv1.DefaultOptionsV1()); err != nil {
		return l, s, noDocument(document, err)
	}
	if bom.BOMFormat != cdx.BOMFormat || bom.SpecVersion < cdx.SpecVersion1_2 || bom.SpecVersion > cdx.SpecVersion1_6 {
		return l, s, noDocument(document, nil)
	}
	if bom.Metadata != nil {
		s, err = readMetadata(*bom.Metadata, &l)
		if err != nil {
			return l, s, err
		}
	}
	if bom.Components == nil || len(*bom.Components) == 0 {
		return l, s, errors.New("it lists no components")
	}
	if n := len(*bom.Components); n > MostEntries {
		return l, s, fmt.Errorf("it lists %d components, and %d are read", n, MostEntries)
	}
	for i, c := range *bom.Components {
		e, err := readComponent(c)
		if err != nil {
			return l, s, fmt.Errorf("component %d: %w", i+1, err)
		}
		l.Entries = append(l.Entries, e)
	}
	l.Entries = tidy(l.Entries)
	return l, s, nil
}

// noDocument says why a text is no document that is read.
func noDocument(document []byte, otherwise error) error {
	var format struct {
		Format  string `json:"bomFormat"`
		Version string `json:"specVersion"`
	}
	if err := json.Unmarshal(document, &format); err != nil {
		return fmt.Errorf("it is no JSON object: %w", strict.JSON(err))
	}
	if format.Format != cdx.BOMFormat {
		return fmt.Errorf("it is no CycloneDX: bomFormat is %.40q, and should be %q", format.Format, cdx.BOMFormat)
	}
	if v := []string{"1.2", "1.3", "1.4", "1.5", "1.6"}; !slices.Contains(v, format.Version) {
		return fmt.Errorf("it is CycloneDX %.20q: write one of %s", format.Version, strings.Join(v, ", "))
	}
	return fmt.Errorf("it is no CycloneDX %s: %w", format.Version, strict.JSON(otherwise))
}

func readMetadata(m cdx.Metadata, l *List) (s Subject, err error) {
	s.Taken, _ = time.Parse(time.RFC3339, m.Timestamp) // where it is none, none is known
	if m.Tools != nil && m.Tools.Components != nil && len(*m.Tools.Components) > 0 {
		tool := (*m.Tools.Components)[0]
		s.Tool, s.Version = clean(tool.Name), clean(tool.Version)
	}
	if m.Component == nil {
		return s, nil
	}
	s.Image, s.Number = clean(m.Component.Name), clean(m.Component.Version)
	if facts := property(m.Component.Properties, propertyFacts); facts != "" {
		if err := json.Unmarshal([]byte(clean(facts)), &l.Facts); err != nil {
			return s, fmt.Errorf("the property %s is none of ours: %w", propertyFacts, strict.JSON(err))
		}
	}
	return s, nil
}

func readComponent(c cdx.Component) (e Entry, err error) {
	e = Entry{
		Name: clean(c.Name), Version: clean(c.Version), Publisher: clean(c.Publisher), Summary: clean(c.Description),
		Path:    clean(property(c.Properties, propertyPath)),
		Noticed: property(c.Properties, propertyNoticed) == "true", Security: property(c.Properties,
			propertySecurity) == "true",
	}
	if strings.TrimSpace(e.Name) == "" {
		return e, errors.New("it has no name")
	}
	if c.Group != "" {
		e.Name = clean(c.Group) + "/" + e.Name
	}
	e.Origin = Origin(property(c.Properties, propertyOrigin))
	e.Source, e.SourceVersion, _ = strings.Cut(clean(property(c.Properties, propertySource)), " ")
	p, purlErr := packageurl.FromString(c.PackageURL)
	if purlErr == nil {
		e.Arch = clean(p.Qualifiers.Map()["arch"])
	}
	if !slices.Contains(Origins(), e.Origin) {
		e.Origin = originOf(c, p)
	}
	if epoch := clean(p.Qualifiers.Map()["epoch"]); epoch != "" && e.Origin == RPM && !strings.Contains(e.Version,
		":") {
		e.Version = epoch + ":" + e.Version
	}
	if m := Origin(property(c.Properties, propertyManager)); slices.Contains(Origins(), m) {
		e.Manager = m
	}
	if c.Licenses != nil {
		var names []string
		for _, l := range *c.Licenses {
			switch {
			case l.License != nil:
				names = append(names, clean(cmp.Or(l.License.ID, l.License.Name)))
			case l.Expression != "":
				names = append(names, clean(l.Expression))
			}
		}
		e.Licence = strings.Join(names, ", ")
	}
	if c.Properties != nil {
		for _, p := range *c.Properties {
			if p.Name == propertyOpens {
				e.Opens = append(e.Opens, clean(p.Value))
			}
		}
	}
	for _, text := range []string{
		e.Name, e.Version, e.Arch, e.Source, e.SourceVersion, e.Licence, e.Publisher, e.Path,
	} {
		if len(text) > longestText {
			return e, fmt.Errorf("%.40q... is longer than %d bytes", text, longestText)
		}
	}
	if len(e.Summary) > longestText {
		e.Summary = strings.ToValidUTF8(e.Summary[:longestText], "")
	}
	return e, nil
}

// originOf tells the origin of a component of a list that was made elsewhere.
func originOf(c cdx.Component, p packageurl.PackageURL) Origin {
	switch p.Type {
	case packageurl.TypeDebian:
		return Deb
	case packageurl.TypeRPM:
		return RPM
	case packageurl.TypePyPi:
		return Python
	case packageurl.TypeNPM:
		return NPM
	}
	if c.Type == cdx.ComponentTypeOS {
		return System
	}
	return Other
}

func property(list *[]cdx.Property, name string) string {
	if list != nil {
		for _, p := range *list {
			if p.Name == name {
				return p.Value
			}
		}
	}
	return ""
}

// clean replaces what no database column keeps.
func clean(text string) string {
	if !strings.Contains(text, "\x00") && utf8.ValidString(text) {
		return text
	}
	return strings.ReplaceAll(strings.ToValidUTF8(text, "\uFFFD"), "\x00", "\uFFFD")
}

// Pack packs a document, as it is sent and kept: gzip, RFC 1952.
func Pack(document []byte) []byte {
	var out bytes.Buffer
	w, _ := gzip.NewWriterLevel(&out, gzip.BestSpeed) // the level is one
	_, _ = w.Write(document)                          // a buffer takes all
	_ = w.Close()
	return out.Bytes()
}

// Unpack unpacks what was packed. It reads no further than a document may be long.
func Unpack(packed []byte) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, fmt.Errorf("it is not packed by gzip: %w", err)
	}
	out, err := io.ReadAll(io.LimitReader(r, MostOfDocument+1))
	switch {
	case err != nil:
		return nil, fmt.Errorf("it cannot be unpacked: %w", err)
	case len(out) > MostOfDocument:
		return nil, fmt.Errorf("it has more than %d bytes when it is unpacked", MostOfDocument)
	}
	return out, nil
}
