package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strconv"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/automation"
	"ubiquon/internal/client"
	"ubiquon/internal/testkit"
)

// faultPages is a site that renders its pages when it is told that they are stale, from any node, and shows
// what it has rendered.
type faultPages struct {
	f   *faults
	key string
	// reads are what each page is made of.
	reads map[string][]string
	// rendering is held while a page is rendered: were two renders of it under way, the one that read the older
	// content might end last, and be shown.
	rendering map[string]*sync.Mutex

	mu      sync.Mutex
	shown   map[string]string // what the pages show
	renders int
	told    int

	// hold makes the next call end when it is closed, and held is closed when one waits for that.
	hold, held chan struct{}
}

func newFaultPages(f *faults) *faultPages {
	s := &faultPages{f: f, reads: map[string][]string{}, rendering: map[string]*sync.Mutex{}, shown: map[string]string{}}
	for pair := range pairs {
		for _, side := range []string{"a", "b"} {
			s.reads[fmt.Sprintf("/pier-%d%s", pair, side)] = []string{
				fmt.Sprintf("/entries/p%d%s?fields=name", pair, side), "/piers?count=true&limit=0",
			}
		}
		s.reads[fmt.Sprint("/below-", pair)] = []string{fmt.Sprintf("/entries/page%d?fields=about(path)", pair)}
	}
	s.reads["/"] = []string{"/piers?fields=name&sort=name&limit=3", "/quays?fields=name&sort=name&limit=2"}
	for page := range s.reads {
		s.rendering[page] = &sync.Mutex{}
	}
	return s
}

// begin gives the site its key, and renders all of it.
func (s *faultPages) begin() {
	_, key, err := s.f.client(0).Keys().Create(s.f.t.Context(), api.NewKey{
		Name: "shown", Site: "shown", Grants: []string{"read published *"},
	})
	if err != nil {
		s.f.t.Fatal(err)
	}
	s.key = key
	for page := range s.reads {
		testkit.Eventually(s.f.t, "all nodes know the key of the site", func() bool {
			return s.render(s.f.t.Context(), page, 0) == nil
		})
	}
}

// render reads what a page is made of, each of it from whatever node, and shows it if all is there.
func (s *faultPages) render(ctx context.Context, page string, sequence int64) error {
	s.rendering[page].Lock()
	defer s.rendering[page].Unlock()
	s.mu.Lock()
	s.renders++
	mark := fmt.Sprintf("%q; render=\"%d\"", page, s.renders)
	s.mu.Unlock()
	var shows bytes.Buffer
	for _, r := range s.reads[page] {
		body, err := s.get(ctx, rand.IntN(len(s.f.nodes)), r, http.Header{
			"Ubiquon-Page": {mark}, "Ubiquon-Min-Sequence": {strconv.FormatInt(sequence, 10)},
		})
		if err != nil {
			return err
		}
		shows.Write(body)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shown[page] = shows.String()
	return nil
}

func (s *faultPages) get(ctx context.Context, node int, request string, header http.Header) ([]byte, error) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	a, err := (&client.Client{Address: s.f.nodes[node].address, Key: s.key}).Do(
		ctx, http.MethodGet, "/content/main/published"+request, header, nil,
	)
	if err == nil {
		err = a.Err()
	}
	if err != nil {
		return nil, err
	}
	return a.Body, nil
}

// refresh takes the call that tells which pages are stale; it fails if one cannot be rendered.
func (s *faultPages) refresh(w http.ResponseWriter, r *http.Request) {
	var event struct{ Data automation.StalePages }
	if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&event); err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	var stale []string
	for _, p := range event.Data.Pages {
		stale = append(stale, p.Path)
	}
	if event.Data.All {
		for page := range s.reads {
			stale = append(stale, page)
		}
	}
	s.mu.Lock()
	s.told++
	s.mu.Unlock()
	for _, page := range stale {
		if err := s.render(r.Context(), page, event.Data.Sequence); err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
			return
		}
	}
	s.mu.Lock()
	hold, held := s.hold, s.held
	s.hold = nil
	s.mu.Unlock()
	if hold != nil {
		close(held)
		<-hold
	}
}

// amidACall does something while a node waits for the answer of the site, if one calls within two seconds.
func (s *faultPages) amidACall(ctx context.Context, do func()) {
	hold, held := make(chan struct{}), make(chan struct{})
	defer close(hold)
	s.mu.Lock()
	s.hold, s.held = hold, held
	s.mu.Unlock()
	select {
	case <-held:
		s.f.done["amid a call"]++
	case <-ctx.Done():
	case <-time.After(2 * time.Second):
	}
	do()
}

// visit renders pages for no reason, as visitors have sites do.
func (s *faultPages) visit(ctx context.Context) {
	for ctx.Err() == nil {
		for page := range s.reads { // some page
			_ = s.render(ctx, page, 0) // or not: nodes are away at times
			break
		}
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// isTrue waits until every page shows what the content is.
func (s *faultPages) isTrue() {
	wrong := ""
	defer func() {
		if s.f.t.Failed() {
			known, err := s.f.client(0).Builds().Pages(context.Background(), api.PageFilter{Site: "shown"})
			says, _ := json.Marshal(known) // for people
			s.f.t.Logf("%s\nwhat is known: %s %v", wrong, says, err)
		}
	}()
	testkit.Eventually(s.f.t, "every page shows what is published", func() bool {
		for page, reads := range s.reads {
			var is bytes.Buffer
			for _, r := range reads {
				body, err := s.get(s.f.t.Context(), 0, r, http.Header{"Cache-Control": {"no-store"}})
				if err != nil {
					wrong = err.Error()
					return false
				}
				is.Write(body)
			}
			s.mu.Lock()
			shown := s.shown[page]
			s.mu.Unlock()
			if shown != is.String() {
				wrong = fmt.Sprintf("%s shows %s and there is %s", page, shown, &is)
				return false
			}
		}
		return true
	})
	s.f.t.Logf("the site was told %d times, and rendered %d pages", s.told, s.renders)
}
