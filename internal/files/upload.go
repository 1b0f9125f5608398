package files

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/gabriel-vasile/mimetype"

	"ubiquon/internal/api"
	"ubiquon/internal/blob"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/rendering"
	"ubiquon/internal/store/files"
	"ubiquon/internal/store/writing"
)

// Upload is what comes in.
type Upload struct {
	// Name as its sender calls it; of a path the last part counts.
	Name string
	// Replace is the id of the file that gets these bytes; "" for a new one.
	Replace string
	// ID of a new file; "" for one that is made up.
	ID string
	// Publish shows it to readers at once.
	Publish bool
	// Description are fields of a new file besides its name.
	Description content.Fields
	// By and Cause are those of the write.
	By    string
	Cause content.Cause
}

// UploadDirectory is where uploads lie that are not whole yet.
func (s *Service) UploadDirectory() string {
	return filepath.Join(filepath.Dir(s.blobs.Temporary()), "uploads")
}

// MaxBytes bounds one file.
func (s *Service) MaxBytes() int64 { return s.config.MaxBytes }

// CheckSize says whether one file may have so many bytes. Its error is a *Problem.
func (s *Service) CheckSize(bytes int64) error {
	if bytes > s.config.MaxBytes {
		return tooLarge(s.config.MaxBytes)
	}
	return nil
}

// CheckRoom says whether so many bytes more may come. Its error is a *Problem.
func (s *Service) CheckRoom(ctx context.Context, bytes int64) error {
	if err := s.CheckSize(bytes); err != nil || s.config.Quota == 0 {
		return err
	}
	used, err := s.store.UsedBytes(ctx)
	if err != nil {
		return err
	}
	if used+bytes > s.config.Quota {
		return &Problem{Kind: "quota", Most: s.config.Quota, Reason: fmt.Sprintf(
			"the files of this environment take %d of %d bytes, and %d more would be too many (files.quota)",
			used,
			s.config.Quota,
			bytes,
		)}
	}
	return nil
}

// Add takes a file in. Nothing is kept of one that is refused. Its error is a *Problem, or one of
// writing.
func (s *Service) Add(ctx context.Context, in io.Reader, u Upload) (api.File, error) {
	path, hash, bytes, err := s.spool(in)
	if err != nil {
		return api.File{}, err
	}
	return s.AddSpooled(ctx, path, hash, bytes, u)
}

// spool writes bytes into a file of their own, for AddSpooled.
func (s *Service) spool(in io.Reader) (path, hash string, bytes int64, err error) {
	path, hash, bytes, err = blob.Spool(s.blobs, in, s.config.MaxBytes)
	var large *blob.ErrTooLarge
	if errors.As(err, &large) {
		err = tooLarge(large.Most)
	}
	return path, hash, bytes, err
}

// AddSpooled takes in what blob.Spool has written.
func (s *Service) AddSpooled(ctx context.Context, path, hash string, bytes int64, u Upload) (api.File, error) {
	defer os.Remove(path) //nolint // it is gone where it was put
	if err := s.keep(rendering.For(ctx, u.By), path, hash, bytes, u.Name); err != nil {
		return api.File{}, err
	}
	edit := writing.Edit{ID: u.ID, Type: model.FileType, Origin: content.Local}
	name := content.CleanFileName(u.Name)
	if u.Replace != "" {
		held, err := s.store.Get(ctx, u.Replace)
		if err != nil {
			return api.File{}, fmt.Errorf("file %s: %w", u.Replace, err)
		}
		edit.ID, edit.Save, edit.IfRevision = held.ID, held.Fields, held.Revision
		edit.Message = "other bytes"
		if u.Name == "" {
			name = text(held.Fields, "name")
		}
	} else {
		edit.Save = content.Fields{}
		for name, v := range u.Description {
			edit.Save[name] = v
		}
		if edit.ID == "" {
			edit.ID = content.NewID()
		}
	}
	edit.Save["name"], edit.Save["hash"] = name, hash
	if u.Publish {
		edit.Live = writing.PublishNewest
	}
	done, err := s.apply(ctx, []writing.Edit{edit}, u.By, u.Cause)
	if err != nil {
		return api.File{}, err
	}
	r, err := s.store.Get(ctx, edit.ID)
	if err != nil {
		return api.File{}, err
	}
	out := s.described(r)
	out.Sequence = done.Sequence
	return out, nil
}

