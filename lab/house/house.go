// Package house holds the policy of what each room of the project may know, reads
// the real imports, and draws them. A room is a package; what lies beneath one
// that has no row of its own belongs to it.
package house

import (
	"encoding/json"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io"
	"io/fs"
	"maps"
	"os/exec"
	"path/filepath"
	"slices"
	"sort"
	"strings"
)

// Module is the project's module path.
const Module = "kambrel.example/kambrel/"

// Policy has a row for every room: which rooms it may import. A name that ends in
// / stands for all rooms beneath it. Do not loosen it to make a test pass: move the
// code.
const Policy = `
cmd/kambrel         cli
cmd/kambrel-agent   cli/onhost
packaging/manual    cli core/version
cmd/kambrel-lab     lab/demo lab/standin lab/mailsink

core/address
core/version
core/fingerprint
core/textkey
core/entry
core/about          core/entry
core/problem        core/about core/entry
core/act            core/about
core/remedy         core/about core/act core/problem core/entry
core/reason
core/sheet
core/secret
core/password
core/purpose
core/progress       core/problem
core/logkey
core/filter         core/entry core/reason
core/scimfilter     core/reason
core/cloudgroups    core/change core/entry core/plan core/problem core/reason core/rules core/scimfilter core/settings
core/formula        core/entry core/reason
core/pause          core/about core/problem
core/budget
core/rest
core/compare        core/change
core/settings       core/entry core/filter core/formula core/password core/problem core/scimfilter
core/scope          core/entry core/filter core/reason core/settings
core/person         core/entry core/formula core/problem core/settings
core/match          core/entry core/problem core/reason core/settings
core/rules          core/entry core/formula core/problem core/reason core/settings
core/plan           core/change core/entry core/match core/problem core/reason core/rules core/scope core/settings
core/change         core/entry core/problem core/reason core/rules
core/signin         core/address core/entry core/problem core/rules core/settings
core/survey         core/entry core/person core/problem core/rules
core/decide         core/change core/cloudgroups core/entry core/match core/person core/plan core/problem core/reason core/rules core/scope core/settings core/survey
core/expect         core/decide core/entry core/match core/person core/plan core/rules core/settings
core/undo           core/change core/decide core/entry core/plan core/rules core/settings
core/rights         core/entry core/settings core/survey
core/checkup        core/plan core/settings

protocol/scim
protocol/release    core/fingerprint
protocol/federation
protocol/saml       core/signin
protocol/orders     core/entry core/password
protocol/events     core/password
protocol/wire       core/ protocol/orders

directory           core/entry core/password core/problem core/secret
cloud               core/address core/change core/entry core/problem core/rest core/rules core/secret core/settings protocol/events protocol/federation protocol/scim
agent               core/address core/entry core/fingerprint core/logkey core/password core/problem core/rest core/secret directory protocol/events protocol/orders protocol/release protocol/wire
client              core/address core/signin core/problem core/reason core/rest core/settings protocol/wire protocol/orders
console
cli/terminal
cli/onhost          agent core/ cli/terminal
cli                 agent cli/onhost cli/terminal client cloud console core/ directory protocol/wire service service/api service/operators service/runs service/store protocol/orders protocol/release service/audit service/backup service/certificates service/notices service/seal service/setup

service/store       core/ protocol/federation protocol/orders
service/certificates core/
service/seal        core/
service/backup      core/ service/store
service/events      service/store
service/views       core/ protocol/wire service/store
service/orders      core/ service/events service/store protocol/orders
service/judging     cloud core/ service/store
service/problems    core/ protocol/wire service/judging service/store
service/agents      core/ protocol/release protocol/wire service/store service/views
service/audit       core/ service/store service/views
service/jobs        core/ service/events service/store
service/pacing      cloud core/ service/store
service/setup       cloud core/ protocol/federation protocol/wire service/judging service/orders service/seal service/store service/views protocol/orders
service/explain     cloud core/ protocol/wire service/jobs service/judging service/orders service/problems service/setup service/store service/views protocol/orders
service/acts        core/ protocol/wire service/explain service/jobs service/judging service/setup service/store service/views
service/survey      core/ protocol/wire service/judging service/orders service/setup service/store service/views protocol/orders
service/passwords   cloud core/ protocol/events protocol/orders protocol/wire service/events service/explain service/orders service/setup service/store service/views
service/provider    core/ protocol/saml service/operators service/seal service/store
service/signin      cloud core/ protocol/federation protocol/orders protocol/saml protocol/wire service/events service/explain service/provider service/setup service/store
service/cloudgroups core/ protocol/wire service/jobs service/judging service/problems service/store
service/health      cloud core/ protocol/wire service/certificates service/jobs service/pacing service/passwords service/problems service/setup service/signin service/store service/views
service/notices     core/ protocol/wire service/store
service/runs        cloud core/ service/events service/judging service/orders service/pacing service/setup service/store protocol/orders
service/operators   core/ protocol/events protocol/orders protocol/wire service/orders service/store
service/watching    cloud core/ service/jobs service/store
service/checkup     cloud core/ protocol/orders protocol/wire service/health service/operators service/setup service/store
service             cloud core/ service/acts service/agents service/audit service/certificates service/checkup service/cloudgroups service/events service/explain service/health service/jobs service/judging service/notices service/operators service/orders service/pacing service/passwords service/problems service/provider service/runs service/setup service/signin service/store service/survey service/watching
service/api         core/ protocol/wire service service/certificates service/health service/operators service/provider service/setup service/store service/views protocol/orders

lab/standin         core/fingerprint core/password core/scimfilter protocol/events protocol/federation protocol/scim
lab/mailsink
lab/othercloud
lab/servers         service/certificates
lab/browser
lab/house
lab/demo            agent cli client core/ lab/servers protocol/wire
lab/bench           agent client core/ lab/browser lab/servers protocol/wire
lab/e2e
lab/screenshots     lab/browser lab/demo lab/servers
`

