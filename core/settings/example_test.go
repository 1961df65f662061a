package settings_test

import (
	"fmt"

	"kambrel.example/kambrel/core/settings"
)

func ExampleParse() {
	_, err := settings.Parse([]byte(`
directories:
  - {name: halvard, dialect: ad, base: "DC=halvard,DC=example", containers: {include: ["OU=Fleet,DC=corp"]}}
users:
  filter: "(title=Mate"
`))
	fmt.Println(err)
	// Output:
	// The settings have faults
	//   directories[0].containers.include[0] (line 3 of the file): OU=Fleet,DC=corp does not lie below the base DC=halvard,DC=example
	//   users.rules (line 5 of the file): no rule sets userName, which every user in the cloud needs
	//   users.rules (line 5 of the file): no rule sets active, which every user in the cloud needs
	//   users.filter (line 5 of the file; character 12): expected a closing parenthesis
}
