// Command eastporch is the service, the command-line client and the console of
// East Porch in one binary.
package main

import (
	"context"
	"os"
	"os/signal"
	"syscall"
	_ "time/tzdata" // the zones of the gazetteer load on any machine

	"eastporch/internal/cli"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGINT, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // so that a second signal ends the process at once
	os.Exit(cli.Run(ctx, cli.System{Args: os.Args[1:], Getenv: os.Getenv, In: os.Stdin, Out: os.Stdout, Err: os.Stderr}))
}
