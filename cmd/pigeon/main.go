// Command pigeon is Calm Pigeon: service, client, practice fleet and demo.
package main

import (
	"os"
	_ "time/tzdata" // quiet hours are local, also where the system knows no zones

	"calmpigeon.example/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
