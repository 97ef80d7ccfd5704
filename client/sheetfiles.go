package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"strconv"

	"nimblepane/core/pack"
	"nimblepane/core/sheet"
)

// NewSheetFile is a file that sheets name, and that is sent next.
type NewSheetFile struct {
	Size int64 `json:"size" minimum:"0" doc:"In bytes"`
}

// SheetFile is a file that sheets name, as the service has it.
type SheetFile struct {
	Digest string `json:"digest" doc:"SHA-256, in hexadecimal digits"`
	Size   int64  `json:"size" doc:"In bytes"`
	Have   int64  `json:"have" doc:"Bytes of it that are there: it goes on with the next"`
	Whole  bool   `json:"whole" doc:"All of it is there, and it has the digest"`
}

// filePiece is how much of a file is sent at once, in bytes.
const filePiece = 4 << 20

// SendSheetFiles sends what a sheet names in the folder that it is in, as far as the service does not have it, and
// returns the digests by path, as StartBuild wants them. It tells progress, unless that is nil, of each file.
func (c *Client) SendSheetFiles(ctx context.Context, beside fs.FS, sources []sheet.Source,
	progress func(s sheet.Source, sent, size int64),
) (map[string]string, error) {
	if len(sources) == 0 {
		return nil, nil
	}
	digests := map[string]string{}
	for _, s := range sources {
		err := open(beside, s, func(f io.ReadSeeker, content sheet.Content) error {
			digests[s.Path] = content.SHA256
			return c.sendSheetFile(ctx, f, content, func(sent int64) {
				if progress != nil {
					progress(s, sent, content.Size)
				}
			})
		})
		if err != nil {
			return nil, fmt.Errorf("the %s: %w", s, err)
		}
	}
	return digests, nil
}

// ReadSheetFiles returns what a sheet names in the folder that it is in, as sheet.WithFiles wants it, and what is wrong
// with what is not there as it should be.
func ReadSheetFiles(beside fs.FS, sources []sheet.Source) (contents map[string]sheet.Content,
	wrong map[sheet.Source]error,
) {
	contents, wrong = map[string]sheet.Content{}, map[sheet.Source]error{}
	for _, s := range sources {
		err := open(beside, s, func(_ io.ReadSeeker, content sheet.Content) error {
			contents[s.Path] = content
			return nil
		})
		if err != nil {
			wrong[s] = err
		}
	}
	return contents, wrong
}

// open calls fn with a file, or with the archive of a folder.
func open(beside fs.FS, s sheet.Source, fn func(io.ReadSeeker, sheet.Content) error) error {
	return pack.Open(beside, s.Path, s.Folder, scratch, func(f io.ReadSeeker, digest string, size int64) error {
		return fn(f, sheet.Content{SHA256: digest, Size: size, Folder: s.Folder})
	})
}

// scratch is a file that is gone when it is closed.
func scratch() (pack.Scratch, error) {
	f, err := os.CreateTemp("", "pane-folder-*.tar")
	if err != nil {
		return nil, err
	}
	return f, os.Remove(f.Name())
}

// sendSheetFile sends what the service does not have of a file. It may be sent by others at the same time.
func (c *Client) sendSheetFile(ctx context.Context, f io.ReadSeeker, content sheet.Content, sent func(int64)) error {
	at := pathOf("sheet-files", content.SHA256)
	query := values("folder", flag(content.Folder))
	send := func(r request) (SheetFile, error) { return answer[SheetFile](ctx, c, r) }
	announce := request{method: http.MethodPut, path: at, query: query, body: NewSheetFile{content.Size}}
	there, err := send(announce)
	piece := make([]byte, filePiece)
	for err == nil && !there.Whole {
		sent(there.Have)
		if _, err := f.Seek(there.Have, io.SeekStart); err != nil {
			return err
		}
		n, err := io.ReadFull(f, piece)
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return err
		}
		if n == 0 {
			return errors.New("it has become shorter while it was sent: send it again")
		}
		query := values("folder", flag(content.Folder), "from", strconv.FormatInt(there.Have, 10))
		there, err = send(request{
			method: http.MethodPut, path: at + "/piece", query: query, body: piece[:n],
			contentType: "application/octet-stream",
		})
		if IsStatus(err, http.StatusConflict) { // somebody else sends it, too
			there, err = send(announce)
		}
		if err != nil {
			return err
		}
	}
	return err
}
