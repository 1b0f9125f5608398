package guard

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ubiquon/internal/api"
	"ubiquon/internal/core/query"
	"ubiquon/internal/core/strictyaml"
)

// Revised is an answer that has an entity tag: the number of an entry's newest revision.
type Revised interface{ RevisionNumber() int }

// StatusCoder is an answer with another status than 200.
type StatusCoder interface{ StatusCode() int }

// JSON returns a handler that writes what f returns as JSON, or the problem of its error. The
// answer may be Revised or a StatusCoder.
func JSON(s *Guard, f func(*http.Request) (any, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		out, err := f(r)
		if err != nil {
			s.Fail(w, r, err)
			return
		}
		if tagged, ok := out.(Revised); ok {
			w.Header().Set("ETag", revisionTag(tagged.RevisionNumber()))
		}
		status := http.StatusOK
		if other, ok := out.(StatusCoder); ok {
			status = other.StatusCode()
		}
		WriteJSON(w, status, out)
	}
}

// revisionTag is the entity tag of an entry at a revision.
func revisionTag(n int) string { return `"` + strconv.Itoa(n) + `"` }

// WantedRevision reads an If-Match header that revisionTag has written; 0 when
// there is none.
func WantedRevision(r *http.Request) (int, error) {
	header := r.Header.Get("If-Match")
	if header == "" || header == "*" {
		return 0, nil
	}
	n, err := strconv.Atoi(strings.Trim(header, `"`))
	if err != nil || n < 1 {
		return 0, api.Problem{
			Kind:      "parameter",
			Status:    400,
			Parameter: "If-Match",
			Detail:    strconv.Quote(header) + " is no revision",
			Hint:      `send the revision as it came in the ETag, as in "3"`,
		}
	}
	return n, nil
}

// stream writes one JSON value a line (NDJSON) while long work goes on.
type stream struct {
	w       http.ResponseWriter
	Out     *http.ResponseController
	enc     *json.Encoder
	Started bool
}

// NewStream returns a stream that lifts the listener's limits of time.
func NewStream(w http.ResponseWriter) *stream {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	out := http.NewResponseController(w)
	// Long work outlives the listener's limits, and tells how far it has come
	// while the rest still arrives.
	_ = out.SetReadDeadline(time.Time{})
	_ = out.SetWriteDeadline(time.Time{})
	_ = out.EnableFullDuplex()
	return &stream{w: w, Out: out, enc: enc}
}

// Write implements io.Writer.
func (s *stream) Write(v any) {
	if !s.Started {
		s.Started = true
		s.w.Header().Set("Content-Type", "application/x-ndjson")
	}
	// The reader may be gone; the work goes on.
	_ = s.enc.Encode(v)
	_ = s.Out.Flush()
}

// patience is for how long a sender of a file may say nothing, and answering may take behind it.
const patience, answering = 30 * time.Second, 2 * time.Minute

// patientBody is a body that takes longer than the listener allows, as long as something comes.
type patientBody struct {
	io.ReadCloser
	out *http.ResponseController
}

// Read implements io.Reader.
func (p *patientBody) Read(b []byte) (int, error) {
	now := time.Now()
	// The deadlines may not be had, as in tests; then those of the listener count.
	_ = p.out.SetReadDeadline(now.Add(patience))
	_ = p.out.SetWriteDeadline(now.Add(answering))
	return p.ReadCloser.Read(b)
}

// WriteBody writes a value as JSON; the content type is set already.
func WriteBody(w http.ResponseWriter, v any) {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	// The reader may be gone; nothing can be done about that.
	_ = enc.Encode(v)
}

// WriteJSON writes a value as the body of an answer with the status.
func WriteJSON(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	WriteBody(w, v)
}

// TooLargeProblem is the problem of a body of more bytes than the limit.
func TooLargeProblem(limit int64) api.Problem {
	return api.Problem{Kind: "too-large", Status: 413, Detail: fmt.Sprintf("the body may have %d bytes", limit)}
}

// ReadBody decodes a JSON body; unknown members are refused. Its error is a Problem.
func ReadBody(r *http.Request, into any) error {
	body, err := io.ReadAll(r.Body)
	if err == nil && (bytes.Contains(body, []byte(`\u0000`)) || !utf8.Valid(body)) {
		err = errors.New("it is not valid UTF-8, or holds a NUL")
	}
	if err == nil {
		dec := json.NewDecoder(bytes.NewReader(body))
		dec.DisallowUnknownFields()
		err = dec.Decode(into)
	}
	var tooLarge *http.MaxBytesError
	switch {
	case errors.As(err, &tooLarge):
		return TooLargeProblem(tooLarge.Limit)
	case err == io.EOF:
		return nil
	case err != nil:
		return api.Problem{Kind: "body", Status: 400, Detail: "the body cannot be read: " + err.Error()}
	}
	return nil
}

// QueryValues checks that only known parameters are given.
func QueryValues(r *http.Request, known ...string) (map[string]string, error) {
	return Parameters(r.URL, known)
}

// PathItself stands for the request's path where an error names a parameter: what
// is wrong with it is a 404.
const PathItself = "the path itself"

// Parameters reads the query string; each may stand once, and none may be
// unknown.
func Parameters(u *url.URL, known []string) (map[string]string, error) {
	values, err := url.ParseQuery(u.RawQuery)
	if err != nil {
		return nil, &query.Error{Parameter: "query string", Detail: "it is not well encoded: " + err.Error()}
	}
	out := map[string]string{}
	for name, v := range values {
		if !slices.Contains(known, name) {
			hint := strings.TrimPrefix(strictyaml.DidYouMean(name, known), "; ")
			if strings.HasPrefix(v[0], "ubq_") {
				hint = "a key belongs into the header Authorization: Bearer …, never into an address"
			}
			return nil, &query.Error{
				Parameter: strings.ToValidUTF8(name, "�"),
				Detail:    "there is no such parameter here",
				Hint:      hint,
			}
		}
		if len(v) > 1 {
			return nil, &query.Error{
				Parameter: name,
				Detail:    "it stands there " + strconv.Itoa(len(v)) + " times",
				Hint:      "give it once",
			}
		}
		if !utf8.ValidString(v[0]) || strings.ContainsRune(v[0], 0) {
			return nil, &query.Error{Parameter: name, Detail: "it is not valid UTF-8, or holds a NUL"}
		}
		out[name] = v[0]
	}
	return out, nil
}

// maxWait is how long a request may wait for all nodes.
const maxWait = 30 * time.Second

// WaitTime reads Prefer: wait (RFC 7240): how long the client would wait for every node
// to know of what it does; 0 for not at all.
func WaitTime(r *http.Request) time.Duration {
	for one := range strings.SplitSeq(strings.Join(r.Header["Prefer"], ","), ",") {
		if text, is := strings.CutPrefix(strings.ReplaceAll(strings.TrimSpace(one), " ", ""), "wait="); is {
			if n, err := strconv.Atoi(text); err == nil && n > 0 {
				return min(time.Duration(n)*time.Second, maxWait)
			}
		}
	}
	return 0
}
