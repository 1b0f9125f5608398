// Package weather is a simulated weather service: an Atom feed (RFC 4287) of forecasts, and a way to add one.
package weather

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"net/http"
	"strconv"
	"sync"
	"time"
)

// Forecast is an entry of the feed.
type Forecast struct {
	ID      string    `json:"id"`
	Title   string    `json:"title"`
	Text    string    `json:"text"` // HTML
	Area    string    `json:"area"`
	Updated time.Time `json:"updated"`
}

// Service serves the feed. It is an http.Handler, and safe for concurrent use.
type Service struct {
	mu        sync.Mutex
	forecasts []Forecast // the newest first
}

// mostListed bounds the feed, as feeds do: what is older is listed no longer.
const mostListed = 20

// New returns a service with some forecasts.
func New(at time.Time) *Service {
	s := &Service{}
	for _, f := range []Forecast{
		{Area: "north", Title: "Northern skerries: fog until noon", Text: "<p>Light wind. <b>Fog</b> lifts by noon.</p>"},
		{Area: "sound", Title: "The sound: fresh breeze, dry", Text: "<p>South-west 8 m/s, dry. Waves below one metre.</p>"},
		{Area: "outer", Title: "Outer ring: gale warning", Text: "<p>North-west 18 m/s.</p><ul><li>No Seal Gap.</li></ul>"},
	} {
		f.Updated = at.Add(time.Duration(len(s.forecasts)) * time.Minute)
		s.add(f)
	}
	return s
}

func (s *Service) add(f Forecast) {
	f.ID = "tag:weather.skerry.example,2026:" + f.Area
	kept := []Forecast{f}
	for _, old := range s.forecasts {
		if old.ID != f.ID && len(kept) < mostListed {
			kept = append(kept, old)
		}
	}
	s.forecasts = kept
}

type link struct {
	Rel  string `xml:"rel,attr"`
	Href string `xml:"href,attr"`
}

type entry struct {
	ID       string `xml:"id"`
	Title    string `xml:"title"`
	Updated  string `xml:"updated"`
	Category struct {
		Term string `xml:"term,attr"`
	} `xml:"category"`
	Content struct {
		Type string `xml:"type,attr"`
		Text string `xml:",chardata"`
	} `xml:"content"`
}

type feed struct {
	XMLName xml.Name `xml:"http://www.w3.org/2005/Atom feed"`
	ID      string   `xml:"id"`
	Title   string   `xml:"title"`
	Updated string   `xml:"updated"`
	Link    link     `xml:"link"`
	Entries []entry  `xml:"entry"`
}

// ServeHTTP answers GET with the feed, and takes a forecast with POST.
func (s *Service) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if r.Method == http.MethodPost {
		var f Forecast
		if err := json.NewDecoder(http.MaxBytesReader(w, r.Body, 64<<10)).Decode(&f); err != nil || f.Area == "" ||
			f.Title == "" {
			http.Error(w, "send {area, title, text}", http.StatusBadRequest)
			return
		}
		f.Updated = time.Now()
		s.add(f)
		w.WriteHeader(http.StatusNoContent)
		return
	}
	out := feed{ID: "tag:weather.skerry.example,2026:feed", Title: "Weather on the Skerry Line"}
	out.Link = link{"self", "http://" + r.Host + r.URL.Path}
	for _, f := range s.forecasts {
		one := entry{ID: f.ID, Title: f.Title, Updated: f.Updated.UTC().Format(time.RFC3339)}
		one.Category.Term = f.Area
		one.Content.Type, one.Content.Text = "html", f.Text
		out.Updated = max(out.Updated, one.Updated)
		out.Entries = append(out.Entries, one)
	}
	src, err := xml.MarshalIndent(out, "", "  ")
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	sum := sha256.Sum256(src)
	w.Header().Set("ETag", strconv.Quote(hex.EncodeToString(sum[:8])))
	if r.Header.Get("If-None-Match") == w.Header().Get("ETag") {
		w.WriteHeader(http.StatusNotModified)
		return
	}
	w.Header().Set("Content-Type", "application/atom+xml; charset=utf-8")
	_, _ = w.Write(append([]byte(xml.Header), src...)) // the reader may be gone
}