// AddFile takes in a file that is there already, and moves it.
func (s *Service) AddFile(ctx context.Context, path string, u Upload) (api.File, error) {
	hash, bytes, err := blob.HashOf(path)
	if err != nil {
		return api.File{}, err
	}
	return s.AddSpooled(ctx, path, hash, bytes, u)
}

// keep looks at bytes and keeps them.
func (s *Service) keep(ctx context.Context, path, hash string, bytes int64, name string) error {
	if bytes == 0 {
		return &Problem{Kind: "broken-file", Reason: "the file is empty"}
	}
	held, err := s.store.Blob(ctx, hash)
	if err == nil {
		if r, _, err := s.blobs.Open(ctx, originalKey(hash)); err == nil {
			_ = r.Close()
			return s.store.Put(ctx, held) // so that it is not collected now
		}
	}
	if err := s.CheckRoom(ctx, bytes); err != nil {
		return err
	}
	if err := s.scan(ctx, path); err != nil {
		return err
	}
	facts, err := s.look(ctx, path, bytes, name)
	if err != nil {
		return err
	}
	if err := s.blobs.Put(ctx, originalKey(hash), path); err != nil {
		return err
	}
	return s.store.Put(ctx, files.Blob{Hash: hash, Bytes: bytes, Facts: facts})
}

// plainTexts are what a text is called by its ending, which nothing in it tells.
var plainTexts = map[string]string{
	".css": "text/css", ".csv": "text/csv", ".md": "text/markdown", ".txt": "text/plain", ".ics": "text/calendar",
	".vtt": "text/vtt", ".js": "text/javascript",
}

// look finds out what bytes are.
func (s *Service) look(ctx context.Context, file string, bytes int64, name string) (content.Fields, error) {
	found, err := mimetype.DetectFile(file)
	if err != nil {
		return nil, err
	}
	mediaType, _, _ := strings.Cut(found.String(), ";")
	if mediaType == "text/plain" {
		if is, ok := plainTexts[strings.ToLower(path.Ext(name))]; ok {
			mediaType = is
		}
	}
	facts := content.Fields{"mediaType": mediaType, "bytes": float64(bytes)}
	isSource := picture.IsSource(mediaType)
	claims := strings.ToLower(path.Ext(name))
	if !isSource {
		if want, says := pictureEndings[claims]; says && !strings.HasPrefix(mediaType, "image/") {
			return nil, &Problem{
				Kind:   "broken-file",
				Reason: fmt.Sprintf("%s says that it is %s, but its bytes are %s", name, want, mediaType),
			}
		}
		return facts, nil
	}
	f, err := s.renderer.Look(ctx, file, mediaType)
	var broken *rendering.BrokenError
	switch {
	case errors.As(err, &broken) && !s.renderer.HasTools() && mediaType != "image/jpeg" && mediaType != "image/png":
		return facts, nil // it may be a good one, of a kind that is not known here
	case errors.As(err, &broken):
		return nil, &Problem{Kind: "broken-file", Reason: "the picture is not taken: " + broken.Reason}
	case err != nil:
		return nil, err
	}
	facts["width"], facts["height"] = float64(f.Width), float64(f.Height)
	facts["color"], facts["placeholder"] = f.Color, f.Placeholder
	if f.Frames > 1 {
		facts["frames"] = float64(f.Frames)
	}
	facts["turned"], facts["profiled"] = f.Turned, f.Profiled
	return facts, nil
}

// pictureEndings are the endings that promise a picture.
var pictureEndings = map[string]string{
	".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".png": "image/png", ".gif": "image/gif",
	".webp": "image/webp", ".avif": "image/avif",
}

// maxScanSays is how much of what a scanner says is told.
const maxScanSays = 200

