package api

import (
	"encoding/json"
	"time"

	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
)

// Setting is one record of the configuration that is managed while the service runs.
type Setting struct {
	// Kind is rule, site, origin, downstream, target, mail or cors.
	Kind string `json:"kind"`
	// Name is unique in its kind; of kinds of which there is one, it is that of the kind.
	Name string `json:"name"`
	// Version rises by one with every change. It is the ETag, in quotes.
	Version int64 `json:"version"`
	// Spec is the record itself, in the form of its file, without its name; null in a version
	// that says that it was removed.
	Spec json.RawMessage `json:"spec"`
	By   string          `json:"by"`
	At   time.Time       `json:"at"`
}

// SettingRef names a setting.
type SettingRef struct {
	Setting string `path:"name" json:"-"`
}

// SettingWrite is what is said besides the record, when it is written.
type SettingWrite struct {
	SettingRef
	// IfMatch is the ETag of the version that was edited; * for any that is there. Without it
	// the record is replaced, whatever it is.
	IfMatch string `header:"If-Match"      json:"-"`
	// IfNoneMatch, *, makes a record only if there is none of the name.
	IfNoneMatch string `header:"If-None-Match" json:"-"`
	// Check says what would be wrong or odd, and changes nothing.
	Check bool `                       json:"-" query:"check"`
}

// RuleWrite is a rule as it is to be, without its name.
type RuleWrite struct {
	SettingWrite
	rule.Rule
}

// SiteWrite is a site as it is to be.
type SiteWrite struct {
	SettingWrite
	rebuild.Site
}

// OriginWrite is an origin as it is to be, in the form of origins.yaml.
type OriginWrite struct {
	SettingWrite
	Pull   any            `json:"pull"`
	Prove  any            `json:"prove"`
	EditAt string         `json:"editAt,omitempty"`
	Types  map[string]any `json:"types,omitempty"`
}

// DownstreamWrite is a cache downstream as it is to be.
type DownstreamWrite struct {
	SettingWrite
	Call       string `json:"call"`
	Secret     string `json:"secret,omitempty"`
	Method     string `json:"method,omitempty"`
	Groups     string `json:"groups,omitempty"`
	Separator  string `json:"separator,omitempty"`
	Everything string `json:"everything,omitempty"`
}

// TargetWrite is a name for people as it is to be.
type TargetWrite struct {
	SettingWrite
	NotificationTarget
}

// SingleWrite is a setting of a kind of which there is one: a MailServer or CORS.
type SingleWrite struct {
	SettingWrite
	// Server and the rest are those of MailServer.
	Server   string `json:"server,omitempty"`
	From     string `json:"from,omitempty"`
	TLS      string `json:"tls,omitempty"`
	User     string `json:"user,omitempty"`
	Password string `json:"password,omitempty"`
	DigestAt string `json:"digestAt,omitempty"`
	Zone     string `json:"zone,omitempty"`
	Off      bool   `json:"off,omitempty"`
	// Allow is that of CORS.
	Allow []string `json:"allow,omitempty"`
}

// MailServer is the server that mail is sent through, by SMTP.
type MailServer struct {
	// Server is host:port.
	Server string `yaml:"server"   json:"server"`
	// From is the address that mail comes from, as in "Skerry Line <line@skerry.example>".
	From string `yaml:"from"     json:"from"`
	// TLS is starttls (the default), tls, or none.
	TLS string `yaml:"tls"      json:"tls,omitempty"      enum:"starttls,tls,none"`
	// User and Password sign in to the server. Password is secret:NAME or env:NAME.
	User     string `yaml:"user"     json:"user,omitempty"`
	Password string `yaml:"password" json:"password,omitempty"`
	// DigestAt is when the daily digest is sent, as in 07:00, in the time zone Zone, by
	// default UTC.
	DigestAt string `yaml:"digestAt" json:"digestAt,omitempty"`
	Zone     string `yaml:"zone"     json:"zone,omitempty"`
	// Off keeps all mail from being sent.
	Off bool `yaml:"off"      json:"off,omitempty"`
}

// NotificationTarget is a name for people who are told something: rules write it target:NAME.
type NotificationTarget struct {
	Description string `yaml:"description" json:"description,omitempty"`
	// Mail has the addresses, and role:NAME for everybody who has the role.
	Mail []string `yaml:"mail"        json:"mail"`
	Off  bool     `yaml:"off"         json:"off,omitempty"`
}

// CORS says which web origins' pages may read content from a browser; "*" for all.
type CORS struct {
	Allow []string `yaml:"allow" json:"allow"`
}

// SettingRemoval names a setting that is removed.
type SettingRemoval struct {
	SettingRef
	IfMatch string `header:"If-Match" json:"-"`
}

// MailTest asks for a message that says nothing.
type MailTest struct {
	// To is an e-mail address.
	To string `json:"to"`
}

// SavedSetting is a setting with what is odd about it.
type SavedSetting struct {
	Setting
	// Warnings keep nothing from working.
	Warnings []string `json:"warnings"`
	// Problems are what is wrong with a record that was only checked.
	Problems []rule.Mistake `json:"problems,omitempty"`
}

// Secret is the name of a value that is kept encrypted. The value is never shown.
type Secret struct {
	Name    string    `json:"name"`
	Version int64     `json:"version"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	// UsedBy has the settings that refer to it, as in "site skerry-web".
	UsedBy []string `json:"usedBy"`
}

// SecretWrite is a secret as it is to be.
type SecretWrite struct {
	SettingRef
	Value string `json:"value"`
}

// Configuration is a folder of files, in the form of model and configuration files.
type Configuration struct {
	// Files has the texts of the files, by name.
	Files map[string]string `json:"files"`
}

// ConfigurationPlan asks what applying a folder would do, or applies it.
type ConfigurationPlan struct {
	Configuration
	// Only has the kinds that are compared: model, rule, site and so on; none: all that the
	// files have.
	Only []string `json:"only,omitempty"`
	// Prune removes what the files do not have, of the kinds that are compared.
	Prune bool `json:"prune,omitempty"`
	// AllowLoss applies a model that loses content.
	AllowLoss bool `json:"allowLoss,omitempty"`
	// Apply carries it out; without it nothing is changed.
	Apply bool `json:"apply,omitempty"`
}

// ConfigurationChange is how one record differs.
type ConfigurationChange struct {
	Kind string `json:"kind"`
	Name string `json:"name"`
	// Action is add, edit or remove.
	Action string `json:"action"           enum:"add,edit,remove"`
	// Before and After are the records as YAML.
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// ConfigurationOutcome is what applying a folder does, or has done.
type ConfigurationOutcome struct {
	// Model is what the difference of the models does.
	Model    []Consequence         `json:"model"`
	Changes  []ConfigurationChange `json:"changes"`
	Warnings []string              `json:"warnings"`
	Applied  bool                  `json:"applied"`
}
