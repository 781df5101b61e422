// Package config reads the configuration: defaults, then one YAML file, then
// EASTPORCH_… variables, then flags. What is wrong is reported all at once,
// each problem with its place, its reason and the remedy.
package config

import (
	"net"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"github.com/knadh/koanf/providers/confmap"
	"github.com/knadh/koanf/v2"

	"eastporch/internal/core/addr"
	"eastporch/internal/core/visit"
)

// Config is everything that an owner may decide. Load fills and checks it.
type Config struct {
	Public   Listener `koanf:"public"` // for pages and proxies
	Admin    Listener `koanf:"admin"`  // for the console and the whole API
	Limits   Limits   `koanf:"limits"`
	DataDir  string   `koanf:"data_dir"`
	Database struct {
		URL string `koanf:"url"` // "" starts a private cluster in DataDir
	} `koanf:"database"`
	Log struct {
		Level  string `koanf:"level"`  // debug, info, warn or error
		Format string `koanf:"format"` // text or json
	} `koanf:"log"`
	ShutdownGrace time.Duration `koanf:"shutdown_grace"`
	Sites         []Site        `koanf:"sites"`
	Proxies       Proxies       `koanf:"proxies"`
	// Labels are the owner's names: prefixes, or file:PATH of them.
	Labels map[string][]string `koanf:"labels"`
	Policy []PolicyRule        `koanf:"policy"`
	// NotFound is the placeholder of visitors who were not found, whose address was missing or unreadable.
	NotFound string   `koanf:"not_found_placeholder"`
	NAT64    []string `koanf:"nat64"` // the owner's translation prefixes
	Atlas    struct {
		Sources []AtlasSource `koanf:"sources"`
		// Activate says whether a new edition is used at once (auto) or by hand.
		Activate        string        `koanf:"activate"`
		RefreshInterval time.Duration `koanf:"refresh_interval"` // how often sources are looked at; 0 is only at start
		FetchInside     bool          `koanf:"fetch_inside"`     // fetch from addresses that are not public
		TestPoints      string        `koanf:"test_points"`      // a file that editions are held against
	} `koanf:"atlas"`
	Intake struct {
		MaxBytes int `koanf:"max_bytes"` // of visits that wait for the database
	} `koanf:"intake"`
	RetentionDays int `koanf:"retention_days"` // how long visits are kept, to the week; 0 for ever
	HashDays      int `koanf:"hash_days"`      // how long one key serves to hash addresses
	Marks         struct {
		BotAgents     []string `koanf:"bot_agents"` // parts of what programs call themselves
		BotLabels     []string `koanf:"bot_labels"`
		PreviewAgents []string `koanf:"preview_agents"` // that show what a link leads to; for clicks
		MonitorAgents []string `koanf:"monitor_agents"` // the owner's own
		MonitorLabels []string `koanf:"monitor_labels"`
	} `koanf:"marks"`
	// Groups are the owner's own groups of countries, beside the common ones.
	Groups map[string][]string `koanf:"groups"`
	Rates  struct {
		File        string        `koanf:"file"`         // relative to the configuration file, or
		URL         string        `koanf:"url"`          // of HTTP(S); neither is not rates
		Source      string        `koanf:"source"`       // who says so, as answers name it
		Refresh     time.Duration `koanf:"refresh"`      // how often they are read again
		StaleDays   int           `koanf:"stale_days"`   // from when on their age is a problem
		FetchInside bool          `koanf:"fetch_inside"` // from an address that is not public
	} `koanf:"rates"`
	Secrets    string `koanf:"secrets"` // a directory of files; secrets in DataDir by default
	Companions struct {
		FetchInside bool `koanf:"fetch_inside"` // ask services whose address is not public
	} `koanf:"companions"`
	Notices struct {
		SendInside bool   `koanf:"send_inside"` // to mail servers and webhooks whose address is not public
		PublicURL  string `koanf:"public_url"`  // where visitors reach the public listener, for links in mails
		ConsoleURL string `koanf:"console_url"` // where the owner reaches the console, for links in mails
	} `koanf:"notices"`
	Handover struct {
		CookieLasts time.Duration `koanf:"cookie_lasts"` // how long the signed cookie holds
	} `koanf:"handover"`
	Areas        []string `koanf:"areas"`         // files of GeoJSON: the owner's named polygons
	ResolveNames bool     `koanf:"resolve_names"` // host names may be asked for in place of addresses
	MapLink      string   `koanf:"map_link"`      // template of a link to a map outside, "" for none
}

