package main

import (
	"bufio"
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"kambrel.example/kambrel/agent"
	"kambrel.example/kambrel/client"
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/core/purpose"
	"kambrel.example/kambrel/core/secret"
	"kambrel.example/kambrel/core/settings"
	"kambrel.example/kambrel/lab/servers"
	"kambrel.example/kambrel/protocol/wire"
)

const (
	base     = "dc=brisling,dc=example"
	people   = "ou=People," + base
	password = "Ballast-Tank-55"
	changed  = 100
	tries    = 5
)

// stage is a whole installation with n people in the directory.
type stage struct {
	n                             int
	lab                           *servers.Lab
	postgres                      *servers.Postgres
	dsn                           string
	cloud                         *servers.Cloud
	directory                     *servers.LDAPServer
	ldap                          *ldap.Conn
	service, agent                *servers.Process
	client                        *client.Client
	loaded                        float64
	groups                        settings.Taking
	readTime, planTime, writeTime float64
	edits                         int
	address                       string                    // of the service
	runs                          map[purpose.Purpose]int64 // the first run of each kind
	slowest                       float64
	opening                       opening
	services                      int
}

func newStage(ctx context.Context, n int, o options) (*stage, error) {
	dir, err := os.MkdirTemp("", "kambrel-bench-")
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return nil, err
	}
	s := &stage{n: n, runs: map[purpose.Purpose]int64{}}
	if s.lab, err = servers.New(dir); err != nil {
		return nil, err
	}
	if o.profile != "" {
		s.lab.PostgresOptions = []string{"shared_preload_libraries=pg_stat_statements", "pg_stat_statements.track=all", "pg_stat_statements.track_planning=on"}
	}
	s.services = o.services
	if err := s.start(ctx); err != nil {
		_ = s.close()
		return nil, err
	}
	if !o.history {
		if err := s.withoutHistory(ctx); err != nil {
			return nil, errors.Join(err, s.close())
		}
	}
	return s, nil
}

// withoutHistory takes away the triggers that keep what is replaced.
func (s *stage) withoutHistory(ctx context.Context) error {
	db, err := sql.Open("pgx", s.dsn)
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, `ALTER TABLE entries DISABLE TRIGGER USER; ALTER TABLE resources DISABLE TRIGGER USER; ALTER TABLE links DISABLE TRIGGER USER`)
	return err
}

// undo tells what would go back of the run that made everybody.
func (s *stage) undo(ctx context.Context) (float64, error) {
	return timed(func() error {
		told, err := s.client.UndoRun(ctx, s.runs[purpose.Sync], wire.NewUndo{})
		if err == nil && told.Back+told.Already+told.Cannot < s.n {
			err = fmt.Errorf("of %d created it tells of %d", s.n, told.Back+told.Already+told.Cannot)
		}
		return err
	})
}

