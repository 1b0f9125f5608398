package identity

import (
	"context"

	"ubiquon/internal/api"
	"ubiquon/internal/core/content"
	"ubiquon/internal/core/records"
	"ubiquon/internal/store"
)

// Audit is the audit log of an environment. It is safe for concurrent use.
type Audit struct{ store *store.Store }

// NewAudit returns the audit log that the store holds.
func NewAudit(s *store.Store) *Audit { return &Audit{s} }

// Verify checks that the audit log is whole: see audit.Log.Verify.
func (a *Audit) Verify(ctx context.Context, contains string) (api.AuditState, error) {
	return a.store.Audit.Verify(ctx, contains)
}

// Acts returns lines of the audit log, the newest first.
func (a *Audit) Acts(ctx context.Context, f api.AuditFilter) ([]api.AuditRecord, error) {
	where, err := records.ActFilter(f.Filter)
	if err != nil {
		return nil, err
	}
	return a.store.Audit.Records(ctx, f, where)
}

// Note adds a line to the audit log for what was not written by a transaction
// that adds its own. before and after may be nil.
func (a *Audit) Note(ctx context.Context, by, what, subject string, before, after any) error {
	return a.store.Audit.Add(ctx, content.UserCause(by), what, subject, before, after)
}
