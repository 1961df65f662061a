package problem

import (
	"slices"

	"kambrel.example/kambrel/core/about"
)

// Code names one kind of problem for good; it is never reused.
type Code string

// The codes.
const (
	DuplicateLogin        Code = "duplicate-login"
	DuplicateAddress      Code = "duplicate-address"
	DuplicateName         Code = "duplicate-name"
	NearMiss              Code = "near-miss"
	HeldByHand            Code = "held-by-hand"
	RequiredMissing       Code = "required-value-missing"
	FormulaFailed         Code = "formula-failed"
	ValueRefused          Code = "value-refused"
	AmbiguousMatch        Code = "ambiguous-match"
	LinkConflict          Code = "link-conflict"
	PersonAmbiguous       Code = "person-ambiguous"
	PersonTwoResources    Code = "person-two-resources"
	ProtectedResource     Code = "protected-resource"
	RemovalsHeld          Code = "removals-held"
	CloudListIncomplete   Code = "cloud-list-incomplete"
	MembersLost           Code = "members-lost"
	CreationUnconfirmed   Code = "creation-unconfirmed"
	SecondResource        Code = "second-resource"
	CloudRefused          Code = "cloud-refused"
	CloudThrottled        Code = "cloud-throttled"
	CloudUnreachable      Code = "cloud-unreachable"
	CloudUnauthorized     Code = "cloud-unauthorized"
	OtherCloud            Code = "other-cloud"
	CloudFailing          Code = "cloud-failing"
	DirectoryUnreachable  Code = "directory-unreachable"
	DirectoryRefused      Code = "directory-refused"
	AgentOffline          Code = "agent-offline"
	ContainerMissing      Code = "scope-container-missing"
	ValueUnusable         Code = "value-unusable"
	EntryOutsideBase      Code = "entry-outside-base"
	DatabaseRefused       Code = "database-refused"
	DatabaseReadOnly      Code = "database-read-only"
	SchemaNewer           Code = "schema-newer"
	Unforeseen            Code = "unforeseen"
	NoSettings            Code = "no-settings"
	SettingsInvalid       Code = "settings-invalid"
	ExpectationsNotMet    Code = "expectations-not-met"
	DatabaseUnreachable   Code = "database-unreachable"
	NotFound              Code = "not-found"
	AmbiguousText         Code = "ambiguous-text"
	BadInput              Code = "bad-input"
	SignInRefused         Code = "sign-in-refused"
	SignInUnanswered      Code = "sign-in-unanswered"
	SecondFactorNeeded    Code = "second-factor-needed"
	AgentRetired          Code = "agent-retired"
	NotAllowed            Code = "not-allowed"
	EnrolmentCodeRefused  Code = "enrolment-code-refused"
	OrderLost             Code = "order-lost"
	DirectoryNotServed    Code = "directory-not-served"
	DirectoryNotGranted   Code = "directory-not-granted"
	AgentMessageMalformed Code = "agent-message-malformed"
	LoginSuffix           Code = "login-suffix-not-verified"
	RightMissing          Code = "right-missing"
	ValueChanged          Code = "value-changed"
	ValueAltered          Code = "value-altered"
	DraftChanged          Code = "draft-changed"
	DirectoryInUse        Code = "directory-in-use"
	Cancelled             Code = "cancelled"
	PlainLDAP             Code = "plain-ldap"
	AgentAtFault          Code = "agent-at-fault"
	AgentNotUpdated       Code = "agent-not-updated"
	SignOnNotSent         Code = "sign-on-not-in-cloud"
	SignOnDrifted         Code = "sign-on-changed-in-cloud"
	ProviderRefused       Code = "identity-provider-not-read"
	ProviderEnds          Code = "identity-provider-ends"
	NoWayBack             Code = "no-way-back"
	ExpectationBroken     Code = "expectation-broken"
	ChangesMissed         Code = "changes-missed"
	CertificateEnds       Code = "certificate-ends"
	SignInGuessed         Code = "sign-in-guessed"
	EmergencyUsed         Code = "emergency-account-used"
	AttributeHidden       Code = "attribute-hidden"
	PasswordsClosed       Code = "passwords-closed"
	EventRefused          Code = "event-refused"
	DigestsLate           Code = "digests-late"
	NothingVisible        Code = "nothing-visible"
	CloudGroupName        Code = "cloud-group-name"
	CloudGroupNameTaken   Code = "cloud-group-name-taken"
	CloudGroupClass       Code = "cloud-group-class"
	CloudGroupLost        Code = "cloud-group-lost"
	CloudGroupRefused     Code = "cloud-group-refused"
	CloudMembersRefused   Code = "cloud-members-refused"
	CloudGroupMark        Code = "cloud-group-mark"
	CloudGroupContainer   Code = "cloud-group-container"
	GroupScopeRefuses     Code = "group-scope-refuses"
	NoticesStuck          Code = "notices-stuck"
	Paused                Code = "paused"
)

