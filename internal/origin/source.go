package origin

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"ubiquon/internal/core/event"
	"ubiquon/internal/core/mapping"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/proof"
	"ubiquon/internal/health"
)

// ErrGone is the error of an item that the origin does not have (any more).
var ErrGone = errors.New("the origin does not have it")

// maxAnswer bounds one answer of an origin, in bytes.
const maxAnswer = 32 << 20

const (
	// maxPages bounds the pages of one list.
	maxPages = 5000
	// longestList bounds how long one list is read.
	longestList = 15 * time.Minute
)

// Reading is what sources are read with.
type Reading struct {
	// Client calls the outside: through the guarded dialer.
	Client *http.Client
	// Long is such a client for what takes its time.
	Long *http.Client
	// Dial reaches hosts otherwise than over HTTP: the guarded dialer itself.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Folders are the directories that folders and repositories may be in.
	Folders []string
	// Work is a directory for copies of repositories.
	Work string
	// Pushed are the items that origins have written here.
	Pushed Pushed
	// Locales are those of the model, the default one first.
	Locales func() []string
}

// Pushed are the items of one origin that were written here.
type Pushed interface {
	// List hands over the items of a kind, some at a time.
	List(ctx context.Context, kind string, each func([]any) error) error
	// Get returns an item; ErrGone if there is none.
	Get(ctx context.Context, kind, key string) (any, error)
}

// reader reads the items of an origin in the origin's own form.
type reader interface {
	// list hands over all items of a type, some at a time.
	list(ctx context.Context, typ string, each func([]any) error) error
	// one returns an item; its error wraps ErrGone if there is none.
	one(ctx context.Context, typ, key string) (any, error)
	// probe returns the address of a type's items, and how many are there at first sight.
	probe(ctx context.Context, typ string) (address string, items int, err error)
}

// Ref names an item.
type Ref struct{ Type, Key string }

// Source reads one origin. It is safe for concurrent use.
type Source struct {
	Name   string
	Config Config
	base   *url.URL         // that addresses within items are relative to
	paths  map[string]paths // by type
	health health.Target
	reader reader
	with   Reading
	// wantsHTML says of which types the mapping reads the HTML of texts.
	wantsHTML map[string]bool
}

// Trouble is the error of an origin that cannot be read now, whatever is asked of
// it: the same may be tried again.
type Trouble struct{ err error }

// Error implements error.
func (t *Trouble) Error() string { return t.err.Error() }

// Unwrap returns the error beneath.
func (t *Trouble) Unwrap() error { return t.err }

// Health returns how reading the origin has gone. After failures in a row it is not read
// for a while: then errors are a *Trouble that wraps a *health.HeldBackError.
func (s *Source) Health() health.State { return s.health.State() }

// New returns the source for a checked configuration.
func New(name string, c Config, with Reading) (*Source, error) {
	s := &Source{
		Name: name, Config: c, base: &url.URL{}, paths: map[string]paths{}, with: with, wantsHTML: map[string]bool{},
	}
	for typ := range c.Types {
		p, err := c.compile(typ)
		if err != nil {
			return nil, fmt.Errorf("origin %s, type %s: %w", name, typ, err)
		}
		s.paths[typ] = p
		for text := range p {
			s.wantsHTML[typ] = s.wantsHTML[typ] || strings.Contains(text, "html")
		}
	}
	var err error
	switch {
	case c.Pull.Folder != "":
		s.reader, err = newFolder(s, with)
	case c.Pull.Git != nil:
		s.reader, err = newGit(s, with)
	case c.Pull.Feed != "":
		s.reader, err = newFeed(s, with)
	case c.Pull.Push:
		s.reader = pushed{s, with.Pushed}
	default:
		s.reader, err = newOverHTTP(s, with)
	}
	if err != nil {
		return nil, fmt.Errorf("origin %s: %w", name, err)
	}
	return s, nil
}

// locales are those of the model.
func (s *Source) locales() []string { return s.with.Locales() }

func (s *Source) defaultLocale() string { return s.with.Locales()[0] }

// idOf finds what the origin calls an item of a type.
func (s *Source) idOf(typ string) string {
	m := s.Config.Types[typ]
	return m.id(&s.Config.Pull)
}

// fileScheme is the scheme of addresses of files that lie beside the items of an origin.
const fileScheme = "origin"

