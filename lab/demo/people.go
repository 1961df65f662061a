// Package demo is the scenario of Halvard Ferries as data, and the command that
// brings it to life: real servers from the lab, the people loaded, a service
// and an agent started, the first run done.
package demo

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"strings"
)

// Person is one account of the scenario's directory.
type Person struct {
	Given, Family string
	Container     string // path of names from the base, as in "Fleet/Deck"
	Title         string
	Login         string // with domain
	Account       string // short name
	Number        string // employee number, "" for programs
	Phone         string
	Disabled      bool
	NoDisplayName bool
	Others        []string // further addresses
	Mail          string   // "" for the login
	Manager       string   // account of the manager
}

// Name is the common name.
func (p Person) Name() string { return strings.TrimSpace(p.Given + " " + p.Family) }

// Containers of the scenario, parents first.
var Containers = []string{
	"Fleet", "Fleet/Deck", "Fleet/Engine", "Fleet/Galley",
	"Terminals", "Terminals/Northquay", "Terminals/Southquay",
	"Shore Office", "Shore Office/Finance", "Shore Office/Crewing", "Shore Office/IT",
	"Partners", "Teams", "Service Accounts", "Leavers", cloudGroups,
}

// Domain is the login suffix of Halvard's people.
const Domain = "halvard.example"

// Claimed is the domain of logins that nobody has proved to the cloud to have.
const Claimed = "corp." + Domain

// Domains are what the cloud has verified.
var Domains = []string{Domain, "halvard-cargo.example", "brisling.example"}

var (
	givenNames = strings.Fields(`Aksel Alva Amund Anja Arild Astri Birk Brage Camilla Dagny Eira Elling Embla Even Frida Gard Gunvor Halldis
		Iben Idun Jarle Jorunn Kaia Kasper Ketil Leikny Liv Lorens Magni Malin Mathis Nanna Njord Odin Oda Oline Peder Ragna Reidar Runa
		Sander Signe Sigrid Solveig Sondre Sunniva Svein Synne Tarjei Tiril Torfinn Tuva Ulrik Vetle Vilja Viljar Ylva Yngve Aaste Brynjar`)
	familyNames = strings.Fields(`Aasen Bakkevig Berntsvik Bjerknes Brandvoll Dalset Egeland Fagerlid Fjellheim Gaustad Grindheim Haavik
		Hestnes Hovland Isdal Jensrud Kaldestad Kvamme Langnes Leirvik Lunde Melbye Myrvang Nesheim Nordvik Opsahl Rambech Rosvold Rygh
		Sandvoll Skarnes Solberget Storvik Strand Sundet Tangvald Tveitan Ulvestad Vestby Vikanes Ytterland`)
)

// places says how many people without a story work where, and as what.
var places = []struct {
	container string
	count     int
	titles    []string
}{
	{"Fleet/Deck", 59, []string{"Master", "Chief Officer", "Mate", "Bosun", "Able Seafarer"}},
	{"Fleet/Engine", 44, []string{"Chief Engineer", "Second Engineer", "Motor Hand", "Electrician"}},
	{"Fleet/Galley", 25, []string{"Head Cook", "Cook", "Steward"}},
	{"Terminals/Northquay", 37, []string{"Terminal Manager", "Ticket Agent", "Line Handler", "Ramp Officer"}},
	{"Terminals/Southquay", 33, []string{"Terminal Manager", "Ticket Agent", "Line Handler", "Ramp Officer"}},
	{"Shore Office/Finance", 9, []string{"Controller", "Bookkeeper", "Payroll Officer"}},
	{"Shore Office/Crewing", 10, []string{"Crewing Manager", "Crew Planner"}},
	{"Shore Office/IT", 7, []string{"Systems Engineer", "Service Desk Agent"}},
	{"Leavers", 6, []string{"Mate", "Cook", "Ticket Agent"}},
}