// Listener is where the service listens, and how.
type Listener struct {
	Address        string        `koanf:"address"`        // host:port, or unix:PATH
	Hosts          []string      `koanf:"hosts"`          // host names it answers to, beside its own
	Origins        []string      `koanf:"origins"`        // under which browsers reach it, beside its own
	SocketMode     string        `koanf:"socket_mode"`    // of a Unix socket, octal; 0660 by default
	SocketGroup    string        `koanf:"socket_group"`   // that a Unix socket belongs to; "" is the service's
	ProxyProtocol  []string      `koanf:"proxy_protocol"` // peers that send its header: prefixes, or unix
	TLSCertificate string        `koanf:"tls_certificate"`
	TLSKey         string        `koanf:"tls_key"`
	MaxHeaderBytes int           `koanf:"max_header_bytes"`
	MaxBodyBytes   int           `koanf:"max_body_bytes"`
	HeaderTimeout  time.Duration `koanf:"header_timeout"`
	Timeout        time.Duration `koanf:"timeout"` // of a whole request
}

// Limits are what everybody may ask how often; twice as much at once.
type Limits struct {
	KeyPerSecond     int `koanf:"key_per_second"`
	VisitorPerSecond int `koanf:"visitor_per_second"`
}

// Site is one web site whose visits are stored.
type Site struct {
	Host    string `koanf:"host"`
	Name    string `koanf:"name"`
	Privacy string `koanf:"privacy"` // one of visit.Modes; truncated by default
	// TimeZone is the one that the site's days are of; UTC by default.
	TimeZone string `koanf:"time_zone"`
	// Languages are those that the site has, none for any; Default stands where no
	// other suits.
	Languages     []string          `koanf:"languages"`
	Default       string            `koanf:"default_language"`
	Currency      string            `koanf:"currency"`       // that its own prices are in
	PriceEndings  map[string]string `koanf:"price_endings"`  // by currency, such as x.95
	BusinessHours string            `koanf:"business_hours"` // by the visitor's clock, 09:00-17:00 by default
	Variants      []VariantSet      `koanf:"variants"`
	// URL is where visitors reach the site, https:// and its host by default; FetchInside allows asking it
	// for pages, which rehearsals do, where its address is not public.
	URL         string `koanf:"url"`
	FetchInside bool   `koanf:"fetch_inside"`
	// RefusalPage is a file with a template of the page for those whom a gate refuses.
	RefusalPage string `koanf:"refusal_page"`
	// LinkHosts are the hosts, beside its own, that its links may lead to; LinkPage is a file with a template
	// of the page for whoever asks for an unknown link.
	LinkHosts []string `koanf:"link_hosts"`
	LinkPage  string   `koanf:"link_page"`
}

// VariantSet is the variants of one thing, and who gets which.
type VariantSet struct {
	Name    string        `koanf:"name"`
	Default string        `koanf:"default"`
	Rules   []VariantRule `koanf:"rules"`
}

// VariantRule gives a variant to visitors of all the kinds that it names.
type VariantRule struct {
	Variant   string   `koanf:"variant"`
	Countries []string `koanf:"countries"`
	Groups    []string `koanf:"groups"`
	Languages []string `koanf:"languages"`
	Labels    []string `koanf:"labels"`
	Areas     []string `koanf:"areas"`
	// Categories are those of companions, such as weather.storm.
	Categories []string `koanf:"categories"`
	Basis      string   `koanf:"basis"` // the least that the country must rest on
}

