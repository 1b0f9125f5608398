// Package filesapi is the surface under /files/ and /images/: files as they were uploaded, and
// pictures made of them by the IIIF Image API 3.0, level 2. What is published is open to
// everybody; the rest takes a signed address, or a key or session that may read in preview.
package filesapi

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/environment"
	"ubiquon/internal/files"
	"ubiquon/internal/rendering"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/db"
	store "ubiquon/internal/store/files"
)

// API answers the requests under /files/ and /images/. It is safe for concurrent use. Create it
// with New.
type API struct {
	env   *environment.Environment
	guard *guard.Guard
	log   *slog.Logger
	// lastSweep is when uploads that do not go on were last removed, in seconds.
	lastSweep atomic.Int64
}

// New returns the surface.
func New(e *environment.Environment, g *guard.Guard, log *slog.Logger) *API {
	return &API{env: e, guard: g, log: log}
}

const (
	// forEver is the Cache-Control of what never changes at its address.
	forEver = "public, max-age=31536000, immutable"
	// forNow is that of a picture of which there will be a smaller one soon.
	forNow = "public, max-age=60"
	// slowest is how slowly somebody may read before the connection is closed, in bytes a second.
	slowest = 16 << 10
)

// ServeHTTP implements http.Handler.
func (s *API) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	h := w.Header()
	h.Set("Access-Control-Allow-Origin", "*")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Cross-Origin-Resource-Policy", "cross-origin")
	switch r.Method {
	case http.MethodGet, http.MethodHead:
	case http.MethodOptions:
		h.Set("Access-Control-Allow-Methods", "GET, HEAD")
		h.Set("Access-Control-Allow-Headers", "Range, If-Range, If-None-Match, Authorization")
		h.Set("Access-Control-Max-Age", "86400")
		w.WriteHeader(http.StatusNoContent)
		return
	default:
		h.Set("Allow", "GET, HEAD, OPTIONS")
		guard.WriteProblem(
			w,
			api.Problem{
				Kind:   "method",
				Status: http.StatusMethodNotAllowed,
				Detail: r.Method + " is not served at " + r.URL.Path,
			},
		)
		return
	}
	if err := s.answer(w, r); err != nil {
		for _, name := range []string{"ETag", "Content-Disposition", "Content-Length", "Link"} {
			h.Del(name)
		}
		h.Set("Cache-Control", "no-store")
		s.guard.Fail(w, r, err)
	}
}

// notFound is the error of what is not there, or not for who asks.
func notFound(path string) error {
	return api.Problem{
		Kind:   "not-found",
		Status: http.StatusNotFound,
		Detail: "there is no file at " + path + " that you may see",
	}
}

func (s *API) answer(w http.ResponseWriter, r *http.Request) error {
	surface, rest, _ := strings.Cut(strings.TrimPrefix(r.URL.EscapedPath(), "/"), "/")
	environment, rest, _ := strings.Cut(rest, "/")
	hash, rest, _ := strings.Cut(rest, "/")
	if environment != s.env.Addresses.Environment || !content.ValidHash(hash) {
		return notFound(r.URL.Path)
	}
	rest, err := url.PathUnescape(rest)
	if err != nil {
		return notFound(r.URL.Path)
	}
	query := r.URL.Query()
	if len(query) > 0 && access.HoldsSecret(r.URL.RawQuery) {
		return api.Problem{
			Kind: "query-string", Status: http.StatusBadRequest, Parameter: "query string",
			Detail: "there is a key in the address; it is in logs and histories by now",
			Hint:   "revoke it (ubiquon key revoke), and send keys in the header Authorization: Bearer … only",
		}
	}
	// What is known is remembered. What is not takes no connection from those who read content.
	ctx := rendering.For(db.For(r.Context(), db.Listing), "network "+s.guard.Network(r))
	b, err := s.env.Files.Blob(ctx, hash)
	if errors.Is(err, db.ErrNotFound) {
		return notFound(r.URL.Path)
	} else if err != nil {
		return err
	}
	signed := s.env.Addresses.Check(hash, rest, query)
	trusted, err := s.admits(ctx, w, r, hash, signed)
	if err != nil {
		return err
	}
	if surface == "files" {
		return s.file(ctx, w, r, b, rest)
	}
	return s.image(ctx, w, r, b, rest, query, signed, trusted)
}

