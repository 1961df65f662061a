// Command kambrel is the service, the agent and the command line of Kambrel.
package main

import (
	"os"

	"kambrel.example/kambrel/cli"
)

func main() { os.Exit(cli.Execute()) }