// PolicyRule opens or skips the addresses of one kind or prefix.
type PolicyRule struct {
	Kind        string `koanf:"kind"`
	Prefix      string `koanf:"prefix"`
	Action      string `koanf:"action"`
	Placeholder string `koanf:"placeholder"`
	// Place is where visits count whose addresses the rule skips; it goes with a placeholder.
	Place RulePlace `koanf:"place"`
}

// RulePlace is a place that the owner names.
type RulePlace struct {
	CountryCode string `koanf:"country_code"`
	RegionCode  string `koanf:"region_code"`
	City        string `koanf:"city"`
}

// An AtlasSource is one body of range data.
type AtlasSource struct {
	Name string `koanf:"name"`
	File string `koanf:"file"` // relative to the configuration file, or
	URL  string `koanf:"url"`  // of HTTP(S), or of PostgreSQL with a query
	// Files and URLs are several that are read one after another as one.
	Files   []string `koanf:"files"`
	URLs    []string `koanf:"urls"`
	Query   string   `koanf:"query"`  // whose columns are those of a table
	Format  string   `koanf:"format"` // one of source.Formats, or Gather
	Rank    int      `koanf:"rank"`
	Dated   string   `koanf:"dated"` // YYYY-MM-DD; by default the file's own date
	Licence string   `koanf:"licence"`
	Credit  string   `koanf:"credit"`
	Label   string   `koanf:"label"`  // of a list
	Postal  bool     `koanf:"postal"` // keep a geofeed's postal codes
	// Columns maps facts to a table's own names of columns.
	Columns map[string]string `koanf:"columns"`
	// Names are files or addresses of what AS numbers are called, and Documentation lets those count
	// that are reserved for it; for a routing table.
	Names         []string `koanf:"names"`
	Documentation bool     `koanf:"documentation"`
	// From are the sources whose objects name geofeeds, Geofeeds those that the owner lists, and
	// HTTP lets feeds over http count; of what is gathered.
	From     []string        `koanf:"from"`
	Geofeeds []ListedGeofeed `koanf:"geofeeds"`
	HTTP     bool            `koanf:"http"`
	RPKI     string          `koanf:"rpki"` // a directory of certificates that signatures are checked against
}

// A ListedGeofeed is a geofeed that the owner lists.
type ListedGeofeed struct {
	URL    string   `koanf:"url"`
	Ranges []string `koanf:"ranges"` // that it may speak for
}

// Input is where a configuration comes from.
type Input struct {
	File   string // "" for none
	Getenv func(key string) string
	Flags  map[string]any // by key, such as "admin.address"; they win
}

// Load reads and checks a configuration. The error is a [Problems] where its
// contents are at fault.
func Load(in Input) (*Config, error) {
	l := &loader{k: koanf.New("."), lines: map[string]int{}, file: in.File}
	if err := l.k.Load(confmap.Provider(defaults(in.Getenv), "."), nil); err != nil {
		return nil, err
	}
	if in.File != "" {
		if err := l.readFile(); err != nil {
			return nil, err
		}
	}
	l.readEnvironment(in.Getenv)
	for key, value := range in.Flags {
		l.set(key, value, "flag --"+FlagName(key))
	}
	cfg := &Config{}
	l.decode(cfg)
	if len(l.problems) == 0 {
		l.check(cfg)
		if len(cfg.Sites) == 0 || in.File != "" && l.lines["sites"] == 0 && l.origins["sites"] == "" {
			l.problem("sites", "none is named", "Name yours: sites: [{ host: heronlake.example }]. Without a file the service is for localhost.")
		}
	}
	if len(l.problems) > 0 {
		return nil, l.problems
	}
	return cfg, nil
}