// around is what an item, or a translation of one, is brought over from.
func (s *Source) around(in any, lost *mapping.Lost) mapping.Around {
	out := mapping.Around{Origin: s.Name, Base: s.base, File: s.fileAddress(in), Lost: lost}
	if r, is := s.reader.(interface {
		entryAt(from, address string) string
	}); is {
		object, _ := in.(map[string]any)
		file, _ := object["file"].(string)
		out.Entry = func(address string) string { return r.entryAt(file, address) }
	}
	return out
}

// fileAddress returns what the addresses of files become that stand in an item: those of files beside
// it are our own.
func (s *Source) fileAddress(in any) func(string) string {
	object, _ := in.(map[string]any)
	file, _ := object["file"].(string)
	if _, is := s.reader.(interface {
		openFile(ctx context.Context, file string, most int64) ([]byte, error)
	}); !is {
		return func(address string) string { return address }
	}
	return func(address string) string {
		if u, err := url.Parse(address); err != nil || u.IsAbs() || u.Host != "" {
			return address
		}
		at := path.Join("/", path.Dir(file), address)
		if strings.HasPrefix(address, "/") {
			at = path.Clean(address)
		}
		return (&url.URL{Scheme: fileScheme, Host: s.Name, Path: at}).String()
	}
}

// OpenFile returns what is in a file beside the items, by its path, of at most so many bytes. Its error
// wraps ErrGone if there is none.
func (s *Source) OpenFile(ctx context.Context, file string, most int64) ([]byte, error) {
	if r, is := s.reader.(interface {
		openFile(ctx context.Context, file string, most int64) ([]byte, error)
	}); is {
		return r.openFile(ctx, strings.TrimPrefix(file, "/"), most)
	}
	return nil, fmt.Errorf("origin %s: %w", s.Name, ErrGone)
}

// Prove decides whether a call comes from the origin: see proof.Proof.
func (s *Source) Prove(m *proof.Message, now time.Time) error { return s.Config.proof().Prove(m, now) }

// Challenge is the WWW-Authenticate header for who is not proven.
func (s *Source) Challenge() string { return s.Config.proof().Challenge() }

// Kinds lists what the origin calls its types, sorted.
func (s *Source) Kinds() (out []string) {
	for typ := range s.Config.Types {
		out = append(out, s.Config.Kind(typ))
	}
	slices.Sort(out)
	return out
}

// Decode reads what a call announces. Announcements of a kind that is not mapped are not understood;
// of CloudEvents, they are an error.
func (s *Source) Decode(header http.Header, body []byte) ([]event.Announcement, error) {
	if s.Config.Pull.Feed != "" && s.Config.Decode.IsZero() {
		return []event.Announcement{{Decoded: event.Decoded{Kind: event.Ping}, Body: body}}, nil
	}
	kinds := s.Kinds()
	all, err := s.Config.Decode.Decode(header, body, kinds)
	for i := range all {
		a := &all[i]
		if err != nil || a.Kind == event.Ping || a.Unknown != "" || slices.Contains(kinds, a.OriginKind) {
			continue
		}
		why := fmt.Sprintf("it is about a %q, which is none of the kinds configured for this origin", a.OriginKind)
		if s.Config.Decode.IsZero() || s.Config.Decode.Name == event.CloudEvents {
			return nil, errors.New(why)
		}
		a.Unknown = why
	}
	return all, err
}

// TypeOf returns our name for the origin's kind of item.
func (s *Source) TypeOf(kind string) (string, bool) {
	for typ := range s.Config.Types {
		if s.Config.Kind(typ) == kind {
			return typ, true
		}
	}
	return "", false
}

// EditAddress is where people edit the entry, "" if that is not configured.
func (s *Source) EditAddress(typ, key string) string {
	return expand(s.Config.EditAt, s.Config.Kind(typ), key, func(text string) string {
		parts := strings.Split(text, "/")
		for i := range parts {
			parts[i] = url.PathEscape(parts[i])
		}
		return strings.Join(parts, "/")
	})
}

// One fetches the present state of an item. Its error wraps ErrGone if there is none.
func (s *Source) One(ctx context.Context, m *model.Model, typ, key string) (Item, error) {
	in, err := s.reader.one(ctx, typ, key)
	if err != nil {
		return Item{}, err
	}
	return s.Map(m, typ, in)
}

