// Command screenshots takes the pictures in docs/screenshots: the pages of the
// console, and the output of commands, on a demo of its own in which the first
// stories of the scenario have happened.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html"
	"net/url"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"
	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/lab/browser"
	"kambrel.example/kambrel/lab/demo"
	"kambrel.example/kambrel/lab/servers"
)

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx); err != nil {
		fmt.Fprintln(os.Stderr, "screenshots:", err)
		os.Exit(1)
	}
}

// studio is a running demo and a browser to look at it.
type studio struct {
	kambrel   string // the program
	dir, out  string
	process   *exec.Cmd
	endpoints demo.Endpoints
	page      context.Context
}

func run(ctx context.Context) (err error) {
	out, err := filepath.Abs(filepath.Join("docs", "screenshots"))
	if err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	// Beneath the checkout, where commands find a demo that runs.
	if err := os.MkdirAll("var", 0o755); err != nil {
		return err
	}
	dir, err := os.MkdirTemp("var", "studio-")
	if err != nil {
		return err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	s := &studio{dir: dir, out: out}
	defer func() {
		if s.process != nil {
			_ = s.process.Process.Signal(syscall.SIGINT)
			_ = s.process.Wait()
		}
		err = errors.Join(err, servers.Remove(filepath.Join(dir, "state")), os.RemoveAll(dir))
	}()
	if err := s.startDemo(ctx); err != nil {
		return err
	}
	if err := s.tellStories(); err != nil {
		return err
	}
	page, stop, err := browser.New(ctx)
	if err != nil {
		return err
	}
	defer stop()
	s.page = page
	return s.takeAll()
}

func (s *studio) startDemo(ctx context.Context) error {
	bin, err := filepath.Abs("bin")
	if err != nil {
		return err
	}
	s.kambrel = filepath.Join(bin, "kambrel")
	s.process = exec.Command(filepath.Join(bin, "kambrel-lab"), "demo", "--dir", filepath.Join(s.dir, "state"), "--ports-from", "17600", "--by-hand")
	s.process.Dir, s.process.Stderr = s.dir, os.Stderr
	if err := s.process.Start(); err != nil {
		return err
	}
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for {
		text, err := os.ReadFile(filepath.Join(s.dir, "state", "endpoints.json"))
		if err == nil {
			return json.Unmarshal(text, &s.endpoints)
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-tick.C:
		}
	}
}

// tellStories lets happen what the pages then show.
func (s *studio) tellStories() error {
	d := s.endpoints.Directories[0]
	conn, err := s.dial()
	if err != nil {
		return err
	}
	defer conn.Close()
	ada := "CN=Ada Lind,OU=Deck,OU=Fleet," + d.BaseDN
	if err := conn.ModifyDN(ldap.NewModifyDNRequest("CN=Ada Brekke,OU=Deck,OU=Fleet,"+d.BaseDN, "CN=Ada Lind", true, "")); err != nil {
		return err
	}
	change := ldap.NewModifyRequest(ada, nil)
	for attribute, value := range map[string]string{"sn": "Lind", "displayName": "Ada Lind", "mail": "ada.lind@halvard.example"} {
		change.Replace(attribute, []string{value})
	}
	if d.Dialect == "ad" {
		change.Replace("userPrincipalName", []string{"ada.lind@halvard.example"})
	}
	if err := conn.Modify(change); err != nil {
		return err
	}
	drift := ldap.NewModifyRequest("CN="+demo.Committee+",OU=Cloud Groups,"+d.BaseDN, nil)
	drift.Add("member", []string{"CN=Pia Holmen,OU=Finance,OU=Shore Office," + d.BaseDN})
	if err := conn.Modify(drift); err != nil {
		return err
	}
	otto := "CN=Otto Reksten,OU=Northquay,OU=Terminals," + d.BaseDN
	return conn.ModifyDN(ldap.NewModifyDNRequest(otto, "CN=Otto Reksten", true, "OU=Leavers,"+d.BaseDN))
}

// press clicks the button with a text, once it is there.
func press(text string) chromedp.Action {
	find := fmt.Sprintf(`[...document.querySelectorAll("button")].find(b => b.textContent.trim() === %q)`, text)
	return chromedp.Tasks{browser.Until(`Boolean(`+find+`)`, 20*time.Second), chromedp.Evaluate(find+`.click()`, nil)}
}

const entryToTry = `[aria-label="Entry to try the formula on"]`

func (s *studio) takeAll() error {
	console := strings.TrimSuffix(s.endpoints.Console, "/")
	if err := s.terminal("", "sync"); err != nil {
		return err
	}
	if err := s.selfService(); err != nil {
		return err
	}
	for _, command := range []struct {
		name string
		args []string
	}{
		{"why", []string{"why", "svc-backup"}},
		{"", []string{"directory", "probe", "halvard"}},
		{"", []string{"domain", "provider", "own", "halvard.example"}},
		{"", []string{"survey", "run"}},
		{"", []string{"directory", "probe", "brisling"}},
		{"", []string{"expectation", "add", "ada.lind@halvard.example", "--value", "userName", "--note", "her login is on the ship's papers"}},
		{"", []string{"expectation", "add", "anja.ytterland@halvard.example", "--note", "she opens the gates at Northquay"}},
		{"", []string{"expectation", "add", "svc-backup"}},
		{"", []string{"scope", "exclude", "OU=Terminals," + s.endpoints.Directories[0].BaseDN}},
		{"", []string{"directory", "read"}},
		{"", []string{"scope", "filter", "users", "(&(objectClass=person)(!(|(title=Steward)(title=Able*))))"}},
		{"", []string{"impact"}},
		{"", []string{"forecast"}},
	} {
		if err := s.terminal(command.name, command.args...); err != nil {
			return err
		}
	}
	if err := chromedp.Run(s.page, browser.SignIn(console, s.endpoints.Operator.Name, s.endpoints.Operator.Password)); err != nil {
		return err
	}
	if err := s.signInTest(console); err != nil {
		return err
	}
	settled := chromedp.WaitVisible("#main h1", chromedp.ByQuery)
	open := chromedp.Tasks{settled, chromedp.WaitVisible(".n-data-table-expand-trigger", chromedp.ByQuery), chromedp.Click(".n-data-table-expand-trigger", chromedp.ByQuery), chromedp.WaitVisible(".diffs", chromedp.ByQuery)}
	for _, p := range []struct {
		name, path, look string
		ready            chromedp.Action
	}{
		{"overview", "/", "light", chromedp.WaitVisible(".number", chromedp.ByQuery)},
		{"run", "/runs/3", "light", open},
		{"cloud-groups", "/cloud-groups", "light", chromedp.WaitVisible("td a", chromedp.ByQuery)},
		{"problems", "/problems", "light", chromedp.WaitVisible(".group", chromedp.ByQuery)},
		{"problem", "/problems?code=near-miss", "light", chromedp.Tasks{chromedp.WaitVisible("td a", chromedp.ByQuery), chromedp.Click("td a", chromedp.ByQuery), chromedp.WaitVisible(".sides", chromedp.ByQuery)}},
		{"undo", "/runs/3", "light", chromedp.Tasks{settled, press("Undo…"), chromedp.WaitVisible(".n-modal .list", chromedp.ByQuery)}},
		{"history", "/objects/ada.lind@halvard.example", "light", chromedp.Tasks{chromedp.WaitVisible("#history-title ~ *, section:has(#history-title) li .mark", chromedp.ByQuery), chromedp.Evaluate(`document.querySelector("#history-title").scrollIntoView()`, nil)}},
		{"directory", "/directories/halvard", "light", chromedp.WaitVisible(".verdicts", chromedp.ByQuery)},
		{"scope", "/scope", "light", chromedp.Tasks{chromedp.WaitVisible("[role=treeitem]", chromedp.ByQuery), chromedp.WaitVisible(".kind", chromedp.ByQuery)}},
		{"passwords", "/passwords", "dark", chromedp.Tasks{chromedp.WaitVisible(".way", chromedp.ByQuery), chromedp.WaitVisible("td a", chromedp.ByQuery)}},
		{"survey", "/survey", "light", chromedp.WaitVisible("td a", chromedp.ByQuery)},
		{"settings", "/settings?view=expectations", "light", chromedp.WaitVisible("td .unmet", chromedp.ByQuery)},
		{"sign-in", "/domains/halvard.example", "light", chromedp.Tasks{chromedp.WaitVisible("#tests-title ~ *, .list tbody th", chromedp.ByQuery), chromedp.Evaluate(`document.querySelector("#tests-title").scrollIntoView()`, nil)}},
		{"object-why", "/objects/svc-backup", "light", settled},
		{"rules", "/rules?kind=users&target=displayName", "light", chromedp.Tasks{
			chromedp.WaitVisible(entryToTry, chromedp.ByQuery), chromedp.SendKeys(entryToTry, "ada.lind@halvard.example", chromedp.ByQuery),
			chromedp.WaitVisible(".rule .gives .line", chromedp.ByQuery),
		}},
		{"forecast", "/forecast", "light", chromedp.WaitVisible(".tile", chromedp.ByQuery)},
	} {
		if err := s.picture(p.name, console+p.path, p.look, p.ready); err != nil {
			return err
		}
	}
	return s.held(console)
}

// signInTest lets a person try to sign in at Kambrel itself.
func (s *studio) signInTest(console string) error {
	const login = "ada.lind@halvard.example"
	ctx, cancel := context.WithTimeout(s.page, 30*time.Second)
	defer cancel()
	var address string
	if err := chromedp.Run(ctx, chromedp.Navigate(console+"/domains/halvard.example"), chromedp.WaitVisible(`[aria-label="Person to test"]`, chromedp.ByQuery),
		chromedp.SendKeys(`[aria-label="Person to test"]`, login, chromedp.ByQuery), press("Begin a test"), chromedp.AttributeValue(`a[target=_blank]`, "href", &address, nil, chromedp.ByQuery)); err != nil {
		return err
	}
	return chromedp.Run(ctx, chromedp.Navigate(address), chromedp.SendKeys("#name", login, chromedp.ByQuery), chromedp.SendKeys("#password", demo.Password, chromedp.ByQuery), chromedp.Click("#sign-in", chromedp.ByQuery),
		chromedp.WaitVisible(`a[href="/me"]`, chromedp.ByQuery))
}

// selfService lets a person set a password that is good and one that is too short, on the
// cloud's own page.
func (s *studio) selfService() error {
	say := func(password string) chromedp.Tasks {
		return chromedp.Tasks{
			chromedp.Evaluate(`document.querySelector('[data-act="reset"] [name="new"]').value = ""`, nil), chromedp.SendKeys(`[data-act="reset"] [name="new"]`, password, chromedp.ByQuery),
			chromedp.Click(`[data-act="reset"] button`, chromedp.ByQuery), chromedp.WaitVisible(`#said.yes, #said.no`, chromedp.ByQuery),
		}
	}
	ctx, cancel := context.WithTimeout(s.page, 30*time.Second)
	defer cancel()
	return chromedp.Run(ctx, chromedp.Navigate(s.endpoints.Cloud.People), chromedp.Tasks{
		chromedp.WaitVisible(`[name="login"]`, chromedp.ByQuery), chromedp.SendKeys(`[name="login"]`, demo.SelfService, chromedp.ByQuery), chromedp.SendKeys(`[name="password"]`, demo.Password, chromedp.ByQuery),
		chromedp.Click("#sign-in button", chromedp.ByQuery), chromedp.WaitVisible(`[data-act="reset"]`, chromedp.ByQuery), say("Gannet-Rock-66"), say("short"),
	})
}

// held lets people vanish whom groups still name, and shows what the guard holds.
func (s *studio) held(console string) error {
	if err := s.vanish(24); err != nil {
		return err
	}
	if err := s.terminal("", "settings", "discard"); err != nil {
		return err
	}
	if err := s.terminal("", "sync"); err != nil {
		return err
	}
	if err := s.terminal("health", "health"); err != nil {
		return err
	}
	text, err := exec.Command(s.kambrel, "runs", "list", "--all", "-o", "json", "--service", console, "--token", s.endpoints.Token).Output()
	if err != nil {
		return err
	}
	var runs []struct{ ID int64 }
	if err := json.Unmarshal(text, &runs); err != nil {
		return err
	}
	return s.picture("run-held", fmt.Sprintf("%s/runs/%d?state=held&kind=group", console, runs[0].ID), "light", chromedp.WaitVisible(".n-data-table-expand-trigger", chromedp.ByQuery))
}

// dial connects to Halvard's directory as its administrator.
func (s *studio) dial() (*ldap.Conn, error) {
	d := s.endpoints.Directories[0]
	server := &servers.LDAPServer{URL: d.URL, CAFile: d.CA, AdminDN: d.BindDN, AdminPassword: d.Password}
	return server.Dial()
}

// vanish deletes people of one container, as somebody might by mistake.
func (s *studio) vanish(n int) error {
	d := s.endpoints.Directories[0]
	conn, err := s.dial()
	if err != nil {
		return err
	}
	defer conn.Close()
	found, err := conn.Search(&ldap.SearchRequest{BaseDN: "OU=Deck,OU=Fleet," + d.BaseDN, Scope: ldap.ScopeWholeSubtree, Filter: "(objectClass=person)", Attributes: []string{"cn"}})
	if err != nil {
		return err
	}
	for _, e := range found.Entries[:min(n, len(found.Entries))] {
		if err := conn.Del(ldap.NewDelRequest(e.DN, nil)); err != nil {
			return err
		}
	}
	return nil
}

// picture opens an address and keeps what the window shows.
func (s *studio) picture(name, address, look string, ready chromedp.Action) error {
	ctx, cancel := context.WithTimeout(s.page, 30*time.Second)
	defer cancel()
	var png []byte
	scheme := emulation.SetEmulatedMedia().WithFeatures([]*emulation.MediaFeature{{Name: "prefers-color-scheme", Value: look}, {Name: "prefers-reduced-motion", Value: "reduce"}})
	settle := chromedp.Evaluate(`new Promise(done => requestAnimationFrame(() => setTimeout(done, 600)))`, nil, browser.Awaits)
	if err := chromedp.Run(ctx, scheme, chromedp.Navigate(address), ready, settle, chromedp.CaptureScreenshot(&png)); err != nil {
		return fmt.Errorf("picture %s: %w", name, err)
	}
	return os.WriteFile(filepath.Join(s.out, name+".png"), png, 0o644)
}

// terminal runs a command in the demo's checkout and draws what it prints.
func (s *studio) terminal(name string, args ...string) error {
	command := exec.Command(s.kambrel, args...)
	command.Dir = s.dir
	out, err := command.CombinedOutput()
	var ended *exec.ExitError
	if err != nil && !errors.As(err, &ended) {
		return err
	}
	if name == "" {
		return nil
	}
	text := "$ kambrel " + strings.Join(args, " ") + "\n" + string(out)
	page := `<body style="margin:0;background:#14191a"><pre style="margin:18px 20px;color:#dfe6e3;font:13px/1.45 'DejaVu Sans Mono',monospace;white-space:pre-wrap">` + html.EscapeString(text) + `</pre>`
	return s.picture("cli-"+name, "data:text/html;charset=utf-8,"+url.PathEscape(page), "dark", chromedp.WaitVisible("pre", chromedp.ByQuery))
}