// stories are the people that pages have something to tell about.
var stories = []Person{
	{Given: "Ada", Family: "Brekke", Container: "Fleet/Deck", Title: "Chief Officer"},           // becomes Ada Lind
	{Given: "Jon", Family: "Sletta", Container: "Terminals/Northquay", Title: "Ramp Officer"},   // made in the cloud by hand before
	{Given: "Pia", Family: "Holmen", Container: "Shore Office/Finance", Title: "Bookkeeper"},    // leaves
	{Given: "Otto", Family: "Reksten", Container: "Terminals/Northquay", Title: "Line Handler"}, // also with Brisling
	{Given: "Runar", Family: "Askeland", Container: "Fleet/Deck", Title: "Mate", Others: []string{"bridge@halvard.example"}},
	{Given: "Siv", Family: "Tollaksen", Container: "Fleet/Engine", Title: "Motor Hand", Others: []string{"bridge@halvard.example"}},
	{Given: "Bodil", Family: "Hamre", Container: "Shore Office/Crewing", Title: "Crew Planner", NoDisplayName: true},
	{Given: "Mira", Family: "Tangen", Container: "Shore Office/Finance", Title: "Payroll Officer", Login: "mt@halvard.example", Mail: "mira.tangen@halvard.example"}, // the cloud has her under her address
	{Given: "Torleif", Family: "Sund", Container: "Terminals/Southquay", Title: "Harbour Master", Login: "harbourmaster@halvard.example"},                            // his login administers the cloud
	{Given: "Ingrid", Family: "Vaagen", Container: "Shore Office/IT", Title: "Identity Administrator"},
}

// Halvard is the people of the directory, the same at every call.
func Halvard() []Person {
	random := rand.New(rand.NewPCG(1907, 5))
	used := map[string]bool{}
	people := make([]Person, 0, 250)
	number := 1000
	add := func(p Person) {
		number++
		p.Account = strings.ToLower(p.Given + "." + p.Family)
		p.Login = cmp.Or(p.Login, p.Account+"@"+Domain)
		p.Number = fmt.Sprint(number)
		p.Phone = fmt.Sprintf("+47 55 01 %02d %02d", number/100%100, number%100)
		p.Disabled = p.Container == "Leavers"
		used[p.Account] = true
		people = append(people, p)
	}
	for _, p := range stories {
		add(p)
	}
	for _, place := range places {
		manager := ""
		for i := range place.count {
			var p Person
			for p.Given == "" || used[strings.ToLower(p.Given+"."+p.Family)] {
				p = Person{Given: givenNames[random.IntN(len(givenNames))], Family: familyNames[random.IntN(len(familyNames))]}
			}
			p.Container, p.Title = place.container, place.titles[min(i, len(place.titles)-1)]
			if i >= len(place.titles) {
				p.Title = place.titles[1+random.IntN(len(place.titles)-1)]
			}
			if i > 0 {
				p.Manager = manager
			}
			add(p)
			if i == 0 {
				manager = people[len(people)-1].Account
			}
		}
	}
	late := 0
	for i := range people {
		// Twelve people whose logins were never changed when the company took its
		// new domain.
		if people[i].Container == "Terminals/Southquay" && people[i].Title != "Harbour Master" && late < 12 {
			late++
			people[i].Login = people[i].Account + "@corp." + Domain
		}
	}
	for _, account := range []string{"svc-backup", "svc-print", "svc-timetable"} {
		people = append(people, Person{Family: account, Container: "Service Accounts", Account: account, Login: account + "@corp.halvard.example", Title: "Program"})
	}
	return people
}

// Brisling is the people of the company that was bought: Brisling Cargo.
func Brisling() []Person {
	random := rand.New(rand.NewPCG(1931, 8))
	used := map[string]bool{}
	for _, p := range Halvard() {
		used[p.Account] = true
	}
	var people []Person
	for _, place := range []struct {
		container string
		count     int
		titles    []string
	}{
		{"Quays", 28, []string{"Quay Manager", "Crane Operator", "Stevedore"}},
		{"Trucking", 20, []string{"Dispatcher", "Driver"}},
		{"Office", 12, []string{"Controller", "Freight Clerk"}},
	} {
		manager := ""
		for i := range place.count {
			p := Person{}
			for p.Account == "" || used[p.Account] {
				p.Given, p.Family = givenNames[random.IntN(len(givenNames))], familyNames[random.IntN(len(familyNames))]
				p.Account = strings.ToLower(p.Given + "." + p.Family)
			}
			used[p.Account] = true
			p.Container, p.Title = place.container, place.titles[min(i, len(place.titles)-1)]
			p.Login, p.Number = p.Account+"@brisling.example", fmt.Sprint(7000+len(people)+1)
			p.Phone = fmt.Sprintf("+47 55 02 %02d %02d", len(people)/100, len(people)%100)
			if i == 0 {
				manager = p.Account
			} else {
				p.Manager = manager
			}
			people = append(people, p)
		}
	}
	// Otto Reksten works for both, under one employee number.
	for _, p := range Halvard() {
		if p.Account == "otto.reksten" {
			p.Container, p.Title, p.Login, p.Mail = "Quays", "Crane Operator", p.Account+"@brisling.example", ""
			people = append(people, p)
		}
	}
	return people
}

