// Package demo is the scenario of Halvard Ferries as data, and the command that
// brings it to life: real servers from the lab, the people loaded, a service
// and an agent started, the first run done.
package demo

import (
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
}

// Name is the common name.
func (p Person) Name() string { return strings.TrimSpace(p.Given + " " + p.Family) }

// Containers of the scenario, parents first.
var Containers = []string{
	"Fleet", "Fleet/Deck", "Fleet/Engine", "Fleet/Galley",
	"Terminals", "Terminals/Northquay", "Terminals/Southquay",
	"Shore Office", "Shore Office/Finance", "Shore Office/Crewing", "Shore Office/IT",
	"Partners", "Teams", "Service Accounts", "Leavers",
}

// Domain is the login suffix of Halvard's people.
const Domain = "halvard.example"

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
	{"Fleet/Deck", 60, []string{"Master", "Chief Officer", "Mate", "Bosun", "Able Seafarer"}},
	{"Fleet/Engine", 45, []string{"Chief Engineer", "Second Engineer", "Motor Hand", "Electrician"}},
	{"Fleet/Galley", 25, []string{"Head Cook", "Cook", "Steward"}},
	{"Terminals/Northquay", 37, []string{"Terminal Manager", "Ticket Agent", "Line Handler", "Ramp Officer"}},
	{"Terminals/Southquay", 33, []string{"Terminal Manager", "Ticket Agent", "Line Handler", "Ramp Officer"}},
	{"Shore Office/Finance", 9, []string{"Controller", "Bookkeeper", "Payroll Officer"}},
	{"Shore Office/Crewing", 11, []string{"Crewing Manager", "Crew Planner"}},
	{"Shore Office/IT", 7, []string{"Systems Engineer", "Service Desk Agent"}},
	{"Leavers", 6, []string{"Mate", "Cook", "Ticket Agent"}},
}

// stories are the people that pages have something to tell about.
var stories = []Person{
	{Given: "Ada", Family: "Brekke", Container: "Fleet/Deck", Title: "Chief Officer"},           // becomes Ada Lind
	{Given: "Jon", Family: "Sletta", Container: "Terminals/Northquay", Title: "Ramp Officer"},   // made in the cloud by hand before
	{Given: "Pia", Family: "Holmen", Container: "Shore Office/Finance", Title: "Bookkeeper"},    // leaves
	{Given: "Otto", Family: "Reksten", Container: "Terminals/Northquay", Title: "Line Handler"}, // also with Brisling
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
		p.Login = p.Account + "@" + Domain
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
		for i := range place.count {
			var p Person
			for p.Given == "" || used[strings.ToLower(p.Given+"."+p.Family)] {
				p = Person{Given: givenNames[random.IntN(len(givenNames))], Family: familyNames[random.IntN(len(familyNames))]}
			}
			p.Container, p.Title = place.container, place.titles[min(i, len(place.titles)-1)]
			if i >= len(place.titles) {
				p.Title = place.titles[1+random.IntN(len(place.titles)-1)]
			}
			add(p)
		}
	}
	for _, account := range []string{"svc-backup", "svc-print", "svc-timetable"} {
		people = append(people, Person{Family: account, Container: "Service Accounts", Account: account, Login: account + "@corp.halvard.example", Title: "Program"})
	}
	return people
}

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
