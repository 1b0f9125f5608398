// Package files keeps the library of files: it takes uploads in, describes what came, makes
// pictures of others once for all nodes, mirrors files of outside systems, and collects what
// nobody uses. What is said of a file is an entry of the built-in type; its bytes are in a blob
// store. The package knows neither HTTP routes nor who may do what.
package files

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"ubiquon/internal/api"
	"ubiquon/internal/background"
	"ubiquon/internal/blob"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/picture"
	"ubiquon/internal/outbound"
	"ubiquon/internal/rendering"
	"ubiquon/internal/replication"
	"ubiquon/internal/store/files"
	"ubiquon/internal/store/writing"
)

// Config is the part of a node's configuration that is about files.
type Config struct {
	// Address is put before addresses of files in answers, as in https://gateway.example; without
	// one they begin with a slash.
	Address string
	// Ladder are the widths that anybody may ask for; empty: picture.DefaultLadder.
	Ladder []int
	// MaxBytes bounds one file, 0 means 5 GiB; Quota all of the environment's, 0 means nothing does.
	MaxBytes, Quota int64
	// RenditionBytes bounds what pictures take that are made of others; 0 means 10 GiB.
	RenditionBytes int64
	// Grace is for how long bytes are kept that nobody uses; 0 means 24 hours.
	Grace time.Duration
	// Scan is the address of a virus scanner that is sent what is uploaded; "" for none.
	Scan string
	// Rendering are the options of the renderer.
	Rendering rendering.Options
}

// The defaults of Config.
const (
	defaultMaxBytes       = 5 << 30
	defaultRenditionBytes = 10 << 30
	defaultGrace          = 24 * time.Hour
)

// fetchTimeout bounds how long a file is fetched, or looked at by a scanner.
const fetchTimeout = 10 * time.Minute

// Options of New.
type Options struct {
	Replica   *replication.Replica
	Blobs     blob.Store
	Addresses *picture.Addresses
	Config    Config
	// Apply writes entries.
	Apply func(context.Context, []writing.Edit, string, content.Cause) (writing.Applied, error)
	// Outbound says where files may be fetched from.
	Outbound outbound.Options
	// Beside returns what is in a file that lies beside the items of an origin, by its path, of at
	// most so many bytes.
	Beside func(ctx context.Context, origin, path string, most int64) ([]byte, error)
}

// Service is the library of files of one environment on one node. It is safe for concurrent use.
type Service struct {
	beside    func(ctx context.Context, origin, path string, most int64) ([]byte, error)
	replica   *replication.Replica
	store     *files.Files
	blobs     blob.Store
	held      *blob.Remembered // the same, for readers
	addresses *picture.Addresses
	config    Config
	apply     func(context.Context, []writing.Edit, string, content.Cause) (writing.Applied, error)
	renderer  *rendering.Renderer
	client    *http.Client
	log       *slog.Logger
	work      *background.Group

	making, mirroring singleflight.Group

	mu sync.Mutex
	// blobsKnown, published and made are what is known without asking the database: of bytes,
	// whether readers can see a file with them, and of pictures that are kept.
	blobsKnown map[string]files.Blob
	published  map[string]bool
	made       map[files.Key]keptPicture
	used       map[files.Key]bool // since they were last noted
	lateAVIF   map[files.Key]bool // that are made in the background
	late       chan order
}

// mostKnown bounds each of the maps: a full one is emptied.
const mostKnown = 5000

// New returns the library of the files of what the replica follows.
func New(o Options) *Service {
	c := o.Config
	if c.MaxBytes == 0 {
		c.MaxBytes = defaultMaxBytes
	}
	if c.RenditionBytes == 0 {
		c.RenditionBytes = defaultRenditionBytes
	}
	if c.Grace == 0 {
		c.Grace = defaultGrace
	}
	o.Outbound.Timeout = fetchTimeout
	s := &Service{
		replica: o.Replica, store: o.Replica.Store().Files, blobs: o.Blobs, held: blob.Remember(o.Blobs),
		addresses: o.Addresses, config: c,
		apply: o.Apply, renderer: rendering.New(c.Rendering), client: o.Outbound.NewClient(),
		log: o.Replica.Log(), work: o.Replica.Work(), late: make(chan order, mostLate), beside: o.Beside,
	}
	s.forget()
	return s
}

// Start begins to note what is used and to collect what is not, until the node ends.
func (s *Service) Start() {
	if !s.renderer.HasTools() {
		s.log.Warn(
			"libvips-tools are not installed: pictures are made by the service itself, more slowly, as JPEG and PNG alone",
		)
	}
	s.work.Go(s.noteUsedLoop)
	s.work.GoAwake(s.collectLoop)
	s.work.Go(s.lateLoop)
}

// forget drops all that is known without asking.
func (s *Service) forget() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.blobsKnown, s.published = map[string]files.Blob{}, map[string]bool{}
	s.made, s.used, s.lateAVIF = map[files.Key]keptPicture{}, map[files.Key]bool{}, map[files.Key]bool{}
}

// ContentChanged forgets which files readers can see: that is looked up again.
func (s *Service) ContentChanged() {
	s.mu.Lock()
	defer s.mu.Unlock()
	clear(s.published)
}

