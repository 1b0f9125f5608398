package servicecmd

import (
	"fmt"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"ubiquon/internal/cli/command"
	"ubiquon/internal/core/access"
	"ubiquon/internal/core/limits"
	"ubiquon/internal/core/model"
	"ubiquon/internal/core/rebuild"
	"ubiquon/internal/core/rule"
	"ubiquon/internal/core/strictyaml"
	"ubiquon/internal/origin"
	"ubiquon/internal/outbound"
	"ubiquon/internal/settings"
)

// config is the form of ubiquon.yaml. Paths in it are relative to the file.
type config struct {
	Listen        string `yaml:"listen"`        // default 127.0.0.1:8400
	PublicAddress string `yaml:"publicAddress"` // where builders reach us; default: listen
	Environment   string `yaml:"environment"`   // default main
	Data          string `yaml:"data"`          // default .ubiquon; for the private database
	Database      string `yaml:"database"`      // a PostgreSQL URL; empty: a private database
	Model         string `yaml:"model"`         // a directory of YAML files
	ApplyModel    bool   `yaml:"applyModel"`    // apply it at start, not only to an environment without one
	Origins       string `yaml:"origins"`       // files
	// Folders are the directories that origins in folders, or repositories here, may be in.
	Folders       []string `yaml:"folders"`
	Sites         string   `yaml:"sites"`
	Rules         string   `yaml:"rules"`
	ApplySettings bool     `yaml:"applySettings"` // bring up to date at every start what files have seeded
	SecretKey     string   `yaml:"secretKey"`     // file with the keys for secrets; or UBIQUON_SECRET_KEY
	Cache         struct {
		Bytes string `yaml:"bytes"` // as in 256MB
	} `yaml:"cache"`
	Files filesConfig `yaml:"files"`
	CORS  struct {
		Allow []string `yaml:"allow"` // web origins whose pages may read content from a browser; "*" for all
	} `yaml:"cors"`
	GraphQL struct {
		Batch       int  `yaml:"batch"`       // how many requests may come in one; default 0: lists are refused
		TrustedOnly bool `yaml:"trustedOnly"` // answer trusted documents alone, except to those who administer
	} `yaml:"graphql"`
	ReadTimeout strictyaml.Duration `yaml:"readTimeout"` // how long one answer may be computed; default 10s
	Proxies     []string            `yaml:"proxies"`     // networks whose X-Forwarded-For is believed, as in 10.0.0.0/8
	Tokens      *access.Issuer      `yaml:"tokens"`      // who else may say who somebody is
	Outbound    struct {
		Allow   []string `yaml:"allow"`   // private networks that calls may go to, as in 10.0.0.0/8
		Private bool     `yaml:"private"` // allow all of them
	} `yaml:"outbound"`
	Limits    limits.Limits       `yaml:"limits"`    // the budgets of this node
	QuietCopy bool                `yaml:"quietCopy"` // answer, and do nothing by oneself, until woken
	Drain     strictyaml.Duration `yaml:"drain"`     // how long to go on serving, unready, when told to end; default 2s
	Sessions  struct {
		Idle    strictyaml.Duration `yaml:"idle"`    // sign in again after so long without a request; default 8h
		Longest strictyaml.Duration `yaml:"longest"` // and after so long at all; default 72h
	} `yaml:"sessions"`
	Keep struct {
		Events strictyaml.Duration `yaml:"events"` // how long events are kept; default 2160h
		Audit  strictyaml.Duration `yaml:"audit"`  // and lines of the audit log; default 17520h
	} `yaml:"keep"`
	Metrics struct {
		Allow []string `yaml:"allow"` // networks that may read /metrics without a key; default loopback
	} `yaml:"metrics"`
	Downstream map[string]outbound.Target `yaml:"downstream"` // caches that are told of what changes
	Mail       *settings.Mail             `yaml:"mail"`       // the server that mail is sent through
	Targets    map[string]settings.Target `yaml:"targets"`    // names for people who are told something
	Changes    struct {
		Keep strictyaml.Duration `yaml:"keep"` // how long a change stays in the log at least; default 720h
	} `yaml:"changes"`
	Log struct {
		Level  string `yaml:"level"`  // debug, info, warn, error; default info
		Format string `yaml:"format"` // text or json; default text
	} `yaml:"log"`

	// warnings are what is odd, and keeps nothing from starting.
	Warnings []string

	model      *model.Model
	seed       settings.Seed
	secretKey  string
	CacheBytes uint64
	proxies    []netip.Prefix
	outbound   []netip.Prefix
	metrics    []netip.Prefix
}

