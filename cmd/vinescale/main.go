// Command vinescale is the account book of shared hosts: service, collector and client in one binary.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"vinescale/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := cli.Run(ctx, os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
	stop()
	os.Exit(code)
}