// scan sends what is uploaded to the virus scanner, if there is one: 2xx takes it, 4xx refuses it.
func (s *Service) scan(ctx context.Context, path string) error {
	if s.config.Scan == "" {
		return nil
	}
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.config.Scan, f)
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/octet-stream")
	resp, err := s.client.Do(req)
	if err != nil {
		return &Problem{Kind: "scanner", Reason: "the virus scanner cannot be asked: " + err.Error()}
	}
	defer resp.Body.Close()
	says, _ := io.ReadAll(io.LimitReader(resp.Body, maxScanSays))
	switch resp.StatusCode / 100 {
	case 2:
		return nil
	case 4:
		return &Problem{
			Kind:   "refused-file",
			Reason: "the virus scanner refuses the file: " + strings.ToValidUTF8(string(says), ""),
		}
	}
	return &Problem{Kind: "scanner", Reason: "the virus scanner answers " + resp.Status}
}

// Fetch takes in what is at an address. Its error is a *Problem where the address is the reason.
func (s *Service) Fetch(ctx context.Context, address string, u Upload) (api.File, error) {
	got, err := s.get(ctx, address, files.Mirror{})
	if err != nil {
		return api.File{}, err
	}
	defer got.Body.Close()
	if u.Name == "" {
		u.Name = nameOf(address, got.Header)
	}
	return s.Add(ctx, got.Body, u)
}

// get asks for what is at an address; 304 where it is what was there before.
func (s *Service) get(ctx context.Context, address string, was files.Mirror) (*http.Response, error) {
	bad := func(format string, args ...any) error {
		return &Problem{Kind: "fetch", Reason: fmt.Sprintf(format, args...)}
	}
	u, err := url.Parse(address)
	if err == nil && u.Scheme == "origin" && s.beside != nil {
		return s.besideItems(ctx, u, was)
	}
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" || u.User != nil {
		return nil, bad("%q is no address to fetch; write it as in https://pictures.example/harbour.png", address)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, bad("%q is no address to fetch", address)
	}
	if was.ETag != "" {
		req.Header.Set("If-None-Match", was.ETag)
	}
	if was.Modified != "" {
		req.Header.Set("If-Modified-Since", was.Modified)
	}
	resp, err := s.client.Do(req)
	if err != nil {
		return nil, bad("%s cannot be fetched: %v", u.Host, errors.Unwrap(err))
	}
	if resp.StatusCode == http.StatusNotModified && was.Entry != "" {
		return resp, nil
	}
	if resp.StatusCode != http.StatusOK {
		_ = resp.Body.Close()
		return nil, bad("%s answers %s", u.Host, resp.Status)
	}
	if resp.ContentLength > s.config.MaxBytes {
		_ = resp.Body.Close()
		return nil, tooLarge(s.config.MaxBytes)
	}
	return resp, nil
}

// besideItems reads a file that lies beside the items of an origin, in the form of an answer.
func (s *Service) besideItems(ctx context.Context, u *url.URL, was files.Mirror) (*http.Response, error) {
	src, err := s.beside(ctx, u.Host, u.Path, min(s.config.MaxBytes, maxBeside))
	if err != nil {
		return nil, &Problem{Kind: "fetch", Reason: fmt.Sprintf("%s cannot be read: %v", u.Path, err)}
	}
	sum := sha256.Sum256(src)
	h := http.Header{"Etag": {strconv.Quote(hex.EncodeToString(sum[:]))}}
	resp := &http.Response{
		StatusCode: http.StatusOK, Header: h, Body: io.NopCloser(bytes.NewReader(src)), ContentLength: int64(len(src)),
	}
	if was.Entry != "" && was.ETag == h.Get("ETag") {
		resp.StatusCode, resp.Body = http.StatusNotModified, http.NoBody
	}
	return resp, nil
}

// maxBeside bounds a file that lies beside the items of an origin: it is read as a whole.
const maxBeside = 64 << 20

// nameOf is what a fetched file is called.
func nameOf(address string, h http.Header) string {
	u, _ := url.Parse(address)
	name := content.CleanFileName(path.Base(u.Path))
	if path.Ext(name) == "" {
		mediaType, _, _ := strings.Cut(h.Get("Content-Type"), ";")
		if m := mimetype.Lookup(strings.TrimSpace(mediaType)); m != nil {
			name += m.Extension()
		}
	}
	return name
}