// Never are packages that a room must not have, not even through others.
var Never = map[string][]string{
	"core/":       {"net/http", "database/sql", "log/slog", "os/exec", "github.com/go-ldap/ldap/v3"},
	"directory":   {Module + "core/settings", Module + "service/", Module + "cloud"},
	"cloud":       {Module + "directory", Module + "service/", Module + "agent"},
	"agent":       {Module + "cloud", Module + "service/"},
	"cmd/kambrel": {Module + "lab/"},
}

// Directly are packages that a room must not import itself.
var Directly = map[string][]string{
	"core/":         {"os", "net", "math/rand", "math/rand/v2"},
	"service/store": {"net/http"},
	"service/api":   {"database/sql"},
}

// Imports are the packages that each room imports, and through others.
type Imports struct {
	Direct map[string][]string // by room, sorted: import paths
	All    map[string][]string
	Files  int
}

// Load reads the imports of all packages of the project but their tests and what
// only tests use: a package named like httptest belongs to them.
func Load(root string) (Imports, error) {
	command := exec.Command("go", "list", "-json=ImportPath,Imports,Deps,GoFiles", "./...")
	command.Dir = root
	out, err := command.Output()
	if err != nil {
		return Imports{}, fmt.Errorf("list the packages: %w", err)
	}
	found := Imports{Direct: map[string][]string{}, All: map[string][]string{}}
	decoder := json.NewDecoder(strings.NewReader(string(out)))
	for {
		var one struct {
			ImportPath             string
			Imports, Deps, GoFiles []string
		}
		if err := decoder.Decode(&one); err == io.EOF {
			return found, nil
		} else if err != nil {
			return found, err
		}
		if room := Room(strings.TrimPrefix(one.ImportPath, Module)); len(one.GoFiles) > 0 && !ofTests(one.ImportPath) {
			found.Direct[room] = unite(found.Direct[room], one.Imports)
			found.All[room] = unite(found.All[room], one.Deps)
			found.Files += len(one.GoFiles)
		}
	}
}

func ofTests(path string) bool { return strings.HasSuffix(path, "test") }

func unite(a, b []string) []string {
	all := slices.Concat(a, b)
	slices.Sort(all)
	return slices.Compact(all)
}

// Rows is the policy by room.
func Rows() map[string][]string {
	rows := map[string][]string{}
	for line := range strings.Lines(Policy) {
		if fields := strings.Fields(line); len(fields) > 0 {
			rows[fields[0]] = fields[1:]
		}
	}
	return rows
}

// Room is that of a package, "" when there is none.
func Room(path string) string {
	rows := Rows()
	for at := path; at != ""; at = at[:max(0, strings.LastIndexByte(at, '/'))] {
		if _, ok := rows[at]; ok {
			return at
		}
	}
	return ""
}

// Check lists every edge that the policy forbids, every room without a row, and
// every name in a row that nothing needs.
func Check(found Imports) []string {
	var faults []string
	fault := func(format string, facts ...any) { faults = append(faults, fmt.Sprintf(format, facts...)) }
	rows := Rows()
	for room, imports := range found.Direct {
		if room == "" {
			fault("packages without a row in the policy import %v", imports)
			continue
		}
		for _, path := range imports {
			ours, isOurs := strings.CutPrefix(path, Module)
			if isOurs && ofTests(path) {
				fault("%s imports %s, which is for tests", room, ours)
			} else if to := Room(ours); isOurs && to != room && !allows(rows[room], to) {
				fault("%s imports %s, which its row in the policy does not name", room, to)
			}
			for _, no := range of(Directly, room) {
				if path == no {
					fault("%s imports %s", room, no)
				}
			}
		}
		for _, path := range found.All[room] {
			for _, no := range of(Never, room) {
				if path == no || strings.HasSuffix(no, "/") && strings.HasPrefix(path, no) {
					fault("%s has %s, directly or through others", room, path)
				}
			}
		}
		for _, name := range rows[room] {
			if !slices.ContainsFunc(imports, func(path string) bool {
				ours, isOurs := strings.CutPrefix(path, Module)
				return isOurs && allows([]string{name}, Room(ours))
			}) {
				fault("the row of %s names %s, which it does not import", room, name)
			}
		}
	}
	for room := range rows {
		if _, there := found.Direct[room]; !there && room != "lab/othercloud" && room != "lab/e2e" {
			fault("the policy has a row for %s, which there is not", room)
		}
	}
	sort.Strings(faults)
	return slices.Compact(faults)
}

