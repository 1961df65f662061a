package settings

// Default returns the settings that suit most directories of a dialect: people
// are matched by login and then by address, and only the attributes listed
// here are ever touched in the cloud.
func Default(directory Directory) Document {
	login, active := "userPrincipalName", `!flag(entry.userAccountControl, 2)`
	filter := "(&(objectClass=user)(!(objectClass=computer)))"
	if directory.Dialect == Standard {
		login, active = "mail", `!(entry.pwdAccountLockedTime == "000001010000Z")`
		filter = "(objectClass=inetOrgPerson)"
	}
	const enterprise = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:"
	return Document{
		Directories: []Directory{directory},
		Users: Users{
			Filter: filter,
			Match: []MatchRule{
				{Name: "same login", From: login, Resource: "userName"},
				{Name: "same address", From: "mail", Resource: "emails.value"},
			},
			Rules: []Rule{
				{Target: "userName", From: login, Required: true},
				{Target: "active", Formula: active},
				{Target: "displayName", Formula: `entry.displayName != "" ? entry.displayName : entry.cn`},
				{Target: "name.givenName", From: "givenName"},
				{Target: "name.familyName", From: "sn"},
				{Target: `emails[type eq "work"].value`, From: "mail"},
				{Target: "title", From: "title"},
				{Target: `phoneNumbers[type eq "work"].value`, From: "telephoneNumber"},
				{Target: enterprise + "department", From: map[Dialect]string{AD: "department", Standard: "departmentNumber"}[directory.Dialect]},
				{Target: enterprise + "employeeNumber", From: map[Dialect]string{AD: "employeeID", Standard: "employeeNumber"}[directory.Dialect]},
			},
			Leavers: Suspend,
		},
		Guard:    Guard{Removals: 20, Share: 5},
		Schedule: Schedule{Every: "2m"},
	}
}
