// Package seed is what a machine is told at its first start, and the disk that
// tells it.
//
// The disk follows cloud-init's NoCloud data source: an ISO 9660 file system
// labelled "cidata" with the files meta-data and user-data. An image with
// cloud-init takes its name and the agent's file from it as from any other
// such disk; without cloud-init the agent reads the disk itself.
package seed

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/diskfs/go-diskfs/backend/file"
	"github.com/diskfs/go-diskfs/filesystem/iso9660"
	"github.com/goccy/go-yaml"
)

// Seed is what the agent of a new machine needs.
type Seed struct {
	Name    string `yaml:"-"` // the machine's name, from the disk's meta-data
	Service string `yaml:"service"`
	Token   string `yaml:"token"`
}

// Path is where cloud-init leaves the seed for the agent.
const Path = "/etc/nimblepane/seed.yaml"

// label of a NoCloud disk.
const label = "cidata"

type metaData struct {
	InstanceID    string `yaml:"instance-id"`
	LocalHostname string `yaml:"local-hostname"`
}

// userData is the part of a cloud-config that the seed uses.
type userData struct {
	Hostname         string      `yaml:"hostname,omitempty"`
	PreserveHostname bool        `yaml:"preserve_hostname"`
	WriteFiles       []writeFile `yaml:"write_files"`
}

type writeFile struct {
	Path        string `yaml:"path"`
	Permissions string `yaml:"permissions"`
	Content     string `yaml:"content"`
}

// Disk returns a NoCloud disk that carries the seed, some 50 KB of ISO 9660.
func Disk(s Seed) (disk []byte, err error) {
	text, err := yaml.Marshal(s)
	if err != nil {
		return nil, err
	}
	// A new token is a new machine to cloud-init, so that it does its work again after a rebuild.
	sum := sha256.Sum256([]byte(s.Token))
	meta, err := yaml.Marshal(metaData{InstanceID: s.Name + "-" + hex.EncodeToString(sum[:6]), LocalHostname: s.Name})
	if err != nil {
		return nil, err
	}
	user, err := yaml.Marshal(userData{
		Hostname:   s.Name,
		WriteFiles: []writeFile{{Path: Path, Permissions: "0600", Content: string(text)}},
	})
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "nimblepane-seed-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	name := filepath.Join(dir, "seed.iso")
	f, err := os.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	files := filepath.Join(dir, "files")
	if err := os.Mkdir(files, 0o700); err != nil {
		return nil, err
	}
	disc, err := iso9660.Create(file.New(f, false), 1<<20, 0, 2048, files)
	if err != nil {
		return nil, fmt.Errorf("make the seed disk: %w", err)
	}
	for name, content := range map[string][]byte{
		"meta-data": meta,
		"user-data": append([]byte("#cloud-config\n"), user...),
	} {
		w, err := disc.OpenFile("/"+name, os.O_CREATE|os.O_RDWR)
		if err != nil {
			return nil, fmt.Errorf("make the seed disk: %w", err)
		}
		if _, err := w.Write(content); err != nil {
			return nil, fmt.Errorf("make the seed disk: %w", err)
		}
	}
	if err := disc.Finalize(iso9660.FinalizeOptions{RockRidge: true, VolumeIdentifier: label}); err != nil {
		return nil, fmt.Errorf("make the seed disk: %w", err)
	}
	return os.ReadFile(name)
}

// Read reads the seed from a disk, given as a device or a file. fs.ErrNotExist
// is in the error if the disk is no seed of ours.
func Read(path string) (s Seed, err error) {
	f, err := os.Open(path)
	if err != nil {
		return s, err
	}
	defer f.Close()
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return s, err
	}
	disc, err := iso9660.Read(file.New(f, true), size, 0, 2048)
	if err != nil {
		return s, fmt.Errorf("%s: %w", path, err)
	}
	if got := strings.Trim(disc.Label(), "\x00 "); !strings.EqualFold(got, label) {
		return s, fmt.Errorf("%s is labelled %q and not %q: %w", path, got, label, fs.ErrNotExist)
	}
	var meta metaData
	var user userData
	for name, into := range map[string]any{"meta-data": &meta, "user-data": &user} {
		r, err := disc.OpenFile("/"+name, os.O_RDONLY)
		if err != nil {
			return s, fmt.Errorf("%s: %s: %w", path, name, err)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			return s, fmt.Errorf("%s: %s: %w", path, name, err)
		}
		if err := yaml.Unmarshal(text, into); err != nil {
			return s, fmt.Errorf("%s: %s: %w", path, name, err)
		}
	}
	for _, w := range user.WriteFiles {
		if w.Path == Path {
			s, err = parse([]byte(w.Content))
			s.Name = meta.LocalHostname
			return s, err
		}
	}
	return s, fmt.Errorf("%s has no %s among its files: %w", path, Path, fs.ErrNotExist)
}

func parse(text []byte) (s Seed, err error) {
	if err := yaml.NewDecoder(bytes.NewReader(text)).Decode(&s); err != nil {
		return s, err
	}
	if s.Service == "" || s.Token == "" {
		return s, errors.New("the seed has to name a service and a token")
	}
	return s, nil
}

// Find looks for the machine's seed: the file that cloud-init left, or else a
// disk with the label. fs.ErrNotExist is in the error if there is none, as on
// a build machine.
func Find() (Seed, error) {
	text, err := os.ReadFile(File)
	if err == nil {
		s, err := parse(text)
		if err != nil {
			return s, fmt.Errorf("%s: %w", File, err)
		}
		return s, nil
	}
	if !errors.Is(err, fs.ErrNotExist) {
		return Seed{}, err
	}
	for _, p := range disks() {
		if _, err := os.Stat(p); err == nil {
			return Read(p)
		}
	}
	return Seed{}, fmt.Errorf("there is neither %s nor a disk labelled %s: %w", File, label, fs.ErrNotExist)
}
