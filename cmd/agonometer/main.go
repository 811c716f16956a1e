// Command agonometer is the service and its client.
package main

import (
	"context"
	"os"

	"agonometer/internal/bout"
	"agonometer/internal/cli"
)

func main() {
	bout.MaybeHelper()
	os.Exit(cli.Main(context.Background(), os.Args[1:], os.Stdin, os.Stdout, os.Stderr))
}