func text(field func(*config) *string) func(*config, string) error {
	return func(c *config, v string) error {
		*field(c) = v
		return nil
	}
}

var knobs = []setting{
	{"listen", "address to listen on, as in 127.0.0.1:8400", text(func(c *config) *string { return &c.Listen })},
	{
		"publicAddress", "address under which builders reach the service",
		text(func(c *config) *string { return &c.PublicAddress }),
	},
	{"environment", "name of the environment", text(func(c *config) *string { return &c.Environment })},
	{"data", "directory of the private database", text(func(c *config) *string { return &c.Data })},
	{"database", "PostgreSQL URL; none: a private database", text(func(c *config) *string { return &c.Database })},
	{"model", "directory of the model's YAML files", text(func(c *config) *string { return &c.Model })},
	{
		"applyModel",
		"true applies the model at start, unless content would be lost",
		func(c *config, v string) (err error) {
			if c.ApplyModel, err = strconv.ParseBool(v); err != nil {
				return fmt.Errorf("%q is neither true nor false", v)
			}
			return nil
		},
	},
	{"origins", "file of the origins", text(func(c *config) *string { return &c.Origins })},
	{"sites", "file of the sites", text(func(c *config) *string { return &c.Sites })},
	{"rules", "file of the rules", text(func(c *config) *string { return &c.Rules })},
	{
		"applySettings", "true brings up to date at every start what files have seeded",
		func(c *config, v string) (err error) {
			if c.ApplySettings, err = strconv.ParseBool(v); err != nil {
				return fmt.Errorf("%q is neither true nor false", v)
			}
			return nil
		},
	},
	{"cache.bytes", "bound of the cache, as in 256MB", text(func(c *config) *string { return &c.Cache.Bytes })},
	{"outbound.private", "true allows calls into private networks", func(c *config, v string) (err error) {
		if c.Outbound.Private, err = strconv.ParseBool(v); err != nil {
			return fmt.Errorf("%q is neither true nor false", v)
		}
		return nil
	}},
	{
		"quietCopy",
		"true starts without schedules, rules, builds and calls, until woken: for restored copies",
		func(c *config, v string) (err error) {
			if c.QuietCopy, err = strconv.ParseBool(v); err != nil {
				return fmt.Errorf("%q is neither true nor false", v)
			}
			return nil
		},
	},
	{"log.level", "debug, info, warn or error", text(func(c *config) *string { return &c.Log.Level })},
	{"log.format", "text or json", text(func(c *config) *string { return &c.Log.Format })},
}

// foreignVariables begin with UBIQUON_ too, and set nothing here.
var foreignVariables = []string{"UBIQUON_ADDRESS", "UBIQUON_KEY", "UBIQUON_CONTEXT", secretKeyVariable}

// secretKeyVariable holds the keys for secrets themselves, so that they are in no file.
const secretKeyVariable = "UBIQUON_SECRET_KEY"

// LoadConfig reads the file, then the variables, then the flags, each counting
// before the ones read earlier; then the files that the configuration names.
func LoadConfig(file string, flags map[string]string) (*config, error) {
	c := &config{Listen: "127.0.0.1:8400", Environment: "main", Data: ".ubiquon"}
	c.Log.Level, c.Log.Format = "info", "text"
	base := "."
	if file != "" {
		src, err := os.ReadFile(file)
		if err != nil {
			return nil, fmt.Errorf("--config: %w", err)
		}
		if err := strictyaml.Decode(file, src, c); err != nil {
			return nil, err
		}
		base = filepath.Dir(file)
		if c.Tokens != nil && !strings.Contains(c.Tokens.Keys, "://") && c.Tokens.Keys != "" &&
			!filepath.IsAbs(c.Tokens.Keys) {
			c.Tokens.Keys = filepath.Join(base, c.Tokens.Keys)
		}
		for _, path := range []*string{&c.Data, &c.Model, &c.Origins, &c.Sites, &c.Rules, &c.SecretKey, &c.Files.Directory} {
			if *path != "" && !filepath.IsAbs(*path) {
				*path = filepath.Join(base, *path)
			}
		}
	}
	for i, path := range c.Folders {
		if !filepath.IsAbs(path) {
			c.Folders[i] = filepath.Join(base, path)
		}
	}
	if err := c.fromVariables(os.Environ()); err != nil {
		return nil, err
	}
	for _, s := range knobs {
		if v, ok := flags[s.flag()]; ok {
			if err := s.set(c, v); err != nil {
				return nil, fmt.Errorf("--%s: %w", s.flag(), err)
			}
		}
	}
	return c, c.readFiles()
}

