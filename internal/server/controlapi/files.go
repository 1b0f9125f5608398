package controlapi

import (
	"net/http"
	"slices"
	"strings"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/files"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/server/operation"
)

const mediaBytes = "application/octet-stream"

// readsFiles is the grant that it takes to look at files.
var readsFiles = access.Need{Verb: access.Read, Edition: content.Preview, Type: model.FileType}

// mayUpload is the permit of what takes files in. Such a request is not kept for an
// Idempotency-Key: the same bytes are kept once anyhow.
var mayUpload = guard.On(access.Write, content.Preview)

// fileOperations are about the library of files.
func fileOperations() []*operation.Operation {
	const refusals = "broken-file quota refused-file scanner too-large"
	return []*operation.Operation{
		operation.Call("GET /files", "listFiles", "List the files of the library", guard.Reads, (*API).listFiles).
			WithExample(api.FileFilter{Type: "image/*", Limit: 3}),
		operation.Call(
			"POST /files", "uploadFile", "Upload a file: its bytes are the body", mayUpload.WithBody(guard.FileBody),
			(*API).uploadFile).
			Takes(mediaBytes).
			Fails(strings.Fields(refusals)...),
		operation.Call(
			"POST /files/fetch",
			"fetchFile",
			"Have the service fetch a file from an address",
			mayUpload,
			(*API).fetchFile,
		).
			Fails(append(strings.Fields(refusals), "fetch")...),
		operation.Call(
			"GET /files/{id}",
			"getFile",
			"Get a file and where it is shown",
			guard.Reads,
			(*API).getFile,
		).Fails("not-found"),
		operation.Call("PUT /files/{id}/bytes", "replaceFile", "Replace the bytes of a file: its id and all uses stay",
			mayUpload.WithBody(guard.FileBody), (*API).replaceFile).Takes(mediaBytes).
			Fails(append(strings.Fields(refusals), "not-found")...),
		operation.Lines(
			"POST /files/check",
			"checkFiles",
			"Compare what is kept of files with what is noted, and collect what nobody uses",
			guard.Administers,
			(*API).checkFiles,
		),
	}
}

func (s *API) listFiles(r *http.Request, in api.FileFilter) (out api.FileList, err error) {
	if err := guard.Require(r, readsFiles); err != nil {
		return out, err
	}
	sorts := []string{"", "updated", "-updated", "name", "-name", "bytes", "-bytes"}
	if !slices.Contains(sorts, in.Sort) {
		return out, api.Problem{
			Kind: "parameter", Status: http.StatusBadRequest, Parameter: "sort",
			Detail: "files are not sorted by " + in.Sort + strictyaml.DidYouMean(in.Sort, sorts[1:]),
		}
	}
	if !slices.Contains([]string{"", "used", "unused"}, in.Use) {
		return out, api.Problem{
			Kind:      "parameter",
			Status:    http.StatusBadRequest,
			Parameter: "use",
			Detail:    "use is used or unused",
		}
	}
	if in.Limit < 0 || in.Limit > 500 || in.Offset < 0 {
		return out, api.Problem{
			Kind:      "parameter",
			Status:    http.StatusBadRequest,
			Parameter: "limit",
			Detail:    "limit is 1 to 500, offset 0 or more",
		}
	}
	out, err = s.env.Files.List(r.Context(), in)
	for i := range out.Items {
		s.absolute(r, &out.Items[i])
	}
	return out, err
}

func (s *API) getFile(r *http.Request, in api.FileID) (out api.FileDetail, err error) {
	if err := guard.Require(r, readsFiles); err != nil {
		return out, err
	}
	if out, err = s.env.Files.Get(r.Context(), in.ID); err != nil {
		return out, err
	}
	s.absolute(r, &out.File)
	out.UsedBy = visibleReferrers(r, out.UsedBy)
	return out, nil
}

// absolute has the addresses of a file begin with where the request reached us, unless they are
// whole already.
func (s *API) absolute(r *http.Request, f *api.File) {
	if s.env.Addresses.Base != "" {
		return
	}
	here := s.guard.Self(r)
	for _, at := range []*string{&f.URL, &f.Image, &f.Preview} {
		if *at != "" {
			*at = here + *at
		}
	}
}

// mayAdd checks that who asks may write files, and publish them if that is asked for.
func mayAdd(r *http.Request, publish bool) error {
	needs := []access.Need{{Verb: access.Write, Edition: content.Preview, Type: model.FileType}}
	if publish {
		needs = append(needs, access.Need{Verb: access.Publish, Edition: content.Published, Type: model.FileType})
	}
	return guard.Require(r, needs...)
}

func upload(by, name string, publish bool) files.Upload {
	return files.Upload{Name: name, Publish: publish, By: by, Cause: content.Cause{Kind: "user", Name: by}}
}

func (s *API) uploadFile(r *http.Request, in api.FileUpload) (out api.UploadedFile, err error) {
	if err := mayAdd(r, in.Publish); err != nil {
		return out, err
	}
	if strings.TrimSpace(in.Name) == "" {
		return out, api.Problem{
			Kind: "parameter", Status: http.StatusBadRequest, Parameter: "name", Detail: "the file has no name",
			Hint: "say how it is called, as in POST /control/v1/files?name=harbour.png",
		}
	}
	if err := s.env.Files.CheckSize(r.ContentLength); err != nil {
		return out, err
	}
	u := upload(guard.ActorName(r), in.Name, in.Publish)
	if in.Alt != "" {
		u.Description = content.Fields{"alt": map[string]any{s.env.Replica.Model().Default(): in.Alt}}
	}
	out.File, err = s.env.Files.Add(r.Context(), r.Body, u)
	s.absolute(r, &out.File)
	return out, err
}

func (s *API) replaceFile(r *http.Request, in api.FileReplacement) (out api.File, err error) {
	if err := mayAdd(r, in.Publish); err != nil {
		return out, err
	}
	u := upload(guard.ActorName(r), in.Name, in.Publish)
	u.Replace = in.ID
	out, err = s.env.Files.Add(r.Context(), r.Body, u)
	s.absolute(r, &out)
	return out, err
}

func (s *API) fetchFile(r *http.Request, in api.FileFetch) (out api.UploadedFile, err error) {
	if err := mayAdd(r, in.Publish); err != nil {
		return out, err
	}
	out.File, err = s.env.Files.Fetch(r.Context(), in.Address, upload(guard.ActorName(r), in.Name, in.Publish))
	s.absolute(r, &out.File)
	return out, err
}

func (s *API) checkFiles(r *http.Request, in api.FileCheckOptions, tell func(api.FileCheck)) error {
	if in.Collect {
		if err := s.env.Audit.Note(r.Context(), guard.ActorName(r), "collect files", "", nil, in); err != nil {
			return err
		}
	}
	return s.env.Files.Check(r.Context(), in, tell)
}
