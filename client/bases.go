package client

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"net/http"
	"strconv"
	"time"

	"nimblepane/core/base"
	"nimblepane/core/disk"
	"nimblepane/core/image"
)

// Base is a disk image that versions are made from.
type Base struct {
	ID       int64       `json:"id"`
	Name     string      `json:"name"`
	Labels   base.Labels `json:"labels"`
	State    base.State  `json:"state"`
	Why      string      `json:"why,omitempty" doc:"Why it failed; while it comes, what it waits for"`
	File     string      `json:"file,omitempty" doc:"What it was called where it came from"`
	Address  string      `json:"address,omitempty" doc:"That it is fetched from"`
	Expected string      `json:"expected,omitempty" doc:"SHA-256 that the file has to have, if that was said"`
	Size     int64       `json:"size" doc:"Of the file, in bytes; 0 while that is not known"`
	Have     int64       `json:"have" doc:"Bytes of it that are there: it goes on with the next"`
	Rate     float64     `json:"rate,omitempty" doc:"Bytes that come in a second"`
	Left     float64     `json:"seconds_left,omitempty" doc:"Until all of it is there, if that can be said"`
	SHA256   string      `json:"sha256,omitempty" doc:"Of the whole file"`
	Format   disk.Format `json:"format,omitempty"`
	Progress int         `json:"progress" doc:"Of the converting, in per cent"`
	Digest   string      `json:"digest,omitempty" doc:"Of the disk that it was converted to"`
	Bytes    int64       `json:"bytes,omitempty" doc:"Of that"`
	Facts    base.Facts  `json:"facts"`
	AddedBy  string      `json:"added_by"`
	AddedAt  time.Time   `json:"added_at"`
	EndedAt  *time.Time  `json:"ended_at,omitempty" doc:"When it became ready, failed or was retired"`
	Feed     string      `json:"feed,omitempty" doc:"That it is a release of"`
	Product  string      `json:"product,omitempty" doc:"The feed's name of what it is of"`
	Serial   string      `json:"serial,omitempty" doc:"Of the release"`
	Newer    *Offer      `json:"newer,omitempty" doc:"The newest release of its product, if that is newer"`
	Copies   []BaseCopy  `json:"copies" nullable:"false"`
}

// BaseCopy is a base's disk at a site.
type BaseCopy struct {
	Site     string          `json:"site"`
	State    image.CopyState `json:"state"`
	Why      string          `json:"why,omitempty"`
	Progress int             `json:"progress" doc:"In per cent"`
}

// NewBase asks for a base to be brought in: from an address, or of a file whose pieces are sent next.
type NewBase struct {
	Name    string      `json:"name" doc:"Small letters, digits, points and hyphens, at most 60"`
	Labels  base.Labels `json:"labels,omitempty"`
	Address string      `json:"address,omitempty" maxLength:"2000" doc:"http:// or https://; left out if it is sent"`
	File    string      `json:"file,omitempty" maxLength:"200" doc:"What the file that is sent is called"`
	Size    int64       `json:"size,omitempty" minimum:"0" doc:"Of the file that is sent, in bytes"`
	SHA256  string      `json:"sha256,omitempty" doc:"That the file has to have"`
	Feed    string      `json:"feed,omitempty" doc:"To take a release from, which labels and serial say"`
	Serial  string      `json:"serial,omitempty" doc:"Of the release; the newest if it is left out"`
}

// Bases lists bases, those that were added last first; with gone, also those that are retired.
func (c *Client) Bases(ctx context.Context, gone bool) ([]Base, error) {
	p, err := get[Page[Base]](ctx, c, "/bases", values("gone", strconv.FormatBool(gone)))
	return p.Items, err
}

// Base returns a base.
func (c *Client) Base(ctx context.Context, name string) (Base, error) {
	return get[Base](ctx, c, pathOf("bases", name), nil)
}

// BringBase begins to bring in a base.
func (c *Client) BringBase(ctx context.Context, in NewBase) (Base, error) {
	return answer[Base](ctx, c, request{method: http.MethodPost, path: "/bases", body: in})
}

// SendBasePiece sends what comes next of a base's file, from a byte of it on.
func (c *Client) SendBasePiece(ctx context.Context, name string, from int64, piece []byte) (Base, error) {
	return answer[Base](ctx, c, request{
		method: http.MethodPut, path: pathOf("bases", name) + "/piece", query: values("from",
			strconv.FormatInt(from, 10)), body: piece, contentType: "application/octet-stream",
	})
}

// RetireBase gives a base up: its disk is deleted everywhere.
func (c *Client) RetireBase(ctx context.Context, name, reason string) (Base, error) {
	return answer[Base](ctx, c, request{
		method: http.MethodPost, path: pathOf("bases", name) + "/retire", body: Reason{Reason: reason},
	})
}

// SendBase brings in a base of a file, or goes on with one of the same file that was broken off. It reads the file
// once for its digest before it sends it. It tells how many bytes of it are there, with each piece.
func (c *Client) SendBase(ctx context.Context, in NewBase, file io.ReadSeeker, sent func(Base)) (b Base, err error) {
	hash := sha256.New()
	if in.Size, err = io.Copy(hash, file); err != nil {
		return b, err
	}
	is := hex.EncodeToString(hash.Sum(nil))
	if in.SHA256 != "" && in.SHA256 != is {
		return b, errors.New("the file has the digest " + is + ", and not " + in.SHA256)
	}
	in.SHA256 = is
	if b, err = c.Base(ctx, in.Name); err != nil || b.State != base.Receiving || b.Expected != is {
		if err != nil && !IsStatus(err, http.StatusNotFound) {
			return b, err
		}
		if b, err = c.BringBase(ctx, in); err != nil {
			return b, err
		}
	}
	piece := make([]byte, filePiece)
	for b.State == base.Receiving {
		sent(b)
		if _, err := file.Seek(b.Have, io.SeekStart); err != nil {
			return b, err
		}
		n, err := io.ReadFull(file, piece)
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return b, err
		}
		if n == 0 {
			return b, errors.New("the file has become shorter while it was sent: send it again")
		}
		if b, err = c.SendBasePiece(ctx, in.Name, b.Have, piece[:n]); IsStatus(err, http.StatusConflict) {
			b, err = c.Base(ctx, in.Name) // somebody else sends it, too
		}
		if err != nil {
			return b, err
		}
	}
	return b, nil
}
