package filesapi

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/tus/tusd/v2/pkg/filestore"
	tus "github.com/tus/tusd/v2/pkg/handler"
	"github.com/tus/tusd/v2/pkg/memorylocker"
	"golang.org/x/exp/slog"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/files"
	"ubiquon/internal/server/guard"
)

// uploadsKeptFor is for how long an upload that does not go on is kept.
const uploadsKeptFor = 48 * time.Hour

// mostUploads bounds the uploads that have begun and not ended; each is two files.
const mostUploads = 1000

// Uploads takes files in by the tus protocol 1.0.0, so that an upload that broke off goes on where
// it was. Metadata: filename; replace, the id of a file that gets other bytes; publish, if "true".
// The answer to the last piece has the file as JSON, and its id in the header Ubiquon-File.
func (s *API) Uploads() http.Handler {
	dir := s.env.Files.UploadDirectory()
	if err := os.MkdirAll(dir, 0o700); err != nil {
		s.log.Error("uploads that go on where they broke off cannot be taken", "error", err)
		return http.NotFoundHandler()
	}
	sweepUploads(dir, time.Now())
	composer := tus.NewStoreComposer()
	filestore.New(dir).UseIn(composer)
	memorylocker.New().UseIn(composer)
	h, err := tus.NewUnroutedHandler(tus.Config{
		StoreComposer: composer, MaxSize: s.env.Files.MaxBytes(), BasePath: s.uploadsPath() + "/",
		RespectForwardedHeaders: true, DisableDownload: true, Cors: &tus.CorsConfig{Disable: true},
		Logger: discarded, NetworkTimeout: 30 * time.Second,
		PreUploadCreateCallback: func(e tus.HookEvent) (tus.HTTPResponse, tus.FileInfoChanges, error) {
			return tus.HTTPResponse{}, tus.FileInfoChanges{}, s.tusError(s.begins(e))
		},
		PreFinishResponseCallback: s.ends,
	})
	if err != nil {
		s.log.Error("uploads that go on where they broke off cannot be taken", "error", err)
		return http.NotFoundHandler()
	}
	permit := guard.On(access.Write, content.Preview).WithBody(guard.FileBody)
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return s.guard.Guard(permit, s.inEnvironment(h.Middleware(next)))
	})
	r.Options("/", func(http.ResponseWriter, *http.Request) {}) // the middleware answers
	r.Post("/", h.PostFile)
	r.Head("/{id}", s.ofUpload(h.HeadFile))
	r.Patch("/{id}", s.ofUpload(h.PatchFile))
	r.Delete("/{id}", s.ofUpload(h.DelFile))
	return r
}

func (s *API) uploadsPath() string {
	return "/control/v1/environments/" + s.env.Addresses.Environment + "/uploads"
}

// inEnvironment answers for this environment alone.
func (s *API) inEnvironment(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if chi.URLParam(r, "environment") != s.env.Addresses.Environment {
			s.guard.Fail(
				w,
				r,
				api.Problem{
					Kind:   "not-found",
					Status: http.StatusNotFound,
					Detail: "there is no such environment here",
				},
			)
			return
		}
		need := access.Need{Verb: access.Write, Edition: content.Preview, Type: model.FileType}
		if err := guard.Require(r, need); err != nil {
			s.guard.Fail(w, r, err)
			return
		}
		next.ServeHTTP(w, r)
	})
}

var uploadID = regexp.MustCompile(`^[0-9a-f]{32}$`)

// ofUpload leaves of the path what the library wants to see of it.
func (s *API) ofUpload(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		id := chi.URLParam(r, "id")
		if !uploadID.MatchString(id) {
			s.guard.Fail(
				w,
				r,
				api.Problem{Kind: "not-found", Status: http.StatusNotFound, Detail: "there is no such upload"},
			)
			return
		}
		r = r.Clone(r.Context())
		r.URL.Path = "/" + id
		next(w, r)
	}
}

// discarded drops the library's log of every request.
var discarded = slog.New(slog.NewTextHandler(io.Discard, nil))

// begins checks whether an upload may begin.
func (s *API) begins(e tus.HookEvent) error {
	ctx := e.Context
	if now := time.Now(); now.Unix()-s.lastSweep.Load() > 3600 {
		s.lastSweep.Store(now.Unix())
		sweepUploads(s.env.Files.UploadDirectory(), now)
	}
	if entries, err := os.ReadDir(s.env.Files.UploadDirectory()); err == nil && len(entries) > 2*mostUploads {
		return guard.TooMany(time.Minute, "too many uploads have begun and not ended")
	}
	if e.Upload.SizeIsDeferred {
		return api.Problem{
			Kind: "parameter", Status: http.StatusBadRequest, Parameter: "Upload-Defer-Length",
			Detail: "the length of an upload must be said", Hint: "send Upload-Length",
		}
	}
	if e.Upload.MetaData["filename"] == "" && e.Upload.MetaData["replace"] == "" {
		return api.Problem{
			Kind: "parameter", Status: http.StatusBadRequest, Parameter: "Upload-Metadata", Detail: "the file has no name",
			Hint: "send filename in Upload-Metadata",
		}
	}
	if e.Upload.MetaData["publish"] == "true" {
		need := access.Need{Verb: access.Publish, Edition: content.Published, Type: model.FileType}
		if _, missing := guard.PrincipalIn(ctx).Rights.Missing([]access.Need{need}); missing {
			return &access.DeniedError{Grant: need}
		}
	}
	return s.env.Files.CheckRoom(ctx, e.Upload.Size)
}

// ends takes a file in that is here as a whole.
func (s *API) ends(e tus.HookEvent) (tus.HTTPResponse, error) {
	name := e.Upload.MetaData["filename"]
	by := guard.PrincipalIn(e.Context).Name
	u := files.Upload{
		Name: name, Replace: e.Upload.MetaData["replace"], Publish: e.Upload.MetaData["publish"] == "true", By: by,
		Cause: content.Cause{Kind: "user", Name: by},
	}
	path := e.Upload.Storage["Path"]
	f, err := s.env.Files.AddFile(e.Context, path, u)
	// Whatever came of it, the upload is over; nobody asks for its bytes here.
	_ = os.Remove(path)
	_ = os.Remove(path + ".info")
	if err != nil {
		return tus.HTTPResponse{}, s.tusError(err)
	}
	body, err := json.Marshal(f)
	return tus.HTTPResponse{
		StatusCode: http.StatusOK, Body: string(body),
		Header: tus.HTTPHeader{"Content-Type": "application/json", "Ubiquon-File": f.ID},
	}, err
}

// tusError has an error answered as the problem that it is.
func (s *API) tusError(err error) error {
	if err == nil {
		return nil
	}
	p := s.guard.ProblemOf(&http.Request{Header: http.Header{}}, err).Filled()
	body, failed := json.Marshal(p)
	if failed != nil {
		return errors.Join(err, failed)
	}
	out := tus.NewError("problem", p.Title, p.Status)
	out.HTTPResponse = tus.HTTPResponse{
		StatusCode: p.Status, Body: string(body), Header: tus.HTTPHeader{"Content-Type": "application/problem+json"},
	}
	return out
}

// sweepUploads removes what never came to its end.
func sweepUploads(dir string, now time.Time) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return
	}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && now.Sub(info.ModTime()) > uploadsKeptFor {
			_ = os.Remove(filepath.Join(dir, e.Name()))
		}
	}
}
