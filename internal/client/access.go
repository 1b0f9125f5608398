package client

import (
	"context"
	"net/http"
	"net/url"
	"time"

	"ubiquon/internal/api"
	"ubiquon/internal/core/access"
)

// List lists all keys, and what is open to everyone.
func (ks *Keys) List(ctx context.Context) ([]api.KeyInfo, access.Grants, error) {
	var out api.Keys
	err := ks.c.call(ctx, http.MethodGet, "/keys", nil, &out)
	return out.Items, out.Open, err
}

// Get returns the key with an id or a name.
func (ks *Keys) Get(ctx context.Context, name string) (out api.KeyInfo, err error) {
	return out, ks.c.call(ctx, http.MethodGet, keyPath(name), nil, &out)
}

func keyPath(name string) string { return "/keys/" + url.PathEscape(name) }

// Create makes a key and returns its secret.
func (ks *Keys) Create(ctx context.Context, k api.NewKey) (*access.Key, string, error) {
	var out api.KeySecret
	err := ks.c.call(ctx, http.MethodPost, "/keys", k, &out)
	return out.Key, out.Secret, err
}

// Grant adds grants to a key, and takes others away.
func (ks *Keys) Grant(ctx context.Context, name string, add, take []string) (out access.Key, err error) {
	return out, ks.c.call(ctx, http.MethodPatch, keyPath(name), api.GrantChange{Add: add, Take: take}, &out)
}

// Extend has a key expire so many days from now; 0 means never.
func (ks *Keys) Extend(ctx context.Context, name string, days int) (out access.Key, err error) {
	return out, ks.c.call(ctx, http.MethodPatch, keyPath(name), api.KeyChange{Days: &days}, &out)
}

// Rotate gives a key a new secret; the one before is valid for the overlap.
func (ks *Keys) Rotate(ctx context.Context, name string, overlap time.Duration) (*access.Key, string, error) {
	var out api.KeySecret
	err := ks.c.call(ctx, http.MethodPost, keyPath(name)+"/rotate", api.KeyRotation{Overlap: overlap.String()},
		&out)
	return out.Key, out.Secret, err
}

// Revoke ends a key.
func (ks *Keys) Revoke(ctx context.Context, name string) (out access.Key, err error) {
	return out, ks.c.call(ctx, http.MethodDelete, keyPath(name), nil, &out)
}

// Check says what a key would see; an empty name stands for everyone.
func (ks *Keys) Check(ctx context.Context, name string) (out api.KeyVisibility, err error) {
	return out, ks.c.call(ctx, http.MethodPost, "/keys/check", api.KeyQuestion{Key: name}, &out)
}

// Preview makes a link that reads an entry in preview.
func (ks *Keys) Preview(ctx context.Context, id string, o api.PreviewOptions) (out api.IssuedPreviewLink, err error) {
	return out, ks.c.call(ctx, http.MethodPost, "/entries/"+url.PathEscape(id)+"/preview", o, &out)
}

// Previews lists the preview links that have not expired; of one entry, if one is given.
func (ks *Keys) Previews(ctx context.Context, entry string) ([]api.PreviewLink, error) {
	var out api.Items[api.PreviewLink]
	err := ks.c.call(ctx, http.MethodGet, "/previews?"+query(api.PreviewFilter{Entry: entry}), nil, &out)
	return out.Items, err
}

// RevokePreview ends a preview link.
func (ks *Keys) RevokePreview(ctx context.Context, id string) error {
	return ks.c.call(ctx, http.MethodDelete, "/previews/"+url.PathEscape(id), nil, &api.Revoked{})
}

// VerifyAudit checks that the audit log is whole, and, if contains is not empty, that a
// line has that digest.
func (as *Accounts) VerifyAudit(ctx context.Context, contains string) (out api.AuditState, err error) {
	return out, as.c.call(ctx, http.MethodGet, "/audit/verify?"+query(api.AuditCheck{Contains: contains}), nil, &out)
}

// ChangePublicGrants opens grants to everyone, and closes others.
func (ks *Keys) ChangePublicGrants(ctx context.Context, add, take []string) (access.Grants, error) {
	var out api.PublicGrants
	err := ks.c.call(ctx, http.MethodPatch, "/open", api.GrantChange{Add: add, Take: take}, &out)
	return out.Open, err
}

// Why asks why a reader cannot see an entry.
func (c *Client) Why(ctx context.Context, q api.WhyQuestion) (out api.WhyAnswer, err error) {
	return out, c.call(ctx, http.MethodPost, "/why", q, &out)
}

// Refusals lists the reads that were refused lately.
func (ks *Keys) Refusals(ctx context.Context) ([]api.Refusal, error) {
	var out api.Items[api.Refusal]
	err := ks.c.call(ctx, http.MethodGet, "/refusals", nil, &out)
	return out.Items, err
}

// List lists accounts.
func (as *Accounts) List(ctx context.Context) ([]api.Account, error) {
	var out api.Items[api.Account]
	err := as.c.call(ctx, http.MethodGet, "/accounts", nil, &out)
	return out.Items, err
}

// Create makes an account; without a password it returns the link at which
// one is chosen.
func (as *Accounts) Create(
	ctx context.Context, email, name, role, password string,
) (*api.Account, string, error) {
	var out api.AccountLink
	err := as.c.call(
		ctx, http.MethodPost, "/accounts",
		api.NewAccount{Email: email, Name: name, Role: access.Role(role), Password: password}, &out,
	)
	return out.Account, out.Link, err
}

// Change changes an account: its name, role, and whether it is disabled.
func (as *Accounts) Change(
	ctx context.Context, name string, change api.AccountChange,
) (out api.Account, err error) {
	return out, as.c.call(ctx, http.MethodPatch, "/accounts/"+url.PathEscape(name), change, &out)
}

// Link returns a link at which the account chooses a new password.
func (as *Accounts) Link(ctx context.Context, name string) (string, error) {
	var out api.AccountLink
	err := as.c.call(ctx, http.MethodPost, "/accounts/"+url.PathEscape(name)+"/link", nil, &out)
	return out.Link, err
}

// Audit lists the audit log, the newest first.
func (as *Accounts) Audit(ctx context.Context, f api.AuditFilter) ([]api.AuditRecord, error) {
	var out api.Items[api.AuditRecord]
	err := as.c.call(ctx, http.MethodGet, "/audit?"+query(f), nil, &out)
	return out.Items, err
}

// ExportAudit returns the audit log as NDJSON.
func (as *Accounts) ExportAudit(ctx context.Context, f api.AuditFilter) ([]byte, error) {
	a, err := as.c.Do(
		ctx, http.MethodGet, "/control/v1/audit?"+query(f), http.Header{"Accept": {"application/x-ndjson"}}, nil,
	)
	if err != nil {
		return nil, err
	}
	return a.Body, a.Err()
}

// Submit hands an entry in from outside, as everyone or with the client's key.
func (c *Client) Submit(ctx context.Context, environment, plural string, values map[string]any) (*Answer, error) {
	return c.Do(
		ctx, http.MethodPost, "/content/"+url.PathEscape(environment)+"/submissions/"+url.PathEscape(plural), nil,
		values,
	)
}