// thousandRuns makes a history of runs, each of which changes one person.
func (s *stage) thousandRuns(ctx context.Context) (float64, error) {
	return timed(func() error {
		for i := range 1000 {
			request := ldap.NewModifyRequest(fmt.Sprintf("cn=Crew %06d,%s", i%s.n, people), nil)
			request.Replace("title", []string{fmt.Sprintf("Bosun %d", i)})
			if err := s.ldap.Modify(request); err != nil {
				return err
			}
			if _, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, 1); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *stage) start(ctx context.Context) error {
	var err error
	if s.postgres, err = s.lab.StartPostgres(ctx, 0, false); err != nil {
		return err
	}
	if s.dsn, err = s.postgres.Create(ctx, "kambrel"); err != nil {
		return err
	}
	if s.cloud, err = s.lab.StartCloud(ctx, "bin/kambrel-lab", 0, []string{"brisling.example"}); err != nil {
		return err
	}
	ldif := filepath.Join(s.lab.Dir, "people.ldif")
	if err := writeLDIF(ldif, s.n); err != nil {
		return err
	}
	began := time.Now()
	if s.directory, err = s.lab.StartOpenLDAP(ctx, "openldap", servers.OpenLDAPOptions{BaseDN: base, LDIF: ldif,
		Access: fmt.Sprintf(`access to attrs=userPassword by dn.exact="uid=svc-kambrel,ou=Service Accounts,%s" write by anonymous auth`, base)}); err != nil {
		return err
	}
	s.loaded = time.Since(began).Seconds()
	if s.ldap, err = s.directory.Dial(); err != nil {
		return err
	}
	return s.startKambrel(ctx)
}

func (s *stage) startKambrel(ctx context.Context) error {
	file := filepath.Join(s.lab.Dir, "administrator.password")
	if err := os.WriteFile(file, []byte(password), 0o600); err != nil {
		return err
	}
	var err error
	if s.service, s.address, err = s.startService(ctx, "service", file); err != nil {
		return err
	}
	for i := 1; i < s.services; i++ {
		if _, _, err := s.startService(ctx, fmt.Sprintf("service-%d", i+1), file); err != nil {
			return err
		}
	}
	address := s.address
	if s.client, _, err = client.Login(ctx, address, wire.Credentials{Name: "administrator", Password: password}); err != nil {
		return err
	}
	code, err := s.client.IssueCode(ctx, "brisling")
	if err != nil {
		return err
	}
	config, err := agent.Enrol(ctx, agent.Config{Service: address, Name: "bench"}, code.Code)
	if err != nil {
		return err
	}
	config.Directories = []agent.Directory{{Name: "brisling", URL: s.directory.URL, CA: s.directory.CAFile, BindDN: s.directory.ReaderDN, Password: secret.Text(s.directory.ReaderPassword)}}
	agentFile := filepath.Join(s.lab.Dir, "agent.yaml")
	if err := config.Save(agentFile); err != nil {
		return err
	}
	if s.agent, err = s.lab.Start(ctx, servers.Command{Name: "agent", Path: "bin/kambrel", Args: []string{"agent", "run", "--config", agentFile}}); err != nil {
		return err
	}
	d := settings.Default(settings.Directory{Name: "brisling", Dialect: entry.Standard, Base: base, Containers: settings.Containers{Include: []string{people}}})
	d.Schedule.Every = "off"
	// The groups come once the people have been measured alone.
	s.groups, d.Groups = d.Groups, settings.Taking{Off: true}
	text, err := d.YAML()
	if err != nil {
		return err
	}
	_, err = s.client.Activate(ctx, wire.ActivateSettings{YAML: string(text)})
	return err
}

func (s *stage) startService(ctx context.Context, name, passwordFile string) (*servers.Process, string, error) {
	port, err := servers.FreePort(0)
	if err != nil {
		return nil, "", err
	}
	address := "http://127.0.0.1:" + strconv.Itoa(port)
	process, err := s.lab.Start(ctx, servers.Command{
		Name: name, Path: "bin/kambrel", Env: []string{"KAMBREL_DATABASE=" + s.dsn},
		Args:  []string{"serve", "--plain", "--listen", address[len("http://"):], "--cloud-url", s.cloud.URL, "--cloud-token-file", s.cloud.TokenFile, "--administrator-password-file", passwordFile},
		Ready: servers.Answers(address + "/healthz"),
	})
	return process, address, err
}

func (s *stage) close() error {
	if s.ldap != nil {
		_ = s.ldap.Close()
	}
	if err := s.lab.Stop(); err != nil {
		return err
	}
	return servers.Remove(s.lab.Dir)
}

func writeLDIF(file string, n int) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriter(f)
	fmt.Fprintf(w, "dn: %s\nobjectClass: organization\nobjectClass: dcObject\no: Brisling\ndc: brisling\n\n%sdn: %s\nobjectClass: organizationalUnit\n\n", base, servers.ReaderLDIF(base), people)
	for i := range n {
		fmt.Fprintf(w, "dn: cn=Crew %06d,%s\nobjectClass: inetOrgPerson\nuid: crew%06d\nsn: Strand\ngivenName: N%06d\ndisplayName: N%06d Strand\nmail: crew%06d@brisling.example\ntitle: Able Seafarer\ntelephoneNumber: +47 55 %06d\ndepartmentNumber: Deck %d\nemployeeNumber: %d\n\n",
			i, people, i, i, i, i, i, i%40, i)
	}
	return w.Flush()
}

// timed measures one piece of work in seconds.
func timed(work func() error) (float64, error) {
	began := time.Now()
	err := work()
	return time.Since(began).Seconds(), err
}

func (s *stage) rawRead(ctx context.Context) (float64, error) {
	return timed(func() error {
		command := exec.CommandContext(ctx, "ldapsearch", "-x", "-LLL", "-H", s.directory.URL, "-D", s.directory.AdminDN, "-w", s.directory.AdminPassword, "-b", base, "(objectClass=inetOrgPerson)")
		command.Env = append(os.Environ(), "LDAPTLS_CACERT="+s.directory.CAFile)
		return command.Run()
	})
}

// rawCopy copies rows like those of the mirror by psql.
func (s *stage) rawCopy(ctx context.Context) (float64, error) {
	row := `cn=Crew,ou=People,dc=brisling,dc=example	{"cn": ["Crew 000001"], "sn": ["Strand"], "mail": ["crew000001@brisling.example"], "title": ["Able Seafarer"], "givenName": ["N000001"], "displayName": ["N000001 Strand"], "objectClass": ["inetOrgPerson"], "telephoneNumber": ["+47 55 000001"]}` + "\n"
	input := []byte("CREATE TABLE raw_copy (id serial PRIMARY KEY, dn text, attributes jsonb);\nCOPY raw_copy (dn, attributes) FROM stdin;\n" + strings.Repeat(row, s.n) + "\\.\nDROP TABLE raw_copy;\n")
	return timed(func() error {
		command := exec.CommandContext(ctx, "psql", "-q", "-v", "ON_ERROR_STOP=1", s.dsn)
		command.Stdin = bytes.NewReader(input)
		if out, err := command.CombinedOutput(); err != nil {
			return fmt.Errorf("%w: %s", err, out)
		}
		return nil
	})
}

// rawCreate measures the stand-in's own rate on a second one, in bulk requests
// as Kambrel sends them, for as many people.
func (s *stage) rawCreate(ctx context.Context) (float64, error) {
	dir, err := os.MkdirTemp("", "kambrel-bench-")
	if err != nil {
		return 0, err
	}
	l, err := servers.New(dir)
	if err != nil {
		return 0, err
	}
	defer func() { _ = l.Stop(); _ = servers.Remove(dir) }()
	c, err := l.StartCloud(ctx, "bin/kambrel-lab", 0, []string{"brisling.example"})
	if err != nil {
		return 0, err
	}
	const size, workers = 200, 4
	return timed(func() error {
		starts := make(chan int)
		failures := make(chan error, workers)
		var group sync.WaitGroup
		for range workers {
			group.Add(1)
			go func() {
				defer group.Done()
				for start := range starts {
					if err := createBulk(ctx, c, start, min(size, s.n-start)); err != nil {
						failures <- err
						return
					}
				}
			}()
		}
		for start := 0; start < s.n; start += size {
			select {
			case starts <- start:
			case err := <-failures:
				return err
			}
		}
		close(starts)
		group.Wait()
		return nil
	})
}

func createBulk(ctx context.Context, c *servers.Cloud, start, n int) error {
	operations := make([]map[string]any, n)
	for i := range n {
		id := start + i
		operations[i] = map[string]any{"method": "POST", "path": "/Users", "bulkId": strconv.Itoa(i), "data": map[string]any{
			"userName": fmt.Sprintf("crew%06d@brisling.example", id), "externalId": fmt.Sprint(id), "displayName": "N Strand", "title": "Able Seafarer", "active": true,
			"name": map[string]any{"givenName": "N", "familyName": "Strand"}, "emails": []any{map[string]any{"type": "work", "value": fmt.Sprintf("crew%06d@brisling.example", id)}},
		}}
	}
	return send(ctx, c, http.MethodPost, "/Bulk", map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:BulkRequest"}, "Operations": operations}, nil)
}

func send(ctx context.Context, c *servers.Cloud, method, path string, body, into any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, method, c.URL+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	request.Header.Set("Authorization", "Bearer "+c.Token)
	request.Header.Set("Content-Type", "application/scim+json")
	response, err := http.DefaultClient.Do(request)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	if response.StatusCode > 299 {
		return fmt.Errorf("the cloud answers %s", response.Status)
	}
	if into == nil {
		into = &json.RawMessage{}
	}
	return json.NewDecoder(response.Body).Decode(into)
}

// sync makes a run and returns how long it took by its own clock.
func (s *stage) sync(ctx context.Context, request wire.NewRun, changes int) (wire.Run, error) {
	started, err := s.client.StartRun(ctx, request)
	if err != nil {
		return wire.Run{}, err
	}
	s.remember(started)
	run, err := s.client.Wait(ctx, started.ID, nil)
	if err == nil && (run.State != progress.InStep || run.Counts.Changes != changes) {
		err = fmt.Errorf("run %d is %s with %d changes, not in step with %d: %+v", run.ID, run.State, run.Counts.Changes, changes, run.Failure)
	}
	return run, err
}

// remember keeps the first run of a kind, whose pages are looked at later.
func (s *stage) remember(run wire.Run) {
	if s.runs[run.Purpose] == 0 {
		s.runs[run.Purpose] = run.ID
	}
}

func seconds(run wire.Run) float64 { return run.Ended.Sub(run.Created).Seconds() }

func (s *stage) firstRun(ctx context.Context) (float64, error) {
	run, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, s.n)
	if err != nil {
		return 0, err
	}
	stages := map[string]progress.Stage{}
	for _, stage := range run.Stages {
		stages[stage.Name] = stage
	}
	s.readTime = stages["read"].Ended.Sub(*stages["read"].Started).Seconds()
	s.planTime = stages["write"].Started.Sub(*stages["read"].Ended).Seconds()
	s.writeTime = stages["write"].Ended.Sub(*stages["write"].Started).Seconds()
	fmt.Fprintf(os.Stderr, "bench:   read %.1f s, plan %.1f s, write %.1f s\n", s.readTime, s.planTime, s.writeTime)
	return seconds(run), nil
}

func (s *stage) delta0(ctx context.Context) (float64, error) {
	run, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, 0)
	if err != nil {
		return 0, err
	}
	return seconds(run), nil
}

