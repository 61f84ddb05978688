// Package config reads the settings of the service: one YAML file, in which
// every value can be overridden by an environment variable. The variable is
// the setting's path in capitals after ENDEIXIS_, with two underscores between
// its parts: database.url is ENDEIXIS_DATABASE__URL.
package config

import (
	"cmp"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"

	"github.com/goccy/go-yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/providers/structs"
	"github.com/knadh/koanf/v2"
)

// Config is everything that can be set.
type Config struct {
	// Name is the service's name in the ledger's checkpoints, a host name.
	Name     string   `koanf:"name"`
	Listen   string   `koanf:"listen"`
	Database Database `koanf:"database"`
	Ledger   Ledger   `koanf:"ledger"`
	// Depots maps names to directories that the service may read.
	Depots map[string]string `koanf:"depots"`
	// Origins are the places from which copies of manifests may be fetched,
	// by name. No other place is ever contacted.
	Origins map[string]Origin `koanf:"origins"`
	// Directories are the key directories that are asked, in their order. No
	// other is ever contacted.
	Directories []Directory `koanf:"directories"`
	// LookupHours is how often every key is looked up again; zero means only
	// when somebody asks.
	LookupHours int `koanf:"lookup_hours"`
	// Devices says how equipment is reached that hashes what it holds.
	Devices Devices `koanf:"devices"`
	Work    Work    `koanf:"work"`
	Log     Log     `koanf:"log"`
	// SecureCookies is to be on wherever people reach the service by HTTPS.
	SecureCookies bool `koanf:"secure_cookies"`
	// TrustedProxies are the addresses, or networks as 10.0.0.0/8, of proxies
	// that say for whom they ask. What others say about that is ignored.
	TrustedProxies []string `koanf:"trusted_proxies"`
}

// Origin is a place from which copies of manifests may be fetched.
type Origin struct {
	// URL is the address of a folder; everything below it may be asked for.
	URL string `koanf:"url"`
	// Channel is vendor-site, mirror, other-network or paper.
	Channel string `koanf:"channel"`
}

// Directory is a key directory.
type Directory struct {
	Name string `koanf:"name"`
	// Kind is hkp or wkd.
	Kind string `koanf:"kind"`
	// URL is the address below which pks/lookup or hu/ lies.
	URL string `koanf:"url"`
	// Domain is, for wkd, the part of mail addresses behind the @.
	Domain string `koanf:"domain"`
}

// Devices says how equipment is reached. What is secret stands in files of its own.
type Devices struct {
	// Kinds is a folder of descriptions, and HostKeys a file of host keys that somebody
	// has confirmed, a line for each: address, kind of key, key in base64. Either may be empty.
	Kinds    string `koanf:"kinds"`
	HostKeys string `koanf:"host_keys"`
	// AtOnce is how many devices are asked at a time.
	AtOnce int `koanf:"at_once"`
	// Credentials are ways to be let in, by name.
	Credentials map[string]Credential `koanf:"credentials"`
}

// Credential is a name, and a file with a private key or a password.
type Credential struct {
	User         string `koanf:"user"`
	KeyFile      string `koanf:"key_file"`
	PasswordFile string `koanf:"password_file"`
}

// Database says where the records are kept.
type Database struct {
	URL string `koanf:"url"`
}

// Ledger says where the service's signing key is.
type Ledger struct {
	KeyFile string `koanf:"key_file"`
	// WritersKeyFile holds the key by which a host seals what it records that works on
	// batches and signs nothing. Where the signing key is, it is not needed.
	WritersKeyFile string `koanf:"writers_key_file"`
	// AuditHours is how often the ledger is audited by itself, and AuditDays how often from its
	// first record on; zero means only when somebody asks.
	AuditHours int `koanf:"audit_hours"`
	AuditDays  int `koanf:"audit_days"`
	// Open shows the ledger's checkpoint and hashes to anybody, as tiles.
	Open bool `koanf:"open"`
	// Witnesses are asked to countersign every checkpoint.
	Witnesses []Witness `koanf:"witnesses"`
}

