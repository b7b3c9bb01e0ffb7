package term

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"kembrel/client"
)

// setting is one entry of the configuration. It is a flag, an environment variable KEMBREL_NAME and a line in the file
// alike.
type setting struct{ name, value, help, from string }

// Settings is the configuration in force: flags go before the environment, that before the file, that before the
// defaults.
type Settings struct{ list []*setting }

// NewSettings holds the defaults.
func NewSettings() *Settings {
	return &Settings{list: []*setting{
		{name: "url", value: "http://127.0.0.1:7420", help: "address of the service"},
		{name: "listen", value: "127.0.0.1:7420", help: "where the service listens"},
		{name: "metrics", value: "127.0.0.1:7421", help: "where metrics are served for Prometheus; \"\" for nowhere"},
		{name: "data", value: dataFolder(), help: "folder of the private database and the blobs (kembrel start)"},
		{name: "database", value: "", help: "address of the PostgreSQL database (kembrel serve)"},
		{name: "database-keeper", value: "",
			help: "the same database as another role, to which the events belong, so that the service cannot change them; used at the start (kembrel serve)"},
		{name: "blobs", value: "",
			help: "where the blobs are: a folder, or s3://BUCKET/PREFIX?endpoint=https://HOST:PORT; kembrel start has them in the data folder"},
		{name: "reserve", value: "512MB",
			help: "so much of the blobs' disk is kept for the database; checkpoints wait in spools where less is free"},
		{name: "lost-after", value: "60s", help: "a run without a sign of life for so long is lost"},
		{name: "seal-after", value: "3m",
			help: "readings lie in the journal for so long before they are packed into blocks"},
		{name: "tls-cert", value: "",
			help: "certificate in PEM with which the service answers by https; read again when it changes"},
		{name: "tls-key", value: "", help: "its key in PEM"},
		{name: "https", value: "false",
			help: "a proxy before the service answers by https, so its cookies are for https only"},
		{name: "providers", value: "",
			help: "file of the services that people sign in with by OpenID Connect (docs/access.md)"},
		{name: "platforms", value: "",
			help: "folder of binaries for other platforms, which Python's wheels for them carry (make platforms; platforms beside the binary unless set)"},
		{name: "trusted-proxy", value: "",
			help: "addresses or networks of the proxies before the service, separated by commas: callers' addresses are taken from their X-Forwarded-For"},
		{name: "public-url", value: "",
			help: "address at which others reach the service, told to who subscribes to events (docs/subscriptions.md)"},
		{name: "allow-receivers", value: "",
			help: "networks of the inside that may be told of events, separated by commas, such as 10.20.0.0/16"},
		{name: "log-level", value: "info", help: "debug, info, warn or error"},
		{name: "log-format", value: "text", help: "text or json"},
	}}
}

func dataFolder() string {
	if os.Geteuid() == 0 {
		return "/var/lib/kembrel" // the user postgres must be able to reach it
	}
	if f := os.Getenv("XDG_DATA_HOME"); f != "" {
		return filepath.Join(f, "kembrel")
	}
	home, _ := os.UserHomeDir()
	return filepath.Join(home, ".local", "share", "kembrel")
}

func variable(name string) string {
	return "KEMBREL_" + strings.ToUpper(strings.ReplaceAll(name, "-", "_"))
}

func (s *Settings) find(name string) *setting {
	for _, e := range s.list {
		if e.name == name {
			return e
		}
	}
	panic("no setting " + name)
}

// Add makes flags of settings.
func (s *Settings) Add(flags *pflag.FlagSet, names ...string) {
	for _, n := range names {
		e := s.find(n)
		flags.String(n, e.value, e.help+" ["+variable(n)+"]")
	}
}

// Get is a setting's value in force.
func (s *Settings) Get(name string) string { return s.find(name).value }

// File is the configuration file: $KEMBREL_CONFIG, or kembrel/config.toml in the user's configuration folder.
func (s *Settings) File() string {
	if f := os.Getenv("KEMBREL_CONFIG"); f != "" {
		return f
	}
	folder, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(folder, "kembrel", "config.toml")
}

// Load works out what is in force and from where.
func (s *Settings) Load(flags *pflag.FlagSet) error {
	file, path := map[string]any{}, s.File()
	content, err := os.ReadFile(path)
	if err == nil {
		err = toml.Unmarshal(content, &file)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return Usage("configuration file %s: %w", path, err)
	}
	for name := range file {
		known := false
		for _, e := range s.list {
			known = known || e.name == name
		}
		if !known {
			return Usage("configuration file %s: there is no setting %q; kembrel config lists them", path, name)
		}
	}
	for _, e := range s.list {
		e.from = "default"
		if v, ok := file[e.name]; ok {
			e.value, e.from = fmt.Sprint(v), path
		}
		if v, ok := os.LookupEnv(variable(e.name)); ok {
			e.value, e.from = v, variable(e.name)
		}
		if f := flags.Lookup(e.name); f != nil && f.Changed {
			e.value, e.from = f.Value.String(), "--"+e.name
		}
	}
	u := s.find("url")
	if known := client.DefaultService(); u.from == "default" && known != "" {
		u.value, u.from = known, "the last sign-in"
	}
	u.value = client.Address(u.value)
	return nil
}

// Config makes the command config.
func (a *App) Config() *cobra.Command {
	var output string
	cmd := &cobra.Command{Use: "config", Short: "Show the configuration in force, and from where it comes",
		Args: Arguments(),
		Long: `Show the configuration in force, and from where it comes. Flags go before environment variables, those before the
configuration file (TOML; $KEMBREL_CONFIG or ~/.config/kembrel/config.toml), that before the defaults.`,
		Example: "  kembrel config\n  KEMBREL_URL=http://127.0.0.1:8000 kembrel config --output json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			t := List("setting", "value", "from", "what it is")
			items := []any{}
			for _, e := range a.Settings.list {
				t.Add(e.name, e.value, e.from, e.help)
				items = append(items, map[string]string{"setting": e.name, "value": e.value,
					"from": e.from, "help": e.help})
			}
			return a.Print(output, t, map[string]any{"file": a.Settings.File(), "items": items})
		}}
	a.OutputFlag(cmd, &output)
	return cmd
}