// Kind is one line of the catalogue.
type Kind struct {
	Code   Code
	Title  string
	Cause  string
	Remedy string
	// Touches is the type of what has the problem; "" of one that only answers a
	// request and is not kept.
	Touches about.Type
}

var catalogue = []Kind{
	{DuplicateLogin, "Login is taken", "Two people would have the same login in the cloud, and the cloud allows each login once.", "Correct the login of one of the two entries in the directory, or take one out of scope. The next run goes on by itself.", about.Entry},
	{DuplicateAddress, "Address is taken", "Two people would have the same address in the cloud, and the cloud allows each address once.", "Correct the address of one of the two entries in the directory, or take one out of scope. The next run goes on by itself.", about.Entry},
	{DuplicateName, "Name is taken", "Two groups, or two contacts, would have the same value in the cloud, and the cloud allows it once.", "Correct the value of one of the two entries in the directory, or change the rule that makes it. The next run goes on by itself.", about.Entry},
	{NearMiss, "Somebody looks like the same person", "No match rule ties the entry to a resource, but one in the cloud looks like the same person. A second account is expensive to undo, so none is made.", "Compare the two. If they are the same, link them ('kambrel link ENTRY RESOURCE') or correct the login; if not, 'kambrel create ENTRY' makes the account all the same.", about.Entry},
	{HeldByHand, "Unlinked by hand", "An operator has untied the entry from its resource, and it gets none until something else is decided.", "Link it ('kambrel link ENTRY RESOURCE'), let an account be made ('kambrel create ENTRY'), or let the rules decide again ('kambrel rematch ENTRY').", about.Entry},
	{RequiredMissing, "Required value missing", "A rule for a required attribute found no value on this entry.", "Give the entry the attribute that the rule reads, or change the rule in the settings.", about.Entry},
	{FormulaFailed, "Formula failed for this entry", "A formula could not be worked out with this entry's values.", "Correct the value named in the detail, or make the formula allow for it.", about.Entry},
	{ValueRefused, "The cloud refused a value", "The cloud does not accept one of the values, for example a login whose domain it has not verified. The others are written without it.", "Correct the value in the directory or the rule that makes it. The next run goes on by itself.", about.Entry},
	{AmbiguousMatch, "Several resources match", "More than one resource in the cloud fits this entry, so none is taken.", "Remove the doubt in the cloud (one resource too many) or in the entry.", about.Entry},
	{LinkConflict, "The resource is linked to another entry", "The resource that fits this entry already belongs to another entry.", "If the other entry was deleted and this is the same person, link them ('kambrel link ENTRY RESOURCE'). If it is the same person's old one and still there, delete it or take it out of scope and unlink it; otherwise correct the login.", about.Entry},
	{PersonAmbiguous, "Several entries of one directory would be one person", "A person rule fits more than one entry of the same directory, so it is not known which of them is the person that another directory has.", "Correct the value that the person rule reads on one of the entries, or take one out of scope.", about.Entry},
	{PersonTwoResources, "One person has two resources", "A person rule says that two entries are one person, yet each is linked to a resource of its own.", "Compare the two resources. Unlink the one that is too much ('kambrel unlink ENTRY'), and delete it in the cloud once nobody needs what it owns; or correct the value that the person rule reads.", about.Entry},
	{ProtectedResource, "The resource has an administrative role", "A match rule found a resource that administers the cloud. Such a resource is never adopted by a rule.", "If it is the same person, link it knowingly ('kambrel link ENTRY RESOURCE'); else give the entry another login.", about.Entry},
	{RemovalsHeld, "What would be taken away is held", "The run would have taken more away than the guard allows: suspended or deleted, members removed, values emptied, access withdrawn, or logins changed.", "Look at what the run holds ('kambrel runs show N --state held'). Release it if it is meant, discard it if it is to stay ('kambrel runs discard N'), or correct the cause, a scope, a rule or a right in the directory, and it falls away.", about.Run},
	{CloudListIncomplete, "The cloud's list is not complete", "The cloud answered a list that contradicts itself: a page that repeats, one that begins elsewhere than asked, or fewer resources than it says there are. Taking that for everything would drop people who are there.", "Tell the cloud's makers what the detail says. Nothing was taken for gone; the next run reads again.", about.Cloud},
	{MembersLost, "The cloud lost members of a group", "After a change of a group's members the cloud was asked for them again, and did not have those that it should. The run stopped before another group was touched.", "Look at the group in the cloud, and tell its makers what the detail says. 'kambrel sync --full' puts the members back once the cloud keeps them.", about.Run},
	{CreationUnconfirmed, "A creation is not confirmed", "The cloud said that it made a resource, or did not answer, and the resource cannot be found. Making it again could be a second account.", "Nothing, if the cloud's lists lag behind: the next run looks again. If the cloud surely has no such resource, 'kambrel create ENTRY' makes it all the same.", about.Entry},
	{SecondResource, "A second resource would be made", "The run was about to make a resource for a link key for which it has made one, so it stopped. This is a fault of Kambrel or of the cloud.", "Look for the link key in the cloud ('kambrel find ID'). Report it with the service's log.", about.Run},
	{CloudRefused, "The cloud refused", "The cloud answered a request with an error.", "Read the cloud's answer in the detail.", about.Entry},
	{CloudThrottled, "The cloud is throttling", "The cloud asks for fewer requests; Kambrel waited and tried again, without success so far.", "Nothing: the next run goes on where this one stopped.", about.Cloud},
	{CloudUnreachable, "The cloud cannot be reached", "There was no answer from the cloud's SCIM service.", "Check the network and the URL ('kambrel cloud show'); 'kambrel cloud connect' gives another.", about.Cloud},
	{CloudFailing, "The cloud fails", "The cloud's SCIM service answers, each time with an error of its own (5xx).", "Look at the state of the cloud's service, and tell its makers what the detail says. Nothing is lost: the next run goes on where this one stopped.", about.Cloud},
	{OtherCloud, "This is not the cloud of the records", "The service reaches a cloud that does not know the resources that entries are linked to. Going on would read as everybody having been deleted in the cloud, and make everybody there a second time. Nothing was read or written.", "Give the service the URL of the cloud that the records are of ('kambrel cloud connect', or the file that it was started with). For another cloud start a service on an empty database.", about.Cloud},
	{CloudUnauthorized, "The cloud does not accept the token", "The cloud refused the token of the service.", "Give a valid one with 'kambrel cloud connect', or put it into the file that the service was started with (--cloud-token-file), which is read again when it changes.", about.Cloud},
	{DirectoryUnreachable, "The directory cannot be reached", "The agent could not connect to the directory.", "See the detail for the step that failed: name, connection, TLS or bind.", about.Directory},
	{DirectoryRefused, "The directory refused", "The directory answered the agent's request with an error.", "Read the directory's answer in the detail.", about.Directory},
	{AgentOffline, "No agent answers", "No agent took the order in time.", "Start the agent on its host with 'kambrel agent run', and look at 'kambrel agent list'.", about.Directory},
	{ContainerMissing, "A container of the scope does not exist", "The settings include or exclude a container that the directory does not have. Going on would suspend people by mistake.", "Correct the container's name in the settings and activate them.", about.Directory},
	{ValueUnusable, "A value cannot be kept", "A value of the entry holds a character that neither the database nor the cloud can take, such as the NUL character.", "Correct the value in the directory. Everybody else is synced meanwhile.", about.Entry},
	{EntryOutsideBase, "An entry lies outside its directory", "The agent sent an entry whose name is not beneath the base of the directory that it was asked about. Nothing of that answer was taken.", "Compare the base in the settings with the agent's configuration. If the agent cannot have meant it, retire it: somebody else may speak in its name.", about.Directory},
	{DatabaseRefused, "The database refused an answer", "PostgreSQL would not take what an agent sent, so the answer was not kept.", "Look at the service's log and at PostgreSQL's for the state named in the detail, and report it.", about.Service},
	{DatabaseReadOnly, "The database takes no writes", "PostgreSQL answers, but is read-only: it is a stand-by, or it was made read-only.", "Connect the service to the server that takes writes, or end its recovery.", about.Service},
	{SchemaNewer, "The database is newer than this program", "A newer version of Kambrel has changed the tables; this one would misread them.", "Start the newer version.", about.Service},
	{Unforeseen, "Something unforeseen went wrong", "The run failed several times in the same way, for a reason that Kambrel does not know.", "Look at the service's log at the time of the run, and report it. Nothing is lost: the next run goes on from where this one stopped.", about.Run},
	{NoSettings, "No settings are active", "A run needs activated settings.", "Activate a settings file: 'kambrel settings activate FILE'.", about.Settings},
	{SettingsInvalid, "The settings have faults", "The settings file cannot work as it is.", "Correct each fault that is listed; nothing was activated.", about.Settings},
	{ExpectationsNotMet, "What is expected does not hold", "The settings expect something of entries, and would do otherwise to them. Nothing was activated.", "Look at each that is listed: correct the settings, or the expectation where it is out of date. To activate them all the same, say so: 'kambrel settings activate --although'.", about.Settings},
	{DatabaseUnreachable, "The database cannot be reached", "PostgreSQL did not answer.", "Start PostgreSQL, or correct the connection the service was started with. Nothing is lost.", about.Service},
	{NotFound, "Not found", "Nothing has this name or id.", "Check the spelling, or search with 'kambrel find TEXT'.", ""},
	{AmbiguousText, "Several objects fit", "The text fits more than one object.", "Use the id of the one that is meant; 'kambrel find TEXT' lists them.", ""},
	{BadInput, "The input is wrong", "The request cannot be read.", "Correct it as the detail says.", ""},
	{SignInRefused, "Sign-in refused", "The name or the password is wrong, or the session or token has ended.", "Sign in again: 'kambrel login'.", ""},
	{SignInUnanswered, "Nobody can say who signs in", "Who signs in by a directory is asked for by an agent of that directory, and none has answered.", "Sign in with an operator of Kambrel's own, and look at the agent: 'kambrel agent list'. Sessions that were begun before go on for a quarter of an hour.", ""},
	{SecondFactorNeeded, "A code is needed", "The name and the password are right, and the operator has a second factor.", "Give the six digits that your authenticator shows now; each serves once. An administrator takes a lost one away with 'kambrel operator factor remove NAME'.", ""},
	{AgentRetired, "No such agent", "The service knows no agent of this identity: it may have been retired.", "Enrol it again with a new code: 'kambrel agent code DIRECTORY'.", ""},
	{NotAllowed, "Not allowed", "Your role does not allow this.", "Ask an administrator of Kambrel.", ""},
	{EnrolmentCodeRefused, "The enrolment code is not valid", "The code was used already, has expired, or was never issued.", "Issue a new one with 'kambrel agent code DIRECTORY'.", ""},
	{OrderLost, "The order is no longer this agent's", "Its lease lapsed and it went to another agent, or it was finished already.", "Nothing: the agent goes on with the next order.", ""},
	{DirectoryNotServed, "No agent serves the directory", "No enrolled agent has this directory in its configuration.", "Add the directory to an agent's configuration, with the same name as in the settings.", about.Directory},
	{DirectoryNotGranted, "An agent asks for a directory that it was not granted", "The agent's configuration names a directory that no administrator has let it speak for. It gets no orders for it, and nothing is taken from it.", "If that is meant, 'kambrel agent grant AGENT DIRECTORY'; otherwise take the directory out of the agent's configuration.", about.Agent},
	{AgentMessageMalformed, "The agent's answer cannot be read", "A line of the agent's stream is malformed or too long.", "Use the same version of Kambrel for agent and service.", about.Agent},
	{LoginSuffix, "Login suffix is not verified", "The login ends in a domain that the cloud has not verified, so the cloud would refuse it or change it.", "Repair the login with a survey ('kambrel survey run'), verify the domain in the cloud, or let a rule make the login.", about.Entry},
	{NothingVisible, "Nothing below the base can be seen any more", "The directory answered, and of all entries that it had it showed none. The account with which the agent signs in has probably lost the right to read below the base. Nobody is taken for gone.", "Give the account the right back ('kambrel directory rights NAME' prints what it needs); the next run goes on by itself. A directory that is really empty is taken away with 'kambrel directory remove NAME'.", about.Directory},
	{AttributeHidden, "An attribute cannot be read any more", "Entries of the directory had the attribute, and at the last read nobody had it. The account with which the agent signs in has probably lost the right to read it. What entries had of it stays as it was, and nothing follows from its absence.", "Give the account the right back ('kambrel directory rights NAME' prints what it needs); the next run goes on by itself. If the attribute was really taken from everybody, say so with 'kambrel directory absent NAME ATTRIBUTE'.", about.Directory},
	{CloudGroupName, "The group's name cannot be used in the directory", "The rules give the group a name that the directory does not take.", "Change the group's name in the cloud, or the rule that makes the name ('kambrel cloud-groups rules DIRECTORY').", about.CloudGroup},
	{CloudGroupNameTaken, "The group's name is taken in the directory", "Another entry of the directory has the name that the group would get. Neither is touched.", "Rename one of the two, or let the rule for the name make another ('kambrel cloud-groups rules DIRECTORY'). The next run goes on by itself.", about.CloudGroup},
	{CloudGroupClass, "The entry is a group of another class", "A directory cannot change the object class by which it keeps an entry, so what the settings ask for cannot be made of it.", "Set the class back in the settings, or delete the entry in the directory and let it be made again ('kambrel runs release N').", about.CloudGroup},
	{CloudGroupLost, "The group was deleted in the directory", "Somebody has deleted the entry of a group that the cloud owns. Made again it gets another identity, so that access lists that name it no longer fit.", "Restore the entry from the directory's deleted objects, and all fits again; or let it be made again ('kambrel runs release N'), or leave it out ('kambrel runs discard N').", about.CloudGroup},
	{CloudGroupRefused, "The directory refused a group of the cloud", "The directory answered a change of the group's entry with an error.", "Read the directory's answer in the detail. The next run tries again.", about.CloudGroup},
	{CloudMembersRefused, "The directory refused members of a group", "Some members could not be added or removed; the others were.", "Read the directory's answer to each in the detail. The next run tries again.", about.CloudGroup},
	{CloudGroupMark, "The directory does not have the attribute of the mark", "Groups of the cloud bear their id in an attribute that the directory's schema does not allow on them.", "Name another attribute in the settings of the directory's cloud groups (mark).", about.Directory},
	{CloudGroupContainer, "The container of the cloud groups is missing", "The container that the settings name is not in the directory: it was renamed, moved or deleted, or cannot be seen. No group is touched until it is there.", "Correct the container in the settings and activate them, or make it in the directory.", about.Directory},
	{GroupScopeRefuses, "A group's scope refuses members", "Groups that a directory lets be members of others depend on their scopes: a universal group cannot hold a domain-local one.", "Change the scope of one of the two groups, or take the member out of the group in the cloud. The other members are written.", about.CloudGroup},
	{RightMissing, "A right is missing in the directory", "The account with which the agent signs in may not do this on this entry.", "Hand the text of 'kambrel directory rights NAME' to the directory's owner, and probe again.", about.Entry},
	{ValueAltered, "The cloud made something else of a value", "The cloud accepted a change, but keeps another value than it was sent: it may shorten values, write them its own way, or leave them out.", "Make the rule give what the cloud keeps, for example with a formula, or take the rule away. The value is not sent again until the rule gives another; 'kambrel cloud show' lists what the cloud writes its own way, and 'kambrel cloud forget' sends it again.", about.Entry},
	{ValueChanged, "The value was changed meanwhile", "The directory no longer has the value that the repair was made from, so nothing was written.", "Survey again, and repair what is found then.", about.Entry},
	{DraftChanged, "The draft was changed meanwhile", "Somebody else has saved the draft since you read it; your edit would undo theirs.", "Read the draft again and make your edit on top of it.", ""},
	{DirectoryInUse, "The directory has links", "The settings would drop a directory whose people are linked to accounts in the cloud. Going on would suspend them all.", "Take the directory away with 'kambrel directory remove NAME', which shows what goes and can be undone.", ""},
	{Cancelled, "Cancelled", "It was ended before it was done, because it was asked to or the draft changed.", "Start it again.", ""},
	{PlainLDAP, "A directory is read without protection", "An agent reaches a directory by plain LDAP: the account's password and everything that is read can be seen on the network.", "Use ldaps:// or set startTLS in the agent's configuration, and take allowPlain out.", about.Agent},
	{ChangesMissed, "A directory did not tell all its changes", "The directory answered that it had told every change, and a comparison found some that it had not. Everything was read then, so nothing is missing now.", "Look at how the directory server tracks changes (its sync overlay or change log, and what was loaded past it). Until that is right, changes may come as late as the next comparison.", about.Directory},
	{SignInGuessed, "Somebody may be guessing passwords", "Many attempts to sign in to Kambrel were refused within an hour. They are slowed down for each name and address; whoever has signed in from an address before is not kept out by it.", "Ask those whose names were tried, and close the way of the addresses if nobody knows them. 'kambrel acts --kind sign-in --result refused' lists each attempt. It ends by itself an hour after the last.", about.Service},
	{EmergencyUsed, "An account for emergencies was used", "Somebody has signed in by an account that is for emergencies alone.", "Make sure that whoever did it is known and was right to, and give the account a new password afterwards ('kambrel operator password NAME'). It ends by itself after a day.", about.Service},
	{CertificateEnds, "A certificate ends soon", "The certificate by which the service, a directory or the cloud is known is valid for less than a month. After that nobody who checks it goes on: agents and browsers leave the service, and no run can read or write the other side.", "Renew it where it is kept: the service takes up new files of --tls-cert and --tls-key by itself; that of a directory or the cloud is its owner's. This ends by itself once the new one is met.", about.Service},
	{PasswordsClosed, "Passwords do not reach a directory", "Passwords, changes or unlocking are switched on for the directory, and the way from the cloud to it is not open. Who tries is told at once that it was not done.", "Look at each step of the way with 'kambrel passwords state'; it says what to do.", about.Directory},
	{Paused, "Paused by an operator", "An operator has stopped this, all or a part of it. Nothing is lost: what has changed meanwhile is taken up when it goes on.", "Let it go on with 'kambrel resume', or by the button beside the pause at the head of every page; a pause with a time ends by itself.", about.Service},
	{NoticesStuck, "Notices do not get through", "Mail or the webhook by which people are told is not taken by the other side, or the service knows no mail server.", "Start the service with --mail-server and --mail-from, and see what the other side says in the detail; 'kambrel notices test' tries it. What is due goes out once it is taken.", about.Service},
	{DigestsLate, "Digests of passwords are not up to date", "Passwords were set in the directory, and the cloud has no digest of them within the time that rounds take. Until then people sign in to the cloud with the old one.", "See what 'kambrel passwords state' says of the digests of the directory.", about.Directory},
	{EventRefused, "An event of the cloud was not taken", "The cloud's stream brought an event that is not signed by the cloud, meant for somebody else, or too old. Nothing was set. It may be a wrong clock or a wrong key, or somebody who tries to put an event into the stream.", "Compare the clocks of the cloud and Kambrel, and ask the cloud's administrator about what the detail says.", about.Cloud},
	{SignOnNotSent, "The cloud does not have how people sign in", "An operator has said how the people of a domain sign in, and the cloud does not take it. Until it does they sign in as before.", "See what 'kambrel domain show DOMAIN' says; it is tried again by itself. Where people must get in now, switch them in the cloud's own console.", about.Domain},
	{SignOnDrifted, "How people sign in was changed in the cloud", "Somebody has switched how the people of a domain sign in, or the identity provider, in the cloud and not here. Nothing was put back.", "Ask who did it. 'kambrel domain show DOMAIN' shows both; 'kambrel domain sign-in DOMAIN --by ...' says it anew.", about.Domain},
	{ProviderRefused, "An identity provider's new metadata is not taken", "Its metadata could not be fetched, or what came is not signed by the key that was compared, is of another entity, or has ended. The one of before stays; if the provider changes its certificate meanwhile, nobody signs in there any more.", "Look at 'kambrel domain show DOMAIN'. If the provider has a new key, compare its fingerprint with the provider's administrators and give it: 'kambrel domain provider set DOMAIN --url URL --fingerprint SHA256'.", about.Domain},
	{ProviderEnds, "An identity provider's certificate ends soon", "After that the cloud believes none of its assertions, so that nobody of the domain signs in.", "Ask the provider's administrators when they change it. Metadata that is signed and fetched from a URL brings the new one by itself; otherwise give it with 'kambrel domain provider set'. In need: 'kambrel domain sign-in DOMAIN --by password'.", about.Domain},
	{NoWayBack, "Nobody could sign in without the identity provider", "Every active account in the cloud with an administrative role is of a domain whose people sign in at an identity provider. If that does not answer, nobody can get into the cloud to switch them back there. Kambrel's own way back works all the same.", "Make an account in the cloud with an administrative role and a login in a domain that stays with passwords, and keep its password in a safe place.", about.Domain},
	{ExpectationBroken, "What the settings expect does not hold", "A change in a directory or in the cloud has made untrue what the active settings expect of somebody. Nothing was stopped by it: runs go on as the settings say.", "See which with 'kambrel expectation list --active', or on the page of the settings. Where the change was meant, expect what is so now instead; where not, put it right where it was made. It ends by itself.", about.Settings},
	{AgentNotUpdated, "An agent did not go on by its new version", "It tried the program that it was to go on by, and went back to the one before, which works on. No other agent gets that version until somebody has looked.", "Look into the log of the agent on its host. Then have it tried again with 'kambrel agent update AGENT --to VERSION', or leave it at the one before with 'kambrel agent update AGENT --cancel'.", about.Agent},
	{AgentAtFault, "An agent fails where another does not", "The agent cannot reach the directory, or its answers cannot be read, while another agent serves the same directory. It gets no more orders for that directory until a probe finds it well; if the other one fails too, nothing is read any more.", "Correct the agent's configuration or its version, and look with 'kambrel directory probe NAME --agent AGENT'. It is also probed by itself.", about.Agent},
}

// Catalogue lists every kind, in the order of the documentation.
func Catalogue() []Kind { return slices.Clone(catalogue) }

// Describe returns the catalogue's line for a code.
func Describe(code Code) Kind {
	for _, kind := range catalogue {
		if kind.Code == code {
			return kind
		}
	}
	return Kind{Code: code, Title: string(code)}
}

// Known tells whether the catalogue has a code.
func Known(code Code) bool {
	return slices.ContainsFunc(catalogue, func(k Kind) bool { return k.Code == code })
}
