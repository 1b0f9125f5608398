// Package diagnose explains: why an entry is not visible, what a change would do, how fresh
// published content is, and what is wrong now. It changes nothing.
package diagnose

import (
	"log/slog"
	"sync"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/authoring"
	"ubiquon/internal/automation"
	"ubiquon/internal/background"
	"ubiquon/internal/cache"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/delivery"
	"ubiquon/internal/identity"
	"ubiquon/internal/ingest"
	"ubiquon/internal/pages"
	"ubiquon/internal/replication"
	"ubiquon/internal/store"
	"ubiquon/internal/store/db"
)

// Options of New: what there is to explain.
type Options struct {
	Replica    *replication.Replica
	Delivery   *delivery.Service
	Ingest     *ingest.Service
	Authoring  *authoring.Service
	Automation *automation.Service
	Keys       *identity.Keys
	Pages      *pages.Service
}

// Service explains one environment. It is safe for concurrent use.
type Service struct {
	replica    *replication.Replica
	store      *store.Store
	log        *slog.Logger
	cache      *cache.Cache
	news       *replication.Broadcaster
	work       *background.Group
	limits     limits.Limits
	delivery   *delivery.Service
	ingest     *ingest.Service
	authoring  *authoring.Service
	automation *automation.Service
	keys       *identity.Keys
	pages      *pages.Service
	refusals   refusals
	backlog    struct {
		sync.Mutex
		last api.Backlog
		at   time.Time
	}
}

// New returns a service that explains what the others do.
func New(o Options) *Service {
	r := o.Replica
	return &Service{
		replica:    r,
		store:      r.Store(),
		log:        r.Log(),
		cache:      r.Cache(),
		news:       r.News(),
		work:       r.Work(),
		limits:     r.Limits(),
		delivery:   o.Delivery,
		ingest:     o.Ingest,
		authoring:  o.Authoring,
		automation: o.Automation,
		keys:       o.Keys,
		pages:      o.Pages,
	}
}

// StatementsCancelled is how many statements of reads were ended before their answer.
func (d *Service) StatementsCancelled() int64 { return d.store.DB.Cancelled() }

// PoolUses returns how busy the connections to the database are.
func (d *Service) PoolUses() []db.PoolUse { return d.store.DB.PoolUses() }