// Raw fetches an item in the origin's own form; without a key the first one of the list.
func (s *Source) Raw(ctx context.Context, typ, key string) (any, error) {
	if key != "" {
		return s.reader.one(ctx, typ, key)
	}
	enough := errors.New("enough")
	var first any
	err := s.reader.list(ctx, typ, func(items []any) error {
		if len(items) == 0 {
			return nil
		}
		first = items[0]
		return enough
	})
	switch {
	case first != nil:
		return first, nil
	case err == nil:
		err = fmt.Errorf("origin %s has no item of %s: %w", s.Name, s.Config.Kind(typ), ErrGone)
	}
	return nil, err
}

// Probe fetches the first page of a type, and returns the address and how many items are there.
// It does not count for the origin's health.
func (s *Source) Probe(ctx context.Context, typ string) (address string, items int, err error) {
	return s.reader.probe(ctx, typ)
}

// All fetches all items of a type, some at a time. An item that cannot be brought
// over goes to bad, and the rest goes on.
func (s *Source) All(
	ctx context.Context, m *model.Model, typ string, each func([]Item) error, bad func(BadItem),
) error {
	return s.reader.list(ctx, typ, func(found []any) error {
		items := make([]Item, 0, len(found))
		for _, one := range found {
			if item, err := s.Map(m, typ, one); err != nil {
				bad(BadItem{Type: typ, Key: item.Key, Err: err})
			} else {
				items = append(items, item)
			}
		}
		return each(items)
	})
}

// Changes is what has changed of an origin since it was asked last.
type Changes struct {
	Items []Ref
	// Mark says what it is now, as in the commit of a repository; Text is its subject and author.
	Mark, Text string
	// Done notes that the changes are taken over; without it they come again.
	Done func()
}

// Changes returns what has changed since the last time that was taken over, or since everything was
// compared. ok is false where the source cannot tell: everything is to be compared then.
func (s *Source) Changes(ctx context.Context) (c Changes, ok bool, err error) {
	if r, can := s.reader.(interface {
		changes(ctx context.Context) (Changes, bool, error)
	}); can {
		return r.changes(ctx)
	}
	return c, false, nil
}

// Compared notes that everything was compared, from a time on; what was read then is known.
func (s *Source) Compared() {
	if r, can := s.reader.(interface{ compared() }); can {
		r.compared()
	}
}

// Watch calls wake when something may have changed, until ctx ends. It returns at once where the
// source cannot tell by itself.
func (s *Source) Watch(ctx context.Context, wake func()) error {
	if r, can := s.reader.(interface {
		watch(ctx context.Context, wake func()) error
	}); can {
		return r.watch(ctx, wake)
	}
	return nil
}

// Polled tells that what has changed is found by asking now and then, which costs little.
func (s *Source) Polled() bool {
	return s.Config.Pull.Git != nil || s.Config.Pull.Feed != "" || s.Config.Pull.UpdatedSince != ""
}

// try does something that the origin's health is known by. Its error is a *Trouble, or wraps
// ErrGone, unless the caller has gone.
func (s *Source) try(ctx context.Context, do func() error) error {
	if err := s.health.Allow(time.Now()); err != nil {
		return &Trouble{fmt.Errorf("origin %s: %w", s.Name, err)}
	}
	err := do()
	if err == nil || errors.Is(err, ErrGone) {
		s.health.Done(time.Now(), nil)
		return err
	}
	if ctx.Err() != nil {
		return err // that says nothing of the origin
	}
	s.health.Done(time.Now(), err)
	return &Trouble{err}
}

// pushed reads the items that an origin has written here.
type pushed struct {
	s     *Source
	items Pushed
}

func (p pushed) list(ctx context.Context, typ string, each func([]any) error) error {
	return p.items.List(ctx, p.s.Config.Kind(typ), each)
}

func (p pushed) one(ctx context.Context, typ, key string) (any, error) {
	return p.items.Get(ctx, p.s.Config.Kind(typ), key)
}

func (p pushed) probe(ctx context.Context, typ string) (address string, items int, err error) {
	err = p.list(ctx, typ, func(some []any) error {
		items += len(some)
		return nil
	})
	return "what " + p.s.Name + " has written here", items, err
}