func defaults(getenv func(string) string) map[string]any {
	return map[string]any{
		"public.address": "127.0.0.1:8080", "public.max_header_bytes": 64 << 10, "public.max_body_bytes": 1 << 20,
		"public.header_timeout": "10s", "public.timeout": "30s", "public.socket_mode": "0660",
		"admin.address": "127.0.0.1:8081", "admin.max_header_bytes": 64 << 10, "admin.max_body_bytes": 1 << 20,
		"admin.header_timeout": "10s", "admin.timeout": "60s", "admin.socket_mode": "0660",
		"limits.key_per_second": 1000, "limits.visitor_per_second": 20,
		"rates.refresh": "6h", "rates.stale_days": 4, "handover.cookie_lasts": "15m",
		"intake.max_bytes": 1 << 30, "retention_days": 400, "hash_days": 7,
		"marks.bot_agents": []any{
			"bot", "crawl", "spider", "slurp", "archiver", "preview", "fetcher", "headless", "scrapy", "curl/", "wget/", "python-", "java/", "libwww",
			"go-http-client", "okhttp", "axios/", "node-fetch", "httpclient", "postman",
		},
		"marks.preview_agents": []any{
			"preview", "unfurl", "linkexpanding", "externalhit", "facebot", "twitterbot", "whatsapp", "telegrambot", "discordbot", "linkedinbot", "pinterest", "redditbot", "mastodon", "embedly", "iframely",
		},
		"marks.bot_labels": []any{}, "marks.monitor_agents": []any{}, "marks.monitor_labels": []any{"monitoring"},
		"atlas.activate": "auto", "atlas.refresh_interval": "0s",
		"data_dir":  DefaultDataDir(getenv, "eastporch"),
		"log.level": "info", "log.format": "text", "shutdown_grace": "10s",
		"sites": []any{map[string]any{"host": "localhost", "name": "This machine"}},
	}
}

// DefaultDataDir is where the service keeps its data: below /var/lib for root,
// so that the database's own user can reach it, else in the user's data home.
func DefaultDataDir(getenv func(string) string, name string) string {
	if os.Geteuid() == 0 {
		return filepath.Join("/var/lib", name)
	}
	if home := getenv("XDG_DATA_HOME"); home != "" {
		return filepath.Join(home, name)
	}
	return filepath.Join(getenv("HOME"), ".local", "share", name)
}

// HostNames lists the hosts that a listener answers to: those of its own, the
// address it listens on, the names of this machine's loopback, and at the
// public listener the sites.
func (c *Config) HostNames(d Listener, sites bool) []string {
	hosts := append([]string{"localhost", "127.0.0.1", "::1"}, d.Hosts...)
	for _, origin := range d.Origins {
		if u, err := url.Parse(origin); err == nil {
			hosts = append(hosts, u.Hostname())
		}
	}
	if host, _, err := net.SplitHostPort(d.Address); err == nil && host != "" {
		hosts = append(hosts, host)
	}
	if sites {
		for _, s := range c.Sites {
			hosts = append(hosts, s.Host)
		}
	}
	return hosts
}

// PrivacyMode gives the site's mode; check has made sure that there is one.
func (s Site) PrivacyMode() visit.Mode {
	m, _ := visit.ParseMode(s.Privacy)
	return m
}

// Zone gives the zone that the site's days are of.
func (s Site) Zone() string {
	if s.TimeZone == "" {
		return "UTC"
	}
	return s.TimeZone
}

// Translators gives the owner's NAT64 prefixes; check has made sure that they
// are some.
func (c *Config) Translators() []netip.Prefix {
	prefixes := make([]netip.Prefix, len(c.NAT64))
	for i, text := range c.NAT64 {
		prefixes[i], _ = addr.ParsePrefix(text)
	}
	return prefixes
}

// Rules turns the policy into what package addr applies; check has made sure
// that it can.
func (c *Config) Rules() []addr.Rule {
	rules := make([]addr.Rule, len(c.Policy))
	for i, p := range c.Policy {
		rules[i].Action, _ = addr.ParseAction(p.Action)
		rules[i].Placeholder = p.Placeholder
		if p.Prefix != "" {
			rules[i].Prefix, _ = addr.ParsePrefix(p.Prefix)
		} else {
			rules[i].Kind, _ = addr.ParseKind(p.Kind)
		}
	}
	return rules
}

// Path gives a path of the configuration, which is relative to its file.
func (in Input) Path(path string) string {
	if filepath.IsAbs(path) || in.File == "" {
		return path
	}
	return filepath.Join(filepath.Dir(in.File), path)
}