func (c *config) fromVariables(environ []string) error {
	known := slices.Clone(foreignVariables)
	byName := map[string]setting{}
	for _, s := range knobs {
		known = append(known, s.variable())
		byName[s.variable()] = s
	}
	for _, pair := range environ {
		name, v, _ := strings.Cut(pair, "=")
		if !strings.HasPrefix(name, "UBIQUON_") || slices.Contains(foreignVariables, name) {
			continue
		}
		s, ok := byName[name]
		if !ok {
			// Others set variables too, a cluster for each of its services.
			c.Warnings = append(
				c.Warnings,
				fmt.Sprintf(
					"the variable %s is unknown, and sets nothing%s", name, strictyaml.DidYouMean(name, known),
				),
			)
			continue
		}
		if err := s.set(c, v); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

func (c *config) readFiles() error {
	var err error
	if c.Cache.Bytes != "" {
		var size strictyaml.Bytes
		if err := size.UnmarshalText([]byte(c.Cache.Bytes)); err != nil {
			return fmt.Errorf("cache.bytes: %w", err)
		}
		c.CacheBytes = uint64(size)
	}
	if c.secretKey = os.Getenv(secretKeyVariable); c.secretKey == "" && c.SecretKey != "" {
		src, err := os.ReadFile(c.SecretKey)
		if err != nil {
			return fmt.Errorf("secretKey: %w", err)
		}
		c.secretKey = string(src)
	}
	if c.Database, err = fromEnvironment(c.Database); err != nil {
		return fmt.Errorf("database: %w", err)
	}
	for _, n := range []struct {
		name  string
		texts []string
		into  *[]netip.Prefix
	}{
		{"proxies", c.Proxies, &c.proxies},
		{"outbound.allow", c.Outbound.Allow, &c.outbound},
		{"metrics.allow", c.Metrics.Allow, &c.metrics},
	} {
		for _, text := range n.texts {
			p, err := netip.ParsePrefix(text)
			if err != nil {
				return fmt.Errorf("%s: %q is no network; write it as in 10.0.0.0/8", n.name, text)
			}
			*n.into = append(*n.into, p.Masked())
		}
	}
	if err := c.Files.read(); err != nil {
		return err
	}
	if err := c.Limits.Check(); err != nil {
		return err
	}
	if c.GraphQL.Batch < 0 || c.GraphQL.Batch > 100 {
		return fmt.Errorf("graphql.batch: %d is no number from 0 to 100", c.GraphQL.Batch)
	}
	for _, origin := range c.CORS.Allow {
		if u, err := url.Parse(origin); origin != "*" &&
			(err != nil || u.Host == "" || u.Path != "" || u.Scheme != "http" && u.Scheme != "https") {
			return fmt.Errorf("cors.allow: %q is no web origin; write it as in https://skerry.example", origin)
		}
	}
	if c.Tokens != nil {
		if err := c.Tokens.Check(); err != nil {
			return err
		}
	}
	if c.Model != "" {
		if c.model, err = command.ReadModel(c.Model); err != nil {
			return err
		}
	}
	return c.readSettings()
}

// readSettings reads the files of settings.
func (c *config) readSettings() error {
	var origins origin.File
	var sites rebuild.File
	var rules rule.File
	for _, f := range []struct {
		path string
		into any
	}{{c.Origins, &origins}, {c.Sites, &sites}, {c.Rules, &rules}} {
		if f.path == "" {
			continue
		}
		src, err := os.ReadFile(f.path)
		if err != nil {
			return err
		}
		if err := strictyaml.Decode(f.path, src, f.into); err != nil {
			return err
		}
	}
	c.seed = settings.Seed{
		Origins: origins.Origins, Sites: sites.Sites, Rules: rules.Rules, Downstream: c.Downstream,
		Targets: c.Targets, Mail: c.Mail, CORS: c.CORS.Allow, Apply: c.ApplySettings,
	}
	_, err := c.seed.Variables()
	return err
}

// fromEnvironment replaces env:NAME by the variable's value.
func fromEnvironment(s string) (string, error) {
	name, ok := strings.CutPrefix(s, "env:")
	if !ok {
		return s, nil
	}
	v, ok := os.LookupEnv(name)
	if !ok {
		return "", fmt.Errorf("the variable %s is not set", name)
	}
	return v, nil
}