// Group is a group of a directory with its members' accounts and groups.
type Group struct {
	Name    string
	Type    string // groupType of the dialect ad
	Mail    string
	Members []string // accounts
	Groups  []string // names of groups within it
}

// The values of groupType ([MS-ADTS] section 2.2.12).
const (
	globalSecurity      = "-2147483646"
	domainLocalSecurity = "-2147483644"
	universalSecurity   = "-2147483640"
	universalMail       = "8"
)

// HalvardGroups are 30 groups over Halvard's people.
func HalvardGroups() []Group {
	people := Halvard()
	by := func(choose func(Person) bool) []string {
		var accounts []string
		for _, p := range people {
			if p.Number != "" && choose(p) {
				accounts = append(accounts, p.Account)
			}
		}
		return accounts
	}
	var groups []Group
	for _, place := range places {
		if place.container == "Leavers" {
			continue
		}
		name := place.container[strings.LastIndexByte(place.container, '/')+1:]
		groups = append(groups, Group{Name: name + " Staff", Type: globalSecurity, Members: by(func(p Person) bool { return p.Container == place.container })})
	}
	titles := map[string]bool{}
	for _, place := range places {
		for _, title := range place.titles {
			if titles[title] || len(groups) == 24 {
				continue
			}
			titles[title] = true
			groups = append(groups, Group{Name: title + "s", Type: globalSecurity, Members: by(func(p Person) bool { return p.Title == title && !p.Disabled })})
		}
	}
	return append(groups,
		Group{Name: "Fleet", Type: universalSecurity, Groups: []string{"Deck Staff", "Engine Staff", "Galley Staff"}},
		Group{Name: "Quay Locks", Type: domainLocalSecurity, Members: by(func(p Person) bool { return p.Title == "Terminal Manager" })},
		Group{Name: "Terminals", Type: universalSecurity, Groups: []string{"Northquay Staff", "Southquay Staff", "Quay Locks"}},
		Group{Name: "Shore", Type: universalSecurity, Groups: []string{"Finance Staff", "Crewing Staff", "IT Staff"}},
		Group{Name: "Pilot", Type: universalSecurity, Members: by(func(p Person) bool { return strings.HasSuffix(p.Container, "/IT") }), Groups: []string{"Crewing Staff"}},
		Group{Name: "Timetable News", Type: universalMail, Members: by(func(p Person) bool { return strings.HasPrefix(p.Container, "Terminals/") })},
	)
}

// BrislingGroups are 8 groups over Brisling's people.
func BrislingGroups() []Group {
	members := map[string][]string{}
	var names []string
	for _, p := range Brisling() {
		for _, name := range []string{p.Container, p.Title + "s"} {
			if members[name] == nil && len(names) < 7 {
				names = append(names, name)
			}
			members[name] = append(members[name], p.Account)
		}
	}
	var groups []Group
	for _, name := range names {
		groups = append(groups, Group{Name: name, Members: members[name]})
	}
	return append(groups, Group{Name: "Brisling", Groups: []string{names[0]}})
}

// Contact is somebody outside who is listed.
type Contact struct {
	Name, DisplayName, Mail string
	Hidden                  bool
}

// Contacts are Halvard's partners.
func Contacts() []Contact {
	contacts := []Contact{
		{Name: "Pilot Station North", DisplayName: "zz Pilot Station North", Mail: "north@pilots.example", Hidden: true},
		{Name: "Harbour Master Duty Desk", DisplayName: "Harbour Master Duty Desk"},
	}
	for _, name := range strings.Fields("Northquay Southquay Skerry Lighthouse Breakwater Slipway Drydock Bunker Tugboat Weather Customs Ropeworks Sailmaker") {
		contacts = append(contacts, Contact{Name: name + " Services", DisplayName: name + " Services", Mail: strings.ToLower(name) + "@partners.example"})
	}
	return contacts
}

// BrislingContainers are the containers of Brisling, parents first.
var BrislingContainers = []string{"Quays", "Trucking", "Office", "Teams", cloudGroups}

// dn is where a person lies below a base.
func (p Person) dn(base string) string {
	return "CN=" + p.Name() + "," + containerDN(p.Container, base)
}

func containerDN(path, base string) string {
	dn := base
	for _, name := range strings.Split(path, "/") {
		dn = "OU=" + name + "," + dn
	}
	return dn
}
