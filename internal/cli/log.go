package cli

import (
	"io"
	"log/slog"

	"github.com/spf13/cobra"
)

// prepare loads a long-running command's configuration and makes its log, which is the program's from then on.
func prepare(cmd *cobra.Command) (*config, *slog.Logger, error) {
	c, err := loadConfig(cmd)
	if err != nil {
		return nil, nil, err
	}
	log, err := newLog(cmd.ErrOrStderr(), c)
	if err != nil {
		return nil, nil, err
	}
	slog.SetDefault(log)
	return c, log, nil
}

// newLog makes the structured log a long-running command writes.
func newLog(w io.Writer, c *config) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(c.String("log_level"))); err != nil {
		return nil, usagef("log level %q: choose debug, info, warn or error", c.String("log_level"))
	}
	options := &slog.HandlerOptions{Level: level}
	switch c.String("log_format") {
	case "text":
		return slog.New(slog.NewTextHandler(w, options)), nil
	case "json":
		return slog.New(slog.NewJSONHandler(w, options)), nil
	}
	return nil, usagef("log format %q: choose text or json", c.String("log_format"))
}
