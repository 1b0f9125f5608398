// Package mailbox is a simulated mail server: it takes every message by SMTP, delivers none, and
// shows what it has got on a page and as JSON.
package mailbox

import (
	"cmp"
	"encoding/json"
	"html/template"
	"io"
	"log/slog"
	"mime"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Message is one message to one address.
type Message struct {
	ID      string    `json:"id"`
	To      string    `json:"to"`
	From    string    `json:"from"`
	Subject string    `json:"subject"`
	Text    string    `json:"text"`
	At      time.Time `json:"at"`
}

const (
	// mostMessages bounds what is kept; the oldest go.
	mostMessages = 1000
	mostBytes    = 1 << 20
)

// Options of New.
type Options struct {
	Log *slog.Logger
}

// Mailbox is a running one. It is an http.Handler: GET / is a page, GET /messages JSON.
type Mailbox struct {
	log  *slog.Logger
	smtp *smtp.Server
	mux  *http.ServeMux

	mu       sync.Mutex
	messages []Message // the newest first
	refusing string
}

// New returns an empty mailbox.
func New(o Options) *Mailbox {
	m := &Mailbox{log: o.Log, mux: http.NewServeMux()}
	if m.log == nil {
		m.log = slog.New(slog.DiscardHandler)
	}
	m.smtp = smtp.NewServer(m)
	m.smtp.Domain = "mailbox.skerry.example"
	m.smtp.MaxMessageBytes, m.smtp.MaxRecipients = mostBytes, 100
	m.smtp.ReadTimeout, m.smtp.WriteTimeout = 20*time.Second, 20*time.Second
	m.mux.HandleFunc("GET /messages", m.list)
	m.mux.HandleFunc("DELETE /messages", func(w http.ResponseWriter, _ *http.Request) {
		m.mu.Lock()
		m.messages = nil
		m.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	})
	m.mux.HandleFunc("PUT /refusing", m.setRefusing)
	m.mux.HandleFunc("GET /{$}", m.page)
	return m
}

// ServeSMTP takes messages until Close.
func (m *Mailbox) ServeSMTP(l net.Listener) error { return m.smtp.Serve(l) }

// Close ends ServeSMTP.
func (m *Mailbox) Close() { _ = m.smtp.Close() }

// ServeHTTP implements http.Handler.
func (m *Mailbox) ServeHTTP(w http.ResponseWriter, r *http.Request) { m.mux.ServeHTTP(w, r) }

// Messages returns what came, the newest first.
func (m *Mailbox) Messages() []Message {
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.messages)
}

func (m *Mailbox) list(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	_ = json.NewEncoder(w).Encode(map[string]any{"items": append([]Message{}, m.Messages()...)})
}

// setRefusing has every message refused with a text, until it is empty: temporarily, or, with
// 5xx at its beginning, for good.
func (m *Mailbox) setRefusing(w http.ResponseWriter, r *http.Request) {
	text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1000))
	if err != nil {
		http.Error(w, "the text is too long", http.StatusRequestEntityTooLarge)
		return
	}
	m.mu.Lock()
	m.refusing = string(text)
	m.mu.Unlock()
	w.WriteHeader(http.StatusNoContent)
}

var page = template.Must(template.New("").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<title>Mailbox</title><style>
body{font:16px/1.5 system-ui,sans-serif;margin:2rem auto;max-width:46rem;padding:0 1rem;background:#f4efe6;color:#2b2a27}
article{background:#fffdf8;border:1px solid #d9d0bf;border-radius:6px;padding:1rem 1.25rem;margin:1rem 0}
h2{margin:0;font-size:1.1rem}p{margin:.25rem 0;color:#6a6355}pre{white-space:pre-wrap;font:inherit;margin:.75rem 0 0}
</style><h1>Mailbox</h1><p>What the line's gateway has sent. Nothing of it is delivered.</p>
{{range .}}<article><h2>{{.Subject}}</h2><p>to {{.To}}, {{.At.Format "2 January, 15:04:05"}}</p><pre>{{.Text}}</pre></article>
{{else}}<p>Nothing has come yet.</p>{{end}}</html>`))

func (m *Mailbox) page(w http.ResponseWriter, _ *http.Request) {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-store")
	if err := page.Execute(w, m.Messages()); err != nil {
		m.log.Warn("the page was not sent", "error", err)
	}
}

// NewSession implements smtp.Backend.
func (m *Mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &session{m: m}, nil }

type session struct {
	m    *Mailbox
	from string
	to   []string
}

// Mail implements smtp.Session.
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}

// Rcpt implements smtp.Session.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = append(s.to, to)
	return nil
}

// Data implements smtp.Session.
func (s *session) Data(r io.Reader) error {
	s.m.mu.Lock()
	refusing := s.m.refusing
	s.m.mu.Unlock()
	if refusing != "" {
		code := 451
		if strings.HasPrefix(refusing, "5") {
			code = 550
		}
		return &smtp.SMTPError{Code: code, EnhancedCode: smtp.EnhancedCode{code / 100, 7, 1}, Message: refusing}
	}
	msg, err := mail.ReadMessage(io.LimitReader(r, mostBytes))
	if err != nil {
		return err
	}
	text, err := io.ReadAll(decoded(msg))
	if err != nil {
		return err
	}
	decoder := mime.WordDecoder{}
	subject, err := decoder.DecodeHeader(msg.Header.Get("Subject"))
	if err != nil {
		subject = msg.Header.Get("Subject")
	}
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	for _, to := range s.to {
		one := Message{
			ID: strings.Trim(msg.Header.Get("Message-Id"), "<>"), To: to,
			From: cmp.Or(msg.Header.Get("From"), s.from), Subject: subject,
			Text: strings.ReplaceAll(string(text), "\r\n", "\n"), At: time.Now().UTC(),
		}
		// The same message again, since the answer to the first one was lost, is one.
		if !slices.ContainsFunc(s.m.messages, func(o Message) bool { return o.ID == one.ID && o.To == one.To }) {
			s.m.messages = append([]Message{one}, s.m.messages[:min(len(s.m.messages), mostMessages-1)]...)
		}
	}
	s.m.log.Info("took a message", "to", s.to, "subject", subject)
	return nil
}

// Reset implements smtp.Session.
func (s *session) Reset() { s.from, s.to = "", nil }

// Logout implements smtp.Session.
func (s *session) Logout() error { return nil }