// admits says whether who asks may have the file, and whether that is somebody who works here:
// their requests are answered exactly.
func (s *API) admits(
	ctx context.Context,
	w http.ResponseWriter,
	r *http.Request,
	hash string,
	signed picture.Signature,
) (trusted bool, err error) {
	h := w.Header()
	if r.Header.Get("Authorization") != "" {
		// A key that is sent must be good, and is asked for even where everybody may.
		p, err := s.guard.Operator(w, r)
		if err != nil {
			return false, err
		}
		trusted = p.Rights.AllowsAny(access.Read, content.Preview)
	}
	public, err := s.env.Files.IsPublished(ctx, hash)
	if err != nil {
		return false, err
	}
	if public {
		h.Set("Cache-Control", forEver)
		return trusted, nil
	}
	h.Set("Cache-Control", "private, max-age=60")
	if trusted || signed.Draft {
		return trusted, nil
	}
	if p, err := s.guard.Operator(w, r); err == nil && p.Rights.AllowsAny(access.Read, content.Preview) {
		return true, nil
	}
	return false, notFound(r.URL.Path)
}

// unsafeTypes are shown by browsers with scripts in them.
func isUnsafe(mediaType string) bool {
	return mediaType == "image/svg+xml" || strings.Contains(mediaType, "html") ||
		strings.Contains(mediaType, "xml") ||
		strings.Contains(mediaType, "javascript") ||
		strings.HasSuffix(mediaType, "x-shockwave-flash")
}

// file answers with a file as it was uploaded.
func (s *API) file(ctx context.Context, w http.ResponseWriter, r *http.Request, b store.Blob, name string) error {
	if name == "" || strings.Contains(name, "/") {
		return notFound(r.URL.Path)
	}
	in, item, err := s.env.Files.Open(ctx, b.Hash)
	if err != nil {
		return fmt.Errorf("the bytes of %s cannot be read: %w", b.Hash, err)
	}
	defer in.Close()
	h := w.Header()
	mediaType := files.MediaType(b)
	if strings.HasPrefix(mediaType, "text/") {
		h.Set("Content-Type", mediaType+"; charset=utf-8")
	} else {
		h.Set("Content-Type", mediaType)
	}
	h.Set(
		"Content-Security-Policy",
		"sandbox; default-src 'none'; style-src 'unsafe-inline'; img-src data:; media-src 'self'",
	)
	if isUnsafe(mediaType) {
		h.Set(
			"Content-Disposition",
			mime.FormatMediaType("attachment", map[string]string{"filename": content.CleanFileName(name)}),
		)
	}
	h.Set("ETag", `"`+b.Hash+`"`)
	s.serve(w, r, in, item.Bytes)
	return nil
}

// conditions are the headers of a request that may have a part of the bytes answered, or none.
var conditions = []string{"Range", "If-Range", "If-None-Match", "If-Match", "If-Modified-Since", "If-Unmodified-Since"}

// serve answers with bytes, or with what is asked of them.
func (s *API) serve(w http.ResponseWriter, r *http.Request, in io.ReadSeeker, size int64) {
	s.patient(w, size)
	held, whole := in.(interface{ Whole() []byte }) // in memory
	for _, name := range conditions {
		whole = whole && r.Header[name] == nil
	}
	if !whole {
		http.ServeContent(w, r, "", time.Time{}, in)
		return
	}
	h := w.Header()
	h.Set("Accept-Ranges", "bytes")
	h.Set("Content-Length", strconv.Itoa(len(held.Whole())))
	if r.Method != http.MethodHead {
		_, _ = w.Write(held.Whole()) // the reader may be gone
	}
}

// patient gives a reader the time that so many bytes take.
func (s *API) patient(w http.ResponseWriter, bytes int64) {
	// The deadline may not be had, as in tests; then that of the listener counts.
	_ = http.NewResponseController(w).
		SetWriteDeadline(time.Now().Add(time.Minute + time.Duration(bytes/slowest)*time.Second))
}