func of(rules map[string][]string, room string) []string {
	var out []string
	for name, list := range rules {
		if name == room || strings.HasSuffix(name, "/") && strings.HasPrefix(room, name) {
			out = append(out, list...)
		}
	}
	return out
}

func allows(row []string, to string) bool {
	return slices.ContainsFunc(row, func(name string) bool {
		return name == to || strings.HasSuffix(name, "/") && strings.HasPrefix(to, name)
	})
}

// Draw writes the rooms and what they import as a Mermaid flow chart, from the real
// imports: the rooms of one folder together, and of each room only what it does not
// reach through another one that it imports.
func Draw(found Imports) string {
	direct := map[string][]string{}
	for room, imports := range found.Direct {
		for _, path := range imports {
			if ours, isOurs := strings.CutPrefix(path, Module); isOurs {
				if to := Room(ours); to != room && drawn(to) && !slices.Contains(direct[room], to) {
					direct[room] = append(direct[room], to)
				}
			}
		}
	}
	var b strings.Builder
	b.WriteString("flowchart TD\n")
	folders := map[string][]string{}
	var rooms []string
	for room := range found.Direct {
		if drawn(room) {
			rooms = append(rooms, room)
		}
	}
	slices.Sort(rooms)
	for _, room := range rooms {
		folder, _, _ := strings.Cut(room, "/")
		folders[folder] = append(folders[folder], room)
	}
	for _, folder := range slices.Sorted(maps.Keys(folders)) {
		list := folders[folder]
		if len(list) == 1 && list[0] == folder {
			fmt.Fprintf(&b, "  %s[%s]\n", id(folder), folder)
			continue
		}
		fmt.Fprintf(&b, "  subgraph %s_[%s]\n", id(folder), folder)
		for _, room := range list {
			fmt.Fprintf(&b, "    %s[%s]\n", id(room), strings.TrimPrefix(room, folder+"/"))
		}
		b.WriteString("  end\n")
	}
	for _, room := range rooms {
		slices.Sort(direct[room])
		for _, to := range direct[room] {
			if !through(direct, room, to) {
				fmt.Fprintf(&b, "  %s --> %s\n", id(room), id(to))
			}
		}
	}
	return b.String()
}

// drawn leaves out what is not the product.
func drawn(room string) bool {
	return room != "" && !strings.HasPrefix(room, "lab/") && room != "cmd/kambrel-lab"
}

// through tells whether a room reaches another by one that it imports.
func through(direct map[string][]string, from, to string) bool {
	seen := map[string]bool{}
	var reaches func(string) bool
	reaches = func(at string) bool {
		if seen[at] {
			return false
		}
		seen[at] = true
		return slices.ContainsFunc(direct[at], func(next string) bool { return next == to || reaches(next) })
	}
	return slices.ContainsFunc(direct[from], func(next string) bool { return next != to && reaches(next) })
}

func id(room string) string { return strings.NewReplacer("/", "_", "-", "_").Replace(room) }

// LooseKeys lists calls of slog whose keys are written in place, instead of named
// in core/logkey, in all files beneath root but tests.
func LooseKeys(root string) ([]string, error) {
	var loose []string
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == "var"):
			return fs.SkipDir
		case d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go"):
			return nil
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, path, nil, 0)
		if err != nil {
			return err
		}
		ast.Inspect(file, func(n ast.Node) bool {
			if call, ok := n.(*ast.CallExpr); ok && logs(call) {
				for i := 1; i < len(call.Args); i += 2 {
					if _, literal := call.Args[i].(*ast.BasicLit); literal {
						loose = append(loose, set.Position(call.Pos()).String())
					}
				}
			}
			return true
		})
		return nil
	})
	return loose, err
}

// logs tells a call of slog that takes a message, then keys and values.
func logs(call *ast.CallExpr) bool {
	selector, ok := call.Fun.(*ast.SelectorExpr)
	if !ok {
		return false
	}
	of, ok := selector.X.(*ast.Ident)
	return ok && of.Name == "slog" && slices.Contains([]string{"Debug", "Info", "Warn", "Error"}, selector.Sel.Name)
}