func (s *stage) edit() error {
	s.edits++
	for i := range changed {
		request := ldap.NewModifyRequest(fmt.Sprintf("cn=Crew %06d,%s", i*(s.n/changed), people), nil)
		request.Replace("title", []string{fmt.Sprintf("Mate %d", s.edits)})
		if err := s.ldap.Modify(request); err != nil {
			return err
		}
	}
	return nil
}

func (s *stage) delta100(ctx context.Context) (float64, error) {
	var times []float64
	for range tries {
		if err := s.edit(); err != nil {
			return 0, err
		}
		run, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Sync}, changed)
		if err != nil {
			return 0, err
		}
		times = append(times, seconds(run))
	}
	return median(times), nil
}

// rawDelta reads 100 entries by name and PATCHes 100 users, one after another.
func (s *stage) rawDelta(ctx context.Context) (float64, error) {
	var page struct{ Resources []struct{ ID string } }
	if err := send(ctx, s.cloud, http.MethodGet, "/Users?count="+strconv.Itoa(changed), nil, &page); err != nil {
		return 0, err
	}
	took, err := timed(func() error {
		for i := range changed {
			if _, err := s.ldap.Search(&ldap.SearchRequest{BaseDN: fmt.Sprintf("cn=Crew %06d,%s", i, people), Scope: ldap.ScopeBaseObject, Filter: "(objectClass=*)"}); err != nil {
				return err
			}
		}
		for _, resource := range page.Resources {
			body := map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:PatchOp"}, "Operations": []any{map[string]any{"op": "add", "path": "nickName", "value": "n"}}}
			if err := send(ctx, s.cloud, http.MethodPatch, "/Users/"+url.PathEscape(resource.ID), body, nil); err != nil {
				return err
			}
		}
		return nil
	})
	return took, err
}