// Witness is a host that countersigns checkpoints.
type Witness struct {
	// URL is the address below which add-checkpoint lies, and Key its public key.
	URL string `koanf:"url"`
	Key string `koanf:"key"`
}

// Work sizes the hashing.
type Work struct {
	// Workers is how many slices are worked on at once; 0 means one for each
	// core.
	Workers int `koanf:"workers"`
	// SliceBytes and SliceItems bound one slice of a batch.
	SliceBytes int64 `koanf:"slice_bytes"`
	SliceItems int   `koanf:"slice_items"`
	// MeasurerHours is how long a batch waits for its measurer,
	// since they were last heard from.
	MeasurerHours int `koanf:"measurer_hours"`
}

// Log sets what is logged.
type Log struct {
	// Level is debug, info, warn or error.
	Level string `koanf:"level"`
	// Format is text or json.
	Format string `koanf:"format"`
}

func defaults() Config {
	return Config{
		Name:        "endeixis.local",
		Listen:      "127.0.0.1:7474",
		Depots:      map[string]string{},
		Origins:     map[string]Origin{},
		Directories: []Directory{},
		Devices:     Devices{AtOnce: 8, Credentials: map[string]Credential{}},
		Ledger:      Ledger{KeyFile: "ledger.key", AuditHours: 24, AuditDays: 30},
		Work:        Work{SliceBytes: 256 << 20, SliceItems: 1000, MeasurerHours: 24},
		Log:         Log{Level: "info", Format: "text"},
	}
}

// A Setting is one value in force and where it comes from.
type Setting struct {
	Path, Value, Source string
}

// Loaded is a configuration with the origin of every value.
type Loaded struct {
	Config
	Settings []Setting
}

// Load reads the file, which may be empty for none, and the environment.
// Relative paths in the file are relative to it.
func Load(path string) (*Loaded, error) {
	k, sources, err := layered(path)
	if err != nil {
		return nil, err
	}
	var c Config
	if err := k.UnmarshalWithConf("", &c, koanf.UnmarshalConf{Tag: "koanf"}); err != nil {
		return nil, fmt.Errorf("the configuration does not fit: %w", err)
	}
	for was, now := range renamed {
		if k.Exists(was) {
			return nil, fmt.Errorf("the setting %s is called %s now; give it that name", was, now)
		}
	}
	if unknown := unknownKeys(k); len(unknown) > 0 {
		return nil, fmt.Errorf("the configuration has settings that do not exist: %s", strings.Join(unknown, ", "))
	}
	if path != "" {
		c.resolve(filepath.Dir(path))
	}
	if err := c.validate(); err != nil {
		return nil, err
	}
	loaded := &Loaded{Config: c}
	for _, key := range slices.Sorted(maps.Keys(k.All())) {
		loaded.Settings = append(loaded.Settings, Setting{Path: key, Value: shown(k.Get(key)), Source: sources[key]})
	}
	return loaded, nil
}

// layered reads the defaults, the file and the environment, each over the one before, and says
// where each value is from.
func layered(path string) (*koanf.Koanf, map[string]string, error) {
	k := koanf.New(".")
	sources := map[string]string{}
	layer := func(source string, provider koanf.Provider, parser koanf.Parser) error {
		before := k.All()
		if err := k.Load(provider, parser); err != nil {
			return err
		}
		for key, value := range k.All() {
			if old, ok := before[key]; !ok || fmt.Sprint(old) != fmt.Sprint(value) ||
				source != "default" && sources[key] == "" {
				sources[key] = source
			}
		}
		return nil
	}
	if err := layer("default", structs.Provider(defaults(), "koanf"), nil); err != nil {
		return nil, nil, err
	}
	if path != "" {
		if err := layer(path, file.Provider(path), yamlParser{}); err != nil {
			return nil, nil, fmt.Errorf("reading the configuration %s: %w", path, err)
		}
	}
	const prefix = "ENDEIXIS_"
	if err := layer(
		"environment",
		env.Provider(".", env.Opt{Prefix: prefix, TransformFunc: func(key, value string) (string, any) {
			key = strings.ToLower(strings.TrimPrefix(key, prefix))
			key = strings.ReplaceAll(key, "__", ".")
			if !k.Exists(key) && !strings.HasPrefix(key, "depots.") && !originKey.MatchString(key) &&
				!credentialKey.MatchString(key) &&
				key != "database.url" {
				return "", nil // variables of the client and others
			}
			return key, value
		}}),
		nil,
	); err != nil {
		return nil, nil, err
	}
	return k, sources, nil
}

