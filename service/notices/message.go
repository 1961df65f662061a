package notices

import (
	"fmt"
	"html/template"
	"strings"
	text "text/template"
	"time"

	"kambrel.example/kambrel/core/about"
	"kambrel.example/kambrel/core/problem"
	"kambrel.example/kambrel/core/progress"
	"kambrel.example/kambrel/service/store"
)

// message is what is told, as a webhook has it.
type message struct {
	Key      string    `json:"key"`
	Kind     string    `json:"kind"`
	Subject  string    `json:"subject"`
	At       time.Time `json:"at"`
	Intro    string    `json:"intro,omitempty"`
	Problems []told    `json:"problems,omitempty"`
	Lines    []string  `json:"lines,omitempty"`
	Links    []link    `json:"links,omitempty"`
}

// told is a problem, or all of a kind.
type told struct {
	Code   problem.Code `json:"code"`
	Title  string       `json:"title"`
	Detail string       `json:"detail,omitempty"`
	Remedy string       `json:"remedy,omitempty"`
	Since  time.Time    `json:"since"`
	Closed *time.Time   `json:"closed,omitempty"`
	Count  int          `json:"count,omitempty"`
	URL    string       `json:"url"`
}

type link struct {
	URL  string `json:"url"`
	Text string `json:"text"`
}

// failure is about problems that have broken something, or that are over.
func failure(url, kind string, problems []store.Problem) message {
	m := message{Kind: kind, At: time.Now(), Links: []link{{url + "/problems", "All problems"}}}
	var ids []string
	for _, p := range problems {
		known := problem.Describe(p.Code)
		one := told{Code: p.Code, Title: known.Title, Detail: p.Detail, Remedy: known.Cause + " " + known.Remedy, Since: p.Since, Closed: p.Closed, URL: fmt.Sprintf("%s/problems/%d", url, p.ID)}
		if p.About.Type == about.Run && kind == "broke" {
			one.URL = url + "/runs/" + p.About.Key
		}
		if kind == "well" {
			one.Remedy = ""
		}
		m.Problems = append(m.Problems, one)
		ids = append(ids, fmt.Sprint(p.ID))
	}
	m.Key = kind + "-" + strings.Join(ids[:min(len(ids), 20)], "-")
	m.Subject = "Kambrel: " + m.Problems[0].Title
	m.Intro = "Something keeps the cloud from being in step."
	if kind == "well" {
		m.Subject = "Kambrel: well again: " + m.Problems[0].Title
		m.Intro = "This is over."
	}
	if more := len(problems) - 1; more > 0 {
		m.Subject += fmt.Sprintf(", and %d more", more)
	}
	return m
}

// daily is what is open, and what came and went within a day; false where there is nothing
// to tell.
func daily(url, key string, now time.Time, groups []store.ProblemGroup, going []progress.Going) (message, bool) {
	m := message{Key: key, Kind: "digest", At: now, Links: []link{{url + "/problems", "All problems"}}}
	open, opened, closed := 0, 0, 0
	for _, g := range groups {
		for _, day := range g.Days {
			opened, closed = opened+day.Opened, closed+day.Closed
		}
		if g.Count == 0 {
			continue
		}
		open += g.Count
		detail := ""
		if g.Asleep > 0 {
			detail = fmt.Sprintf("%d asleep", g.Asleep)
		}
		m.Problems = append(m.Problems, told{Code: g.Code, Title: problem.Describe(g.Code).Title, Detail: detail, Since: g.Since, Count: g.Count, URL: url + "/problems?code=" + string(g.Code)})
	}
	for _, g := range going {
		m.Lines = append(m.Lines, g.Text)
	}
	m.Subject = fmt.Sprintf("Kambrel: %d open problems", open)
	if open == 1 {
		m.Subject = "Kambrel: 1 open problem"
	}
	m.Intro = fmt.Sprintf("Since yesterday %d were opened and %d closed.", opened, closed)
	return m, open+opened+closed > 0 || len(m.Lines) > 0
}

var functions = map[string]any{"at": func(t time.Time) string { return t.Local().Format("2006-01-02 15:04") }}

var plain = text.Must(text.New("").Funcs(functions).Parse(`{{.Intro}}
{{range .Problems}}
{{if .Count}}{{.Count}} × {{end}}{{.Title}}
{{- if .Detail}}
  {{.Detail}}{{end}}
  since {{at .Since}}{{if .Closed}}, over at {{at .Closed}}{{end}}
{{- if .Remedy}}
  {{.Remedy}}{{end}}
  {{.URL}}
{{end}}
{{- range .Lines}}
{{.}}
{{- end}}
{{range .Links}}
{{.Text}}: {{.URL}}{{end}}
`))

var page = template.Must(template.New("").Funcs(functions).Parse(`<!doctype html>
<html lang="en"><body style="font-family:sans-serif;color:#1d2526;max-width:640px">
<p>{{.Intro}}</p>
{{range .Problems}}<div style="border-left:4px solid {{if .Closed}}#2f7a4d{{else}}#a9690f{{end}};padding:2px 12px;margin:10px 0">
<p style="margin:4px 0"><a href="{{.URL}}" style="color:#17595c"><strong>{{if .Count}}{{.Count}} × {{end}}{{.Title}}</strong></a></p>
{{if .Detail}}<p style="margin:4px 0">{{.Detail}}</p>{{end}}
<p style="margin:4px 0;color:#5f6b6c">since {{at .Since}}{{if .Closed}}, over at {{at .Closed}}{{end}}</p>
{{if .Remedy}}<p style="margin:4px 0">{{.Remedy}}</p>{{end}}
</div>
{{end}}{{range .Lines}}<p>{{.}}</p>
{{end}}<p>{{range .Links}}<a href="{{.URL}}" style="color:#17595c">{{.Text}}</a> {{end}}</p>
</body></html>
`))

// write makes plain text and HTML of a message.
func (m message) write() (plainText, html string, err error) {
	var a, b strings.Builder
	if err := plain.Execute(&a, m); err != nil {
		return "", "", fmt.Errorf("write a notice: %w", err)
	}
	if err := page.Execute(&b, m); err != nil {
		return "", "", fmt.Errorf("write a notice: %w", err)
	}
	return a.String(), b.String(), nil
}