func (s *stage) rehearsal(ctx context.Context) (float64, error) {
	run, err := s.sync(ctx, wire.NewRun{Purpose: purpose.Forecast}, 0)
	if err != nil {
		return 0, err
	}
	for _, stage := range run.Stages {
		if stage.Name == "plan" {
			return stage.Ended.Sub(*stage.Started).Seconds(), nil
		}
	}
	return 0, fmt.Errorf("run %d has no plan", run.ID)
}

// impact rehearses a draft that keeps some people out, from being asked for to
// its end.
func (s *stage) impact(ctx context.Context) (float64, error) {
	if _, err := s.client.EditDraft(ctx, func(d *settings.Document) error {
		d.Users.Filter = "(&(objectClass=inetOrgPerson)(!(departmentNumber=Deck 7)))"
		return nil
	}); err != nil {
		return 0, err
	}
	return timed(func() error {
		run, err := s.client.Impact(ctx)
		if err == nil {
			run, err = s.client.Wait(ctx, run.ID, nil)
		}
		if held := run.Counts.Held + run.Counts.Suspend; err == nil && held != s.n/40 {
			err = fmt.Errorf("the impact suspends %d, not %d: %+v", held, s.n/40, run.Failure)
		}
		return errors.Join(err, s.client.DiscardDraft(ctx))
	})
}

