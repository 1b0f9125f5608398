package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"ubiquon/internal/api"
	"ubiquon/internal/core/rebuild"
)

// Settings calls the control endpoints of the configuration that is managed while the service
// runs, and of rules. It is safe for concurrent use.
type Settings struct{ c *Client }

// Settings returns the calls for settings and rules.
func (c *Client) Settings() *Settings { return &Settings{c} }

// paths are those of the kinds of setting.
var paths = map[string]string{
	"rule": "/rules/", "site": "/sites/", "origin": "/origins/", "downstream": "/downstream/", "target": "/targets/",
	"mail": "/settings/", "cors": "/settings/",
}

func settingPath(kind, name string) string { return paths[kind] + url.PathEscape(name) }

// Get returns a setting.
func (ss *Settings) Get(ctx context.Context, kind, name string) (out api.SavedSetting, err error) {
	return out, ss.c.call(ctx, http.MethodGet, settingPath(kind, name), nil, &out)
}

// Put makes or replaces a setting, whose spec is JSON or YAML; with check it only says what is
// wrong. A version that is not 0 must be the present one.
func (ss *Settings) Put(
	ctx context.Context, kind, name string, spec []byte, version int64, check bool,
) (out api.SavedSetting, err error) {
	h := http.Header{}
	if version != 0 {
		h.Set("If-Match", strconv.Quote(strconv.FormatInt(version, 10)))
	}
	path := settingPath(kind, name)
	if check {
		path += "?check=true"
	}
	return out, ss.c.callWith(ctx, http.MethodPut, path, h, document(spec), &out)
}

// Remove takes a setting out.
func (ss *Settings) Remove(ctx context.Context, kind, name string) error {
	return ss.c.call(ctx, http.MethodDelete, settingPath(kind, name), nil, nil)
}

// Versions returns the versions of a setting, the newest first.
func (ss *Settings) Versions(ctx context.Context, kind, name string) ([]api.Setting, error) {
	var out api.Items[api.Setting]
	err := ss.c.call(ctx, http.MethodGet, settingPath(kind, name)+"/versions", nil, &out)
	return out.Items, err
}

// Targets lists the targets of notifications.
func (ss *Settings) Targets(ctx context.Context) ([]api.Setting, error) {
	var out api.Items[api.Setting]
	err := ss.c.call(ctx, http.MethodGet, "/targets", nil, &out)
	return out.Items, err
}

// Secrets lists the names of the secrets.
func (ss *Settings) Secrets(ctx context.Context) ([]api.Secret, error) {
	var out api.Items[api.Secret]
	err := ss.c.call(ctx, http.MethodGet, "/secrets", nil, &out)
	return out.Items, err
}

// SetSecret keeps a value under a name.
func (ss *Settings) SetSecret(ctx context.Context, name, value string) error {
	body := api.SecretWrite{Value: value}
	return ss.c.call(ctx, http.MethodPut, "/secrets/"+url.PathEscape(name), body, nil)
}

// RemoveSecret forgets a secret.
func (ss *Settings) RemoveSecret(ctx context.Context, name string) error {
	return ss.c.call(ctx, http.MethodDelete, "/secrets/"+url.PathEscape(name), nil, nil)
}

// Export returns model and settings as the files of a folder, by name.
func (ss *Settings) Export(ctx context.Context) (map[string]string, error) {
	var out api.Configuration
	err := ss.c.call(ctx, http.MethodGet, "/configuration", nil, &out)
	return out.Files, err
}

// Plan says how the files of a folder differ, or applies them.
func (ss *Settings) Plan(ctx context.Context, p api.ConfigurationPlan) (out api.ConfigurationOutcome, err error) {
	return out, ss.c.call(ctx, http.MethodPost, "/configuration", p, &out)
}

// Rules lists the rules with how they stand.
func (ss *Settings) Rules(ctx context.Context) ([]api.RuleState, error) {
	var out api.Items[api.RuleState]
	err := ss.c.call(ctx, http.MethodGet, "/rules", nil, &out)
	return out.Items, err
}

// Runs lists what rules made of events, the newest first.
func (ss *Settings) Runs(ctx context.Context, f api.RuleRunFilter) ([]api.RuleRun, error) {
	var out api.Items[api.RuleRun]
	err := ss.c.call(ctx, http.MethodGet, "/rule-runs?"+query(f), nil, &out)
	return out.Items, err
}

// Run returns what a rule made of an event.
func (ss *Settings) Run(ctx context.Context, id string) (out api.RuleRun, err error) {
	return out, ss.c.call(ctx, http.MethodGet, "/rule-runs/"+url.PathEscape(id), nil, &out)
}

// RunAgain has the failed step of a run done again.
func (ss *Settings) RunAgain(ctx context.Context, id string) (out api.RuleRun, err error) {
	return out, ss.c.call(ctx, http.MethodPost, "/rule-runs/"+url.PathEscape(id)+"/again", api.RuleRunAgain{}, &out)
}

// Try says what a rule would make of something.
func (ss *Settings) Try(ctx context.Context, in api.RuleTrial) (out api.RuleTrialOutcome, err error) {
	return out, ss.c.call(ctx, http.MethodPost, "/rules/"+url.PathEscape(in.Name)+"/try", in, &out)
}

// TestMail sends a test message to an address.
func (ss *Settings) TestMail(ctx context.Context, to string) error {
	return ss.c.call(ctx, http.MethodPost, "/mail/test", api.MailTest{To: to}, nil)
}

// Notifications lists what accounts were told by mail.
func (ss *Settings) Notifications(ctx context.Context, f api.NotificationFilter) ([]api.Notification, error) {
	var out api.Items[api.Notification]
	err := ss.c.call(ctx, http.MethodGet, "/notifications?"+query(f), nil, &out)
	return out.Items, err
}

// Sites lists the sites with their latest builds.
func (ss *Settings) Sites(ctx context.Context) ([]api.SiteInfo, error) {
	var out api.Items[api.SiteInfo]
	err := ss.c.call(ctx, http.MethodGet, "/sites", nil, &out)
	return out.Items, err
}

// TestSite calls a site as a test.
func (ss *Settings) TestSite(ctx context.Context, name string) (out api.CallAnswer, err error) {
	return out, ss.c.call(ctx, http.MethodPost, "/sites/"+url.PathEscape(name)+"/test", nil, &out)
}

// TestOrigin reads the first page of each type of an origin.
func (ss *Settings) TestOrigin(ctx context.Context, name string) ([]api.CallAnswer, error) {
	var out api.Items[api.CallAnswer]
	err := ss.c.call(ctx, http.MethodPost, "/origins/"+url.PathEscape(name)+"/test", nil, &out)
	return out.Items, err
}

// CancelBuild takes a waiting build back.
func (ss *Settings) CancelBuild(ctx context.Context, id string) (out rebuild.Build, err error) {
	return out, ss.c.call(ctx, http.MethodPost, "/builds/"+url.PathEscape(id)+"/cancel", nil, &out)
}
