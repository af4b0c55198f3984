package webaddress

import (
	"html/template"
	"net/http"
	"strconv"
)

// notice is a page of Domicile's own at a web address.
type notice struct {
	status      int
	title, text string
	command     string // what can be done, as a command line
	console     string // where to go on
	again       bool   // it is asked again by itself
	ask         bool   // for a password
}

var page = template.Must(template.New("page").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width">
{{if .Again}}<meta http-equiv="refresh" content="2">{{end}}<title>{{.Title}}</title>
<style>
:root { color-scheme: light dark }
body { margin: 12vh auto; max-width: 34rem; padding: 0 1.5rem; font: 18px/1.5 Georgia, serif; background: #fbf7ee; color: #2c2419 }
h1 { font-size: 1.5rem; border-bottom: 1px solid currentColor; padding-bottom: .5rem }
code { font-family: monospace; background: rgba(128,110,80,.15); padding: .1rem .4rem }
a { color: #96351e } input, button { font: inherit; padding: .3rem .6rem }
@media (prefers-color-scheme: dark) { body { background: #241f1a; color: #efe6d6 } a { color: #e5a15c } }
</style></head>
<body><main><h1>{{.Title}}</h1><p>{{.Text}}</p>
{{if .Ask}}<form method="post"><label>Password <input type="password" name="password" autofocus required></label> <button>Come in</button></form>{{end}}
{{if .Command}}<p><code>{{.Command}}</code></p>{{end}}
{{if .Console}}<p><a href="{{.Console}}">To the console</a></p>{{end}}
</main></body></html>
`))

// say answers with a page, or where no person's browser asks with one line.
func say(w http.ResponseWriter, r *http.Request, n notice) {
	h := w.Header()
	h.Set("Cache-Control", "no-store")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Domicile-Notice", strconv.Itoa(n.status)) // tells it from an answer of the program
	if n.again {
		h.Set("Retry-After", "2")
	}
	if !navigates(r) && !n.ask {
		http.Error(w, n.title+". "+n.text, n.status)
		return
	}
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
	w.WriteHeader(n.status)
	_ = page.Execute(w, struct {
		Title, Text, Command, Console string
		Again, Ask                    bool
	}{n.title, n.text, n.command, n.console, n.again, n.ask})
}
