// Command kambrel-agent is the agent of Kambrel alone, for hosts that have no more of it. It has
// the commands of 'kambrel agent' that are for the agent's host.
package main

import (
	"os"

	"kambrel.example/kambrel/cli/onhost"
)

func main() { os.Exit(onhost.Execute()) }