// profile is what the IIIF Image API calls what we do.
const profile = `<http://iiif.io/api/image/3/level2.json>;rel="profile"`

// image answers requests of the IIIF Image API.
func (s *API) image(
	ctx context.Context, w http.ResponseWriter, r *http.Request, b store.Blob, rest string, query url.Values,
	signed picture.Signature, trusted bool,
) error {
	width, height := files.Size(b)
	if width == 0 || !picture.IsSource(files.MediaType(b)) {
		return api.Problem{
			Kind: "no-picture", Status: http.StatusNotFound,
			Detail: "the file is " + files.MediaType(b) + ", of which no pictures are made",
			Hint:   "get the file itself, below /files/",
		}
	}
	service := s.env.Addresses.Service(b.Hash)
	if strings.HasPrefix(service, "/") {
		service = s.guard.Self(r) + service
	}
	h := w.Header()
	switch rest {
	case "":
		http.Redirect(w, r, service+"/info.json", http.StatusSeeOther)
		return nil
	case "info.json":
		s.info(w, r, service, width, height)
		return nil
	}
	parts := strings.Split(rest, "/")
	if len(parts) != 4 {
		return notFound(r.URL.Path)
	}
	wanted, err := picture.Parse(parts[0], parts[1], parts[2], parts[3])
	if err != nil {
		return err
	}
	quality, err := qualityOf(query, signed.Exact || trusted)
	if err != nil {
		return err
	}
	if !trusted && !signed.Exact {
		other, err := wanted.Snap(width, height, s.env.Addresses.Ladder, signed.Region)
		if err != nil {
			return err
		}
		if other != "" {
			forADay(h)
			to := service + "/" + other
			if r.URL.RawQuery != "" {
				to += "?" + r.URL.RawQuery
			}
			http.Redirect(w, r, to, http.StatusFound)
			return nil
		}
	}
	job, err := wanted.For(width, height)
	if err != nil {
		return err
	}
	made, err := s.env.Files.Picture(ctx, b, job, quality, r.Header.Get("Accept"))
	if err != nil {
		return err
	}
	defer made.Reader.Close()
	h.Set("Content-Type", made.MediaType)
	h.Set("ETag", `"`+made.Tag+`"`)
	h.Set("Link", profile+`, <`+service+"/"+job.Name()+`>;rel="canonical"`)
	if job.Format == picture.AutoFormat {
		h.Set("Vary", "Accept")
	}
	if made.Later && h.Get("Cache-Control") == forEver {
		h.Set("Cache-Control", forNow)
	}
	s.serve(w, r, made.Reader, made.Item.Bytes)
	return nil
}

// info describes a picture.
func (s *API) info(w http.ResponseWriter, r *http.Request, service string, width, height int) {
	h := w.Header()
	h.Set("Content-Type", "application/json")
	h.Set("Vary", "Accept")
	if strings.Contains(r.Header.Get("Accept"), "application/ld+json") {
		h.Set("Content-Type", `application/ld+json;profile="http://iiif.io/api/image/3/context.json"`)
	}
	h.Set("Link", profile)
	forADay(h)
	guard.WriteBody(w, picture.Info(service, width, height, s.env.Addresses.Ladder))
}

// forADay has an answer kept for a day that may be another some time.
func forADay(h http.Header) {
	if h.Get("Cache-Control") == forEver {
		h.Set("Cache-Control", "public, max-age=86400")
	}
}

// qualityOf reads how much a picture is compressed, which takes a signature.
func qualityOf(query url.Values, may bool) (int, error) {
	text := query.Get("q")
	if text == "" {
		return 0, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 100 {
		return 0, api.Problem{
			Kind:      "parameter",
			Status:    http.StatusBadRequest,
			Parameter: "q",
			Detail:    fmt.Sprintf("%q is no quality", text),
			Hint:      "give 1 to 100",
		}
	}
	if !may {
		return 0, api.Problem{
			Kind: "address-signature", Status: http.StatusForbidden, Detail: "the quality of a picture takes a signed address",
			Hint: "take the address from a read, as in picture[width=600,quality=70](url)",
		}
	}
	return n, nil
}