// keepIn keeps what was found out in one of the maps. The caller holds the lock.
func keepIn[K comparable, V any](m map[K]V, key K, v V) {
	if len(m) >= mostKnown {
		clear(m)
	}
	m[key] = v
}

// Blob returns what is known of bytes. Its error is db.ErrNotFound if they are not kept.
func (s *Service) Blob(ctx context.Context, hash string) (files.Blob, error) {
	s.mu.Lock()
	b, ok := s.blobsKnown[hash]
	s.mu.Unlock()
	if ok {
		return b, nil
	}
	b, err := s.store.Blob(ctx, hash)
	if err != nil {
		return b, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	keepIn(s.blobsKnown, hash, b)
	return b, nil
}

// IsPublished tells whether readers can see a file with the bytes.
func (s *Service) IsPublished(ctx context.Context, hash string) (bool, error) {
	s.mu.Lock()
	is, ok := s.published[hash]
	s.mu.Unlock()
	if ok {
		return is, nil
	}
	before := s.replica.Cache().Applied()
	is, err := s.store.IsPublished(ctx, hash)
	if err != nil {
		return false, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.replica.Cache().Applied() == before { // else it may be older than what was cleared
		keepIn(s.published, hash, is)
	}
	return is, nil
}

// Open reads the bytes of a file.
func (s *Service) Open(ctx context.Context, hash string) (blob.Reader, blob.Item, error) {
	return s.held.Open(ctx, originalKey(hash))
}

func originalKey(hash string) string { return "file/" + hash }

// number reads a number out of facts.
func number(facts content.Fields, name string) int {
	n, _ := facts[name].(float64)
	return int(n)
}

func text(facts content.Fields, name string) string {
	s, _ := facts[name].(string)
	return s
}

// MediaType is the media type of bytes.
func MediaType(b files.Blob) string { return text(b.Facts, "mediaType") }

// looked is what the renderer wants to know of bytes.
func looked(b files.Blob) rendering.Facts {
	turned, _ := b.Facts["turned"].(bool)
	profiled, _ := b.Facts["profiled"].(bool)
	return rendering.Facts{
		Width: number(b.Facts, "width"), Height: number(b.Facts, "height"), Frames: max(number(b.Facts, "frames"), 1),
		Turned: turned, Profiled: profiled,
	}
}

// Size is how large a picture is, as it is seen upright; 0 for what is none.
func Size(b files.Blob) (width, height int) {
	return number(b.Facts, "width"), number(b.Facts, "height")
}

// List returns the files that fit the filter, and how many there are.
func (s *Service) List(ctx context.Context, f api.FileFilter) (api.FileList, error) {
	all, total, err := s.store.List(ctx, f)
	out := api.FileList{Items: make([]api.File, len(all)), Total: total}
	for i := range all {
		out.Items[i] = s.described(all[i])
	}
	return out, err
}

// Get returns a file and where it is shown. Its error is db.ErrNotFound if there is none.
func (s *Service) Get(ctx context.Context, id string) (api.FileDetail, error) {
	r, err := s.store.Get(ctx, id)
	if err != nil {
		return api.FileDetail{}, err
	}
	uses, err := s.replica.Store().Entries.Referrers(ctx, s.replica.Model(), id)
	return api.FileDetail{File: s.described(r), UsedBy: uses}, err
}

// descriptionNames are the fields of a file that people write.
var descriptionNames = []string{"alt", "decorative", "caption", "credit", "tags", "focus"}

// described makes a listed file of a stored one.
func (s *Service) described(r api.FileRecord) api.File {
	f := r.Fields
	out := api.File{
		ID: r.ID, Name: text(f, "name"), MediaType: text(f, "mediaType"), Bytes: int64(number(f, "bytes")),
		Width: number(f, "width"), Height: number(f, "height"), Hash: text(f, "hash"),
		Published: r.PublishedRevision > 0, Color: text(f, "color"), Placeholder: text(f, "placeholder"),
		Description: content.Fields{}, Revision: r.Revision, Updated: r.Updated,
	}
	for _, name := range descriptionNames {
		if f[name] != nil {
			out.Description[name] = f[name]
		}
	}
	facts := picture.Facts{
		Hash: out.Hash, Name: out.Name, MediaType: out.MediaType, Width: out.Width, Height: out.Height,
		Draft: r.PublishedRevision == 0 || r.Behind,
	}
	out.URL = s.addresses.File(&facts)
	if facts.IsPicture() {
		out.Image = s.addresses.Service(out.Hash)
		format := "webp" // not also AVIF: many are asked for at once
		if !s.renderer.HasTools() {
			format = "jpeg"
		}
		out.Preview = s.addresses.Preview(&facts, format)
	}
	return out
}

// Problem is the error of a file that is not taken, and why.
type Problem struct {
	// Kind is the kind of problem: broken-file, quota, too-large or refused-file.
	Kind, Reason string
	// Most is the bound, for too-large and quota.
	Most int64
}

func (p *Problem) Error() string { return p.Reason }

func tooLarge(most int64) error {
	return &Problem{
		Kind:   "too-large",
		Reason: fmt.Sprintf("a file has at most %d bytes here (files.maxBytes)", most),
		Most:   most,
	}
}

// isGone tells whether who asked does not wait any more.
func isGone(err error) bool {
	return errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded)
}

// Made counts the pictures that this node has made.
func (s *Service) Made() int64 { return s.renderer.Made.Load() }
