package contentapi

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/query"
	"ubiquon/internal/server/guard"
	"ubiquon/internal/store/changelog"
)

// changesAtOnce bounds the changes of one answer.
const changesAtOnce = 500

// changes tells readers of an edition what has changed: with after as JSON, else
// as server-sent events that go on from Last-Event-ID, or from now. Somebody with a preview link follows
// its entry in preview, and nothing else.
func (s *API) changes(w http.ResponseWriter, r *http.Request, reader *access.Principal, edition string) {
	linked := reader.Only != ""
	if linked && (edition != content.Preview || r.URL.Query().Has("after")) ||
		!reader.Rights.AllowsAny(access.Read, edition) {
		s.refused(
			w, r, reader, edition,
			&access.DeniedError{Grant: access.Need{Verb: access.Read, Edition: edition, Type: access.Any}},
		)
		return
	}
	p, err := guard.Parameters(r.URL, []string{"after", "limit"})
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	after, given := p["after"]
	if !given {
		after = r.Header.Get("Last-Event-ID")
	}
	from := s.env.Replica.AppliedIn(edition)
	if after != "" {
		if from, err = strconv.ParseInt(after, 10, 64); err != nil || from < 0 {
			s.guard.Fail(
				w,
				r,
				&query.Error{
					Parameter: "after",
					Detail:    strconv.Quote(after) + " is no sequence",
					Hint:      "give the next of the answer before, or 0",
				},
			)
			return
		}
	}
	w.Header().Set("Cache-Control", "no-store")
	if !given {
		if _, _, err := s.env.Replica.ChangesFor(r.Context(), reader.Rights, edition, from, 1); err != nil {
			s.guard.Fail(w, r, s.trimmed(edition, err))
			return
		}
		end, err := s.guard.Streams.Open(
			s.guard.QueueName(reader, r), s.env.Replica.Limits().Streams,
			s.env.Replica.Limits().StreamsPerPrincipal,
		)
		if err != nil {
			s.guard.Fail(w, r, err)
			return
		}
		defer end()
		s.streamChanges(w, r, edition, from)
		return
	}
	limit := changesAtOnce
	if text, given := p["limit"]; given {
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > changesAtOnce {
			s.guard.Fail(
				w,
				r,
				&query.Error{
					Parameter: "limit",
					Detail:    fmt.Sprintf("%q is no number from 1 to %d", text, changesAtOnce),
				},
			)
			return
		}
	}
	leave, err := s.env.Delivery.Admit(r.Context(), s.guard.QueueName(reader, r))
	if err != nil {
		s.guard.Fail(w, r, err)
		return
	}
	defer leave()
	items, next, err := s.env.Replica.ChangesFor(r.Context(), reader.Rights, edition, from, limit)
	if err != nil {
		s.guard.Fail(w, r, s.trimmed(edition, err))
		return
	}
	guard.WriteJSON(w, http.StatusOK, map[string]any{"items": items, "next": next})
}

// trimmed says how to go on after changes that are not in the log any more.
func (s *API) trimmed(edition string, err error) error {
	if !errors.Is(err, changelog.ErrGap) {
		return err
	}
	return api.Problem{
		Kind:      "changes-gone",
		Status:    http.StatusGone,
		Parameter: "after",
		Detail:    "the changes after this sequence are not kept any more, or there never were any",
		Hint: fmt.Sprintf(
			"read anew what you hold, and go on with after=%d", s.env.Replica.AppliedIn(edition),
		),
	}
}

// streamChanges sends changes as they come, until the reader goes or may not know of
// them any more.
func (s *API) streamChanges(w http.ResponseWriter, r *http.Request, edition string, from int64) {
	out := guard.BeginEvents(w)
	beat := time.NewTicker(guard.StreamBeat)
	defer beat.Stop()
	for {
		moved := s.env.Replica.Advanced()
		for s.env.Replica.AppliedIn(edition) > from {
			reader, err := s.guard.ChangesStill(r, edition)
			if err != nil {
				return
			}
			items, next, err := s.env.Replica.ChangesFor(r.Context(), reader.Rights, edition, from, changesAtOnce)
			if err != nil || next == from {
				break // tried again at the next look
			}
			for _, one := range items {
				if reader.Only != "" && one.Entry != reader.Only {
					continue
				}
				src, _ := json.Marshal(one) // plain record
				out.Write("id: %d\nevent: %s\ndata: %s\n\n", one.Sequence, one.What, src)
			}
			from = next
		}
		if err := out.Out.Flush(); err != nil {
			return
		}
		select {
		case <-r.Context().Done():
			return
		case <-s.guard.Streams.Ending:
			out.Bye()
			return
		case <-moved:
		case <-beat.C:
			if _, err := s.guard.ChangesStill(r, edition); err != nil {
				return
			}
			out.Write(": at %d\n\n", from)
		}
	}
}
