package client

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ubiquon/internal/api"
)

// Files calls the control endpoints of the library of files. It is safe for concurrent use.
type Files struct{ c *Client }

// Files returns the calls for the library of files.
func (c *Client) Files() *Files { return &Files{c} }

// List returns the files that fit, and how many there are in all.
func (fs *Files) List(ctx context.Context, f api.FileFilter) (out api.FileList, err error) {
	return out, fs.c.call(ctx, http.MethodGet, "/files?"+query(f), nil, &out)
}

// Get returns a file and where it is shown.
func (fs *Files) Get(ctx context.Context, id string) (out api.FileDetail, err error) {
	return out, fs.c.call(ctx, http.MethodGet, "/files/"+url.PathEscape(id), nil, &out)
}

// Upload sends a file in one request.
func (fs *Files) Upload(ctx context.Context, body io.Reader, u api.FileUpload) (out api.File, err error) {
	return out, fs.send(ctx, http.MethodPost, "/files?"+query(u), body, &out)
}

// Replace gives a file other bytes.
func (fs *Files) Replace(ctx context.Context, body io.Reader, r api.FileReplacement) (out api.File, err error) {
	return out, fs.send(ctx, http.MethodPut, "/files/"+url.PathEscape(r.ID)+"/bytes?"+query(r), body, &out)
}

func (fs *Files) send(ctx context.Context, method, path string, body io.Reader, into any) error {
	answer, err := fs.c.long(ctx, method, path, "application/octet-stream", body)
	if err != nil {
		return err
	}
	defer answer.Close()
	return json.NewDecoder(answer).Decode(into)
}

// Fetch has the service fetch a file.
func (fs *Files) Fetch(ctx context.Context, f api.FileFetch) (out api.File, err error) {
	return out, fs.c.call(ctx, http.MethodPost, "/files/fetch", f, &out)
}

// Check has what is kept compared with what is noted, and hands over how far it is.
func (fs *Files) Check(ctx context.Context, o api.FileCheckOptions, each func(api.FileCheck)) error {
	src, err := json.Marshal(o)
	if err != nil {
		return err
	}
	return fs.c.stream(
		ctx,
		"/files/check",
		"application/json",
		strings.NewReader(string(src)),
		func(line []byte) error {
			var c api.FileCheck
			err := json.Unmarshal(line, &c)
			each(c)
			return err
		},
	)
}

// Piecewise is an upload by the tus protocol.
type Piecewise struct {
	// Body is what is uploaded, of so many Bytes.
	Body  io.ReaderAt
	Bytes int64
	Name  string
	// Replace is the id of the file that gets these bytes; "" for a new one.
	Replace string
	Publish bool
	// Environment that the file is for; "" for main.
	Environment string
	// Progress is told how many bytes are there; it may be nil.
	Progress func(sent int64)
	// Retry is how long to wait before the nth try after one that failed, and whether to try at
	// all; nil: up to 8 tries, a second apart.
	Retry func(n int) (time.Duration, bool)
}

// piece is how many bytes are sent in one request.
const piece = 8 << 20

// UploadPiecewise uploads a file in pieces, and goes on where it was if the service does not answer
// meanwhile.
func (fs *Files) UploadPiecewise(ctx context.Context, p Piecewise) (out api.File, err error) {
	if p.Environment == "" {
		p.Environment = "main"
	}
	if p.Retry == nil {
		p.Retry = func(n int) (time.Duration, bool) { return time.Second, n < 8 }
	}
	if p.Progress == nil {
		p.Progress = func(int64) {}
	}
	encoded := func(name, value string) string { return name + " " + base64.StdEncoding.EncodeToString([]byte(value)) }
	metadata := []string{encoded("filename", p.Name)}
	if p.Replace != "" {
		metadata = append(metadata, encoded("replace", p.Replace))
	}
	if p.Publish {
		metadata = append(metadata, encoded("publish", "true"))
	}
	begun, err := fs.tus(ctx, http.MethodPost, "/control/v1/environments/"+p.Environment+"/uploads/", http.Header{
		"Upload-Length": {strconv.FormatInt(p.Bytes, 10)}, "Upload-Metadata": {strings.Join(metadata, ",")},
	}, nil)
	if err != nil {
		return out, err
	}
	u, err := url.Parse(begun.Header.Get("Location"))
	if err != nil || u.Path == "" {
		return out, errors.New("the service does not say where the upload goes on")
	}
	at := int64(0)
	for failed := 0; ; {
		n := min(piece, p.Bytes-at)
		body := make([]byte, n)
		if _, err := p.Body.ReadAt(body, at); err != nil && !errors.Is(err, io.EOF) {
			return out, err
		}
		a, err := fs.tus(ctx, http.MethodPatch, u.Path, http.Header{
			"Upload-Offset": {strconv.FormatInt(at, 10)}, "Content-Type": {"application/offset+octet-stream"},
		}, body)
		if err == nil {
			at, failed = at+n, 0
			p.Progress(at)
			if at == p.Bytes {
				return out, json.Unmarshal(a.Body, &out)
			}
			continue
		}
		var refused *api.Problem
		wait, again := p.Retry(failed)
		if errors.As(err, &refused) && refused.Status < 500 && refused.Status != http.StatusConflict || !again {
			return out, err
		}
		failed++
		select {
		case <-ctx.Done():
			return out, ctx.Err()
		case <-time.After(wait):
		}
		if head, err := fs.tus(ctx, http.MethodHead, u.Path, nil, nil); err == nil {
			if at, err = strconv.ParseInt(head.Header.Get("Upload-Offset"), 10, 64); err != nil {
				return out, fmt.Errorf("the service does not say how far the upload is: %w", err)
			}
		}
	}
}

func (fs *Files) tus(ctx context.Context, method, path string, h http.Header, body []byte) (*Answer, error) {
	if h == nil {
		h = http.Header{}
	}
	h.Set("Tus-Resumable", "1.0.0")
	var sent any
	if body != nil {
		sent = octets(body)
	}
	a, err := fs.c.Do(ctx, method, path, h, sent)
	if err != nil {
		return nil, err
	}
	return a, a.Err()
}