func (s *stage) survey(ctx context.Context) (float64, error) {
	return timed(func() error {
		run, err := s.client.StartSurvey(ctx, wire.NewSurvey{})
		if err == nil {
			s.remember(run)
			run, err = s.client.Wait(ctx, run.ID, nil)
		}
		if err == nil && run.Counts.Surveyed != s.n {
			err = fmt.Errorf("the survey looked at %d, not %d: %+v", run.Counts.Surveyed, s.n, run.Failure)
		}
		return err
	})
}

// preview counts all by a filter that was edited.
func (s *stage) preview(ctx context.Context) (float64, error) { return s.count(ctx, 0) }

// estimate is what people see first of that.
func (s *stage) estimate(ctx context.Context) (float64, error) { return s.count(ctx, 5000) }

func (s *stage) count(ctx context.Context, lookAt int) (float64, error) {
	active, err := s.client.Settings(ctx)
	if err != nil {
		return 0, err
	}
	active.Document.Users.Filter = "(&(objectClass=inetOrgPerson)(!(departmentNumber=Deck 7)))"
	return timed(func() error {
		_, err := s.client.PreviewScope(ctx, wire.ScopePreview{Document: &active.Document, Samples: 12, LookAt: lookAt})
		return err
	})
}

func (s *stage) tree(ctx context.Context) (float64, error) {
	return timed(func() error {
		_, err := s.client.Containers(ctx, "brisling")
		return err
	})
}

func (s *stage) rawPass(ctx context.Context) (float64, error) {
	db, err := sql.Open("pgx", s.dsn)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	return timed(func() error {
		rows, err := db.QueryContext(ctx, `SELECT e.dn, e.attributes, r.attributes FROM entries e LEFT JOIN links l ON l.directory = e.directory AND l.entry_id = e.id LEFT JOIN resources r ON r.id = l.resource_id`)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var dn string
			var have, want []byte
			if err := rows.Scan(&dn, &have, &want); err != nil {
				return err
			}
		}
		return rows.Err()
	})
}

func (s *stage) why(ctx context.Context) (float64, error) {
	var times []float64
	for i := range 21 {
		took, err := timed(func() error {
			_, err := s.client.Why(ctx, fmt.Sprintf("crew%06d@brisling.example", i*7))
			return err
		})
		if err != nil {
			return 0, err
		}
		times = append(times, took)
	}
	return median(times), nil
}

func (s *stage) find(ctx context.Context) (float64, error) {
	var times []float64
	for i := range 21 {
		took, err := timed(func() error {
			_, err := s.client.Find(ctx, url.Values{"text": {fmt.Sprintf("crew00%02d", i)}})
			return err
		})
		if err != nil {
			return 0, err
		}
		times = append(times, took)
	}
	return median(times), nil
}

// findFilter searches everybody by an attribute that no index knows.
func (s *stage) findFilter(ctx context.Context) (float64, error) {
	return timed(func() error {
		page, err := s.client.Find(ctx, url.Values{"text": {"(&(departmentNumber=Deck 7)(title=Able*))"}})
		if err == nil && page.Total == 0 {
			err = errors.New("the filter finds nobody")
		}
		return err
	})
}

// databaseMB is how large the database is, in MB.
func (s *stage) databaseMB(ctx context.Context) (float64, error) {
	db, err := sql.Open("pgx", s.dsn)
	if err != nil {
		return 0, err
	}
	defer db.Close()
	var bytes float64
	err = db.QueryRowContext(ctx, `SELECT pg_database_size(current_database())`).Scan(&bytes)
	return bytes / 1e6, err
}

// peakMB is the most memory a process has had, in MB.
func peakMB(pid int) float64 {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	if err != nil {
		return 0
	}
	for _, line := range strings.Split(string(text), "\n") {
		var kb float64
		if _, err := fmt.Sscanf(line, "VmHWM: %f kB", &kb); err == nil {
			return kb / 1024
		}
	}
	return 0
}

func numbers(list string) []int {
	var out []int
	for _, text := range strings.Split(list, ",") {
		n, _ := strconv.Atoi(strings.TrimSpace(text))
		out = append(out, n)
	}
	return out
}
