package contentapi

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime"
	"net/http"
	"strings"

	"ubiquon/internal/graphql"
	"ubiquon/internal/store/accounts"
)

// graphqlRequest reads the request of either method, or several. The error is a
// badGraphQL.
func (s *API) graphqlRequest(
	w http.ResponseWriter, r *http.Request, edition string,
) (asked askedGraphQL, several []graphql.Request, err error) {
	switch r.Method {
	case http.MethodGet, http.MethodHead:
		req, err := graphqlOf(r.URL.RawQuery)
		if err != nil {
			return asked, nil, badGraphQL{status: 400, Message: "variables, or extensions, is not a JSON object"}
		}
		asked = askedOf(edition, r, r.URL.RawQuery, req)
	case http.MethodPost:
		if !isJSON(r.Header.Get("Content-Type")) {
			return asked, nil, badGraphQL{status: 415, Message: "send the request as application/json in UTF-8"}
		}
		most := s.env.Replica.Limits().GraphQLBody
		body, err := readSmall(w, r, int64(most))
		if err != nil {
			return asked, nil, badGraphQL{status: 413, Message: "the request has more than " + most.String()}
		}
		if bytes.HasPrefix(bytes.TrimSpace(body), []byte("[")) {
			several, err = s.severalRequests(body)
			return asked, several, err
		}
		asked = askedOf(edition, r, string(body), asked.Request)
		if !s.trustedOnly && !strings.Contains(asked.made.GraphQL, "documentId") &&
			!strings.Contains(asked.made.GraphQL, "persistedQuery") &&
			!strings.Contains(asked.made.GraphQL, `\u`) {
			if asked.plan = s.env.Delivery.Planned(asked.made); asked.plan != nil {
				return asked, nil, nil
			}
		}
		var req graphql.Request
		if err := json.Unmarshal(body, &req); err != nil {
			return asked, nil, badGraphQL{
				status:  400,
				Message: "the body is not a JSON object with query, operationName and variables",
			}
		}
		asked.Request = req
	default:
		w.Header().Set("Allow", "GET, HEAD, POST")
		return asked, nil, badGraphQL{status: 405, Message: "send GraphQL with GET or POST"}
	}
	req, bad := s.NamedDocument(asked.Request)
	if bad != nil {
		return asked, nil, *bad
	}
	asked.Request = req
	return asked, nil, nil
}

// isJSON tells whether a Content-Type is that of JSON in UTF-8.
func isJSON(contentType string) bool {
	if contentType == "application/json" {
		return true // as nearly everybody writes it
	}
	media, params, err := mime.ParseMediaType(contentType)
	return err == nil && media == "application/json" &&
		(params["charset"] == "" || strings.EqualFold(params["charset"], "utf-8"))
}

// readSmall reads a body of at most so many bytes.
func readSmall(w http.ResponseWriter, r *http.Request, most int64) ([]byte, error) {
	if r.ContentLength >= 0 && r.ContentLength <= most {
		body := make([]byte, r.ContentLength) // it has no more, says net/http
		_, err := io.ReadFull(r.Body, body)
		return body, err
	}
	return io.ReadAll(http.MaxBytesReader(w, r.Body, most))
}

// severalRequests reads a list of requests.
func (s *API) severalRequests(body []byte) ([]graphql.Request, error) {
	if s.batch == 0 {
		return nil, badGraphQL{
			status: 400,
			Message: "lists of requests are not taken here; send them one by one, or allow lists with graphql: " +
				"{batch: 10} in the configuration",
		}
	}
	var all []graphql.Request
	if err := json.Unmarshal(body, &all); err != nil {
		return nil, badGraphQL{
			status:  400,
			Message: "the body is not a list of JSON objects with query, operationName and variables",
		}
	}
	if len(all) == 0 || len(all) > s.batch {
		return nil, badGraphQL{
			status:  400,
			Message: fmt.Sprintf("the list has %d requests, it may have 1 to %d", len(all), s.batch),
		}
	}
	return all, nil
}

// NamedDocument fills in the text of the document that a request names.
func (s *API) NamedDocument(req graphql.Request) (graphql.Request, *badGraphQL) {
	named := req.Extensions.PersistedQuery
	switch {
	case named == nil:
	case named.Version != 1:
		return req, &badGraphQL{http.StatusOK, "PersistedQueryNotSupported", "PERSISTED_QUERY_NOT_SUPPORTED"}
	case req.Query == "" && req.DocumentID == "":
		text, known := s.env.Documents.Document("sha256:" + strings.ToLower(named.Hash))
		if !known { // the client sends the text then
			return req, &badGraphQL{http.StatusOK, "PersistedQueryNotFound", "PERSISTED_QUERY_NOT_FOUND"}
		}
		req.Query = text
		return req, nil
	case req.Query != "" && !strings.EqualFold(accounts.DocumentID(req.Query), "sha256:"+named.Hash):
		return req, &badGraphQL{
			status:  http.StatusBadRequest,
			Message: "extensions.persistedQuery.sha256Hash is not the SHA-256 of the query",
		}
	}
	switch {
	case req.Query == "" && req.DocumentID == "":
		return req, &badGraphQL{status: 400, Message: "the request has no query"}
	case req.DocumentID == "":
		return req, nil
	case req.Query != "":
		return req, &badGraphQL{status: 400, Message: "the request has a query and a documentId; send one of them"}
	}
	text, known := s.env.Documents.Document(req.DocumentID)
	if !known {
		return req, &badGraphQL{
			status:  400,
			Message: fmt.Sprintf("there is no trusted document %q; see ubiquon document list", req.DocumentID),
		}
	}
	req.Query = text
	return req, nil
}