// resolve makes relative paths relative to the folder of the file that they stand in.
func (c *Config) resolve(base string) {
	c.Ledger.KeyFile = from(base, c.Ledger.KeyFile)
	if c.Ledger.WritersKeyFile != "" {
		c.Ledger.WritersKeyFile = from(base, c.Ledger.WritersKeyFile)
	}
	for name, dir := range c.Depots {
		c.Depots[name] = from(base, dir)
	}
	for _, path := range []*string{&c.Devices.Kinds, &c.Devices.HostKeys} {
		if *path != "" {
			*path = from(base, *path)
		}
	}
	for name, credential := range c.Devices.Credentials {
		for _, path := range []*string{&credential.KeyFile, &credential.PasswordFile} {
			if *path != "" {
				*path = from(base, *path)
			}
		}
		c.Devices.Credentials[name] = credential
	}
}

// renamed are settings that had another name, by that.
var renamed = map[string]string{"refresh_hours": "lookup_hours", "devices.known_hosts": "devices.host_keys"}

// unknownKeys finds misspelled settings.
func unknownKeys(k *koanf.Koanf) []string {
	known := koanf.New(".")
	known.Load(structs.Provider(defaults(), "koanf"), nil) //nolint:errcheck // cannot fail
	var out []string
	for _, key := range k.Keys() {
		if !known.Exists(key) && !strings.HasPrefix(key, "depots.") && !originKey.MatchString(key) &&
			!credentialKey.MatchString(key) {
			out = append(out, key)
		}
	}
	return out
}

// secretWord finds secrets in an address that is made of words: password=…
var secretWord = regexp.MustCompile(`(?i)\b(\w*pass\w*|\w*secret\w*)(\s*=\s*)('(?:\\.|[^'\\])*'?|[^\s&]+)`)

// shown hides what is secret in a value, in every form that an address can have.
func shown(value any) string {
	text := fmt.Sprint(value)
	if scheme, rest, ok := strings.Cut(text, "://"); ok {
		// A password may have any characters, so that what stands before the
		// last @ of the authority is not looked into.
		authority, tail := rest, ""
		if i := strings.IndexAny(rest, "/?#"); i >= 0 && !strings.Contains(rest[i:], "@") {
			authority, tail = rest[:i], rest[i:]
		} else if i >= 0 {
			at := strings.LastIndex(rest, "@")
			authority, tail = rest[:at+1], rest[at+1:]
		}
		if at := strings.LastIndex(authority, "@"); at >= 0 {
			if user, _, secret := strings.Cut(authority[:at], ":"); secret {
				authority = user + ":…" + authority[at:]
			}
		}
		text = scheme + "://" + authority + tail
	}
	return secretWord.ReplaceAllString(text, "$1$2…")
}

// Warnings tell what is allowed and should not be: secrets that others can read,
// depots that the service can write, people without HTTPS.
func (c *Config) Warnings(file string) []string {
	var out []string
	secrets := map[string]string{
		"the configuration": file, "the ledger's key": c.Ledger.KeyFile,
		"the key by which records are sealed": c.Ledger.WritersKeyFile,
	}
	for name, credential := range c.Devices.Credentials {
		secrets["the credential "+name+" for devices"] = cmp.Or(credential.KeyFile, credential.PasswordFile)
	}
	for what, name := range secrets {
		if info, err := os.Stat(name); err == nil && info.Mode().Perm()&0o044 != 0 {
			out = append(
				out,
				fmt.Sprintf("%s, %s, can be read by others on this host; take that right away (chmod 600)", what, name),
			)
		}
	}
	for name, dir := range c.Depots {
		if syscall.Access(dir, 2 /* W_OK */) == nil {
			out = append(
				out,
				fmt.Sprintf(
					"the depot %s, %s, can be written by this user; give the service a user that can only read it",
					name, dir,
				),
			)
		}
	}
	if host, _, err := net.SplitHostPort(c.Listen); err == nil && !c.SecureCookies {
		if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			out = append(
				out,
				fmt.Sprintf(
					"the service listens on %s, beyond this host, and secure_cookies is off; put HTTPS in front and set it",
					c.Listen,
				),
			)
		}
	}
	slices.Sort(out)
	return out
}

