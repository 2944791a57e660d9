package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/knadh/koanf/parsers/yaml"
	"github.com/knadh/koanf/providers/env/v2"
	"github.com/knadh/koanf/providers/file"
	"github.com/knadh/koanf/providers/posflag"
	"github.com/knadh/koanf/v2"
	"github.com/spf13/cobra"

	"vinescale/internal/store"
)

// setting is one thing that can be configured: by flag, environment or file, in this order of precedence.
type setting struct {
	key      string // in the file; VINESCALE_KEY in the environment; --key with dashes as a flag
	fallback string
	help     string
	secret   bool
}

var settings = []setting{
	{"listen", "127.0.0.1:7470", "address the service listens on", false},
	{"data", "", "directory of the service's private database", false},
	{"database", "", "URL of an existing PostgreSQL database, in place of a private one", true},
	{
		"zone",
		"",
		"the site's time zone, such as Europe/Vienna: whoever chose none reads times in it, and it bounds the " +
			"days of what names none; empty for each reader's own, and UTC",
		false,
	},
	{"keep_minutes", "31d", "how long intervals are kept one by one, such as 31d, or for-ever", false},
	{"keep_hours", "400d", "how long sums by the hour are kept", false},
	{"keep_days", "for-ever", "how long sums by the day are kept", false},
	{"service", "http://127.0.0.1:7470", "address of the service that commands and collectors call", false},
	{"token", "", "token that commands call the service with", true},
	{"credential", "", "credential that the collector sends with", true},
	{
		"spool",
		"/var/lib/vinescale/spool",
		"directory in which the collector keeps intervals until they are committed",
		false,
	},
	{
		"acts",
		"/etc/vinescale/acts.yaml",
		"file of root's that says which acts may be done on this host; without it none is",
		false,
	},
	{"show", "", "how figures are shown, such as bytes=decimal,network=bits,cpu=limit,decimals=1,zone=UTC,clock=12",
		false},
	{"tick", "5s", "time between the collector's readings", false},
	{"log_level", "info", "debug, info, warn or error", false},
	{"log_format", "text", "text or json", false},
}

func flagName(key string) string { return strings.ReplaceAll(key, "_", "-") }

// configFlags adds flags for some settings to a command.
func configFlags(cmd *cobra.Command, keys ...string) {
	for _, s := range settings {
		if slices.Contains(keys, s.key) {
			cmd.Flags().String(flagName(s.key), s.fallback,
				fmt.Sprintf("%s (or VINESCALE_%s)", s.help, strings.ToUpper(s.key)))
		}
	}
}

// config is the effective configuration, with where each value is from.
type config struct {
	*koanf.Koanf
	from map[string]string
}

// loadConfig reads file, environment and flags, each over the one before.
func loadConfig(cmd *cobra.Command) (*config, error) {
	c := &config{koanf.New("."), map[string]string{}}
	for _, s := range settings {
		c.from[s.key] = "default"
		if err := c.Set(s.key, s.fallback); err != nil {
			return nil, err
		}
	}
	if err := c.loadFile(cmd); err != nil {
		return nil, err
	}
	err := c.layer("environment", func(k *koanf.Koanf) error {
		return k.Load(
			env.Provider(".", env.Opt{Prefix: "VINESCALE_", TransformFunc: func(k, v string) (string, any) {
				return strings.ToLower(strings.TrimPrefix(k, "VINESCALE_")), v
			}}),
			nil,
		)
	})
	if err != nil {
		return nil, err
	}
	err = c.layer("flag", func(k *koanf.Koanf) error {
		return k.Load(posflag.ProviderWithFlag(cmd.Flags(), ".", nil, nil), nil)
	}, func(key string) bool {
		f := cmd.Flags().Lookup(flagName(key))
		return f != nil && f.Changed
	})
	return c, err
}

func (c *config) loadFile(cmd *cobra.Command) error {
	name, chosen := defaultConfigFile, false
	if f := cmd.Flags().Lookup("config"); f != nil && f.Value.String() != "" {
		name, chosen = f.Value.String(), true
	} else if e := os.Getenv("VINESCALE_CONFIG"); e != "" {
		name, chosen = e, true
	}
	if _, err := os.Stat(name); errors.Is(err, fs.ErrNotExist) && !chosen {
		return nil
	}
	k := koanf.New(".")
	if err := k.Load(file.Provider(name), yaml.Parser()); err != nil {
		return fmt.Errorf("read configuration %s: %w", name, err)
	}
	for _, key := range k.Keys() {
		if !slices.ContainsFunc(settings, func(s setting) bool { return s.key == key }) {
			return fmt.Errorf(
				"configuration %s: there is no setting %q; \"vinescale config\" lists those there are",
				name,
				key,
			)
		}
	}
	return c.layer("file "+name, func(into *koanf.Koanf) error { return into.Merge(k) })
}

// layer puts a source's values over what there is, for settings that it has (and that apply).
func (c *config) layer(name string, load func(*koanf.Koanf) error, applies ...func(string) bool) error {
	k := koanf.New(".")
	if err := load(k); err != nil {
		return err
	}
	for _, s := range settings {
		key := s.key
		if !k.Exists(key) {
			key = flagName(s.key)
		}
		if !k.Exists(key) || len(applies) > 0 && !applies[0](s.key) {
			continue
		}
		c.from[s.key] = name
		if err := c.Set(s.key, k.String(key)); err != nil {
			return err
		}
	}
	return nil
}

// shown is one setting as "vinescale config" shows it.
type shown struct {
	Key   string `json:"key"`
	Value string `json:"value"`
	From  string `json:"from"`
	Help  string `json:"help"`
}

func newConfig() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "config",
		Short: "Print the effective configuration, secrets hidden",
		Long: `Settings come from, in this order of precedence: flags, the environment
(VINESCALE_LISTEN and so on), the configuration file (YAML: --config,
VINESCALE_CONFIG, or ` + defaultConfigFile + `), and defaults.`,
		Args: cobra.NoArgs,
	}
	keys := make([]string, len(settings))
	for i, s := range settings {
		keys[i] = s.key
	}
	configFlags(cmd, keys...)
	as := listFlags(cmd, 0)
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := loadConfig(cmd)
		if err != nil {
			return err
		}
		rows := make([]shown, len(settings))
		for i, s := range settings {
			v := c.String(s.key)
			switch {
			case s.key == "database" && v != "":
				v = store.Redact(v)
			case s.secret && v != "":
				v = "(hidden)"
			}
			rows[i] = shown{s.key, v, c.from[s.key], s.help}
		}
		return list(cmd, as, []column[shown]{
			{name: "key", head: "setting", value: func(s shown) any { return s.Key }},
			{name: "value", head: "value", value: func(s shown) any { return s.Value }},
			{name: "from", head: "from", value: func(s shown) any { return s.From }},
			{name: "help", head: "what it is", value: func(s shown) any { return s.Help }},
		}, rows)
	}
	return cmd
}