func from(base, path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(base, path)
}

var originKey = regexp.MustCompile(`^origins\.[^.]+\.(url|channel)$`)

var credentialKey = regexp.MustCompile(`^devices\.credentials\.[^.]+\.(user|key_file|password_file)$`)

var depotName = regexp.MustCompile(`^[a-z0-9]+(-[a-z0-9]+)*$`)

func (c *Config) validate() error {
	switch {
	case c.Database.URL == "":
		return fmt.Errorf("database.url is not set; give it in the file or as ENDEIXIS_DATABASE__URL")
	case strings.ContainsAny(c.Name, " +\n") || c.Name == "":
		return fmt.Errorf("name %q is not a host name", c.Name)
	case c.Work.SliceBytes < 1 || c.Work.SliceItems < 1:
		return fmt.Errorf("work.slice_bytes and work.slice_items must be at least 1")
	case c.Work.MeasurerHours < 1:
		return fmt.Errorf("work.measurer_hours must be at least 1")
	}
	for _, proxy := range c.TrustedProxies {
		_, _, err := net.ParseCIDR(proxy)
		if net.ParseIP(proxy) == nil && err != nil {
			return fmt.Errorf("trusted_proxies: %q is neither an address nor a network such as 10.0.0.0/8", proxy)
		}
	}
	if c.Devices.AtOnce < 1 || c.Devices.AtOnce > 1000 {
		return fmt.Errorf("devices.at_once is %d; it has to be from 1 to 1000", c.Devices.AtOnce)
	}
	for name, credential := range c.Devices.Credentials {
		if !depotName.MatchString(name) {
			return fmt.Errorf("credential name %q: use small letters, digits and hyphens", name)
		}
		if credential.User == "" || (credential.KeyFile == "") == (credential.PasswordFile == "") {
			return fmt.Errorf("devices.credentials.%s needs a user, and either key_file or password_file", name)
		}
	}
	seen := map[string]bool{}
	for _, d := range c.Directories {
		if !depotName.MatchString(d.Name) || seen[d.Name] {
			return fmt.Errorf("directory name %q: use small letters, digits and hyphens, and each name once", d.Name)
		}
		seen[d.Name] = true
	}
	if c.LookupHours < 0 {
		return fmt.Errorf("lookup_hours is negative; give 0 for never")
	}
	for name := range c.Origins {
		if !depotName.MatchString(name) {
			return fmt.Errorf("origin name %q: use small letters, digits and hyphens", name)
		}
	}
	for name, dir := range c.Depots {
		if !depotName.MatchString(name) {
			return fmt.Errorf("depot name %q: use small letters, digits and hyphens", name)
		}
		info, err := os.Stat(dir)
		if err != nil {
			return fmt.Errorf("depot %s: %w", name, err)
		}
		if !info.IsDir() {
			return fmt.Errorf("depot %s: %s is not a directory", name, dir)
		}
	}
	return nil
}

// yamlParser reads configuration by the package that reads all other YAML here too.
type yamlParser struct{}

// Unmarshal reads a document.
func (yamlParser) Unmarshal(text []byte) (map[string]any, error) {
	out := map[string]any{}
	err := yaml.Unmarshal(text, &out)
	return out, err
}

// Marshal writes a document.
func (yamlParser) Marshal(settings map[string]any) ([]byte, error) { return yaml.Marshal(settings) }
