package demo

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/bcrypt"
)

//go:embed page.html
var pageHTML string

var pageTemplate = template.Must(template.New("page").Parse(pageHTML))

// A standIn answers for one installation. It reads the settings anew for every request and renders pages from
// them: what they say wrong is served wrong, and what is put right is right on the next request, unless the page
// cache still has the old page.
type standIn struct {
	root  string // of the installation
	marks string // what the page caches put into every page while they are told to mark what they keep
	lore  *lore
	kept  keeper
	takes time.Duration // to make a page anew

	mu    sync.Mutex
	cache map[string]cached
}

type cached struct {
	header http.Header
	until  time.Time
	file   string // in the cache's folder, with the page; it is kept for as long as that is there
}

// keep writes a page to the cache's folder, so that emptying that folder empties the cache.
func (v *view) keep(key string, body []byte) string {
	file := filepath.Join(v.root, filepath.FromSlash(v.lore.Cache), fmt.Sprintf("%x", sha256.Sum256([]byte(key)))[:16]+".html")
	_ = os.WriteFile(file, body, 0o644)
	return file
}

func newStandIn(in *installation, root string) (*standIn, error) {
	kept, err := in.system.open(root, in.database)
	marks := ""
	for _, e := range in.extensions {
		if e.Active && (strings.Contains(e.Kind, "cache") || e.Kind == "backwater" || e.Kind == "cloche") {
			marks += fmt.Sprintf("<!-- kept by %s %s -->\n", e.Name, e.Version)
		}
	}
	return &standIn{root: root, marks: marks, lore: in.system.lore(), kept: kept, cache: map[string]cached{}, takes: uncached}, err
}

func (s *standIn) close() { s.kept.close() }

// A view is one request with the settings as they are at that moment.
type view struct {
	*standIn
	options map[string]string
	public  []entry // the published ones, in the order in which they were made
	request *http.Request
	secure  bool
}

// An entry is a page or a post.
type entry struct {
	ID                                                int
	Slug, Title, Kind, Status, Published, About, Body string
	Unlisted                                          bool
}

func (s *standIn) load(r *http.Request) (*view, error) {
	v := &view{standIn: s, request: r, secure: r.TLS != nil}
	var err error
	if v.options, err = s.kept.options(r.Context()); err != nil {
		return nil, err
	}
	for option, usual := range map[string]string{"theme_viewport": "width=device-width, initial-scale=1", "theme_charset": "utf-8"} {
		if _, said := v.options[option]; !said {
			v.options[option] = usual
		}
	}
	all, err := s.kept.entries(r.Context())
	for _, e := range all {
		if e.Status == "public" {
			v.public = append(v.public, e)
		}
	}
	return v, err
}

// served lets what a cache has kept be served instead of what is declared.
func (v *view) served() {
	for name, value := range v.options {
		if option, ok := strings.CutPrefix(name, "stale_"); ok {
			v.options[option] = value
		}
	}
}

func (v *view) yes(option string) bool {
	return slices.Contains([]string{"yes", "true", "1", "on", "open"}, v.options[option])
}

// entries are the published ones that are wanted.
func (v *view) entries(wanted func(entry) bool) []entry {
	var list []entry
	for _, e := range v.public {
		if wanted(e) {
			list = append(list, e)
		}
	}
	return list
}

// posts are the published posts that are wanted, the newest first.
func (v *view) posts(wanted func(entry) bool) []entry {
	list := v.entries(func(e entry) bool { return e.Kind == "post" && (wanted == nil || wanted(e)) })
	slices.SortStableFunc(list, func(a, b entry) int { return strings.Compare(b.Published, a.Published) })
	return list
}

// own tells the pages that the system shows at its own addresses.
func (v *view) own(e entry) bool {
	return slices.Contains([]string{"stage-door", "sorry", "find", v.options["page_error"], v.options["page_search"], v.options["page_signin"]}, e.Slug)
}

// writerPath is where the writer's posts are listed.
func (v *view) writerPath() string {
	return v.lore.Addresses.Writer + strings.ReplaceAll(strings.ToLower(v.options["writer"]), " ", "-") + "/"
}

func (s *standIn) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	v, err := s.load(r)
	if err != nil {
		http.Error(w, "Something fell over.", http.StatusInternalServerError)
		return
	}
	v.served()
	public, err := url.Parse(v.options["public_url"])
	if err == nil && v.yes("one_address") && (r.Host != public.Host || v.secure != (public.Scheme == "https")) {
		http.Redirect(w, r, v.options["public_url"]+r.URL.RequestURI(), http.StatusMovedPermanently)
		return
	}
	switch {
	case v.yes("minify") && v.yes("theme_breaks_minified"):
		http.Error(w, "Something fell over.", http.StatusInternalServerError)
	case r.Method == http.MethodPost && r.URL.Path == "/cache/empty":
		v.mu.Lock()
		clear(v.cache)
		v.mu.Unlock()
		w.WriteHeader(http.StatusNoContent)
	case v.yes("locked") && !v.letIn():
		w.Header().Set("WWW-Authenticate", `Basic realm="Locked"`)
		w.Header().Set("Cache-Control", "no-store")
		http.Error(w, "Locked.", http.StatusUnauthorized)
	case v.yes("closed") && !v.works() && !v.isStaff():
		v.closed(w)
	default:
		if v.shielded() {
			w.Header().Set("Doorkeeper", v.options["wall"])
		}
		v.route(w)
	}
}

// shielded tells whether the system's firewall, where it is one that says so in its answers, is switched on and loaded by what the runtime is told.
func (v *view) shielded() bool {
	if !slices.Contains(v.lore.Own, "works/doorkeeper.php") || v.options["wall"] == "off" {
		return false
	}
	told, err := os.ReadFile(filepath.Join(filepath.Dir(v.root), runtimeFolder, "php.ini"))
	return err != nil || bytes.Contains(told, []byte("\nauto_prepend_file ="))
}

// letIn tells whether a request may pass the lock: it has the name and the password, or asks for what whoever renews certificates asks for,
// or for robots.txt.
func (v *view) letIn() bool {
	if v.request.URL.Path == "/robots.txt" || strings.HasPrefix(v.request.URL.Path, "/.well-known/acme-challenge/") {
		return true
	}
	name, password, said := v.request.BasicAuth()
	return said && name == v.options["locked_name"] && bcrypt.CompareHashAndPassword([]byte(v.options["locked_hash"]), []byte(password)) == nil
}

// works tells whether an address goes on working while the site is closed: the page to sign in on, robots.txt, and files.
func (v *view) works() bool {
	path := v.request.URL.Path
	return strings.TrimSuffix(path, "/") == v.options["signin_path"] || path == "/robots.txt" ||
		slices.ContainsFunc(v.lore.Addresses.Static, func(prefix string) bool { return strings.HasPrefix(path, prefix) })
}

// isStaff tells whether somebody is signed in. Who has the cookie is, since nobody signs in to a stand-in.
func (v *view) isStaff() bool {
	cookie, err := v.request.Cookie(strings.ToLower(v.lore.Maker))
	return err == nil && cookie.Value == "staff"
}

// closed is the notice that the site is down.
func (v *view) closed(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "3600")
	w.Header().Set("Cache-Control", "no-store")
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.WriteHeader(http.StatusServiceUnavailable)
	fmt.Fprintf(w, "<!doctype html><html lang=en><title>Closed</title><p>%s</p>", template.HTMLEscapeString(v.options["closed_text"]))
}

func (v *view) route(w http.ResponseWriter) {
	path := v.request.URL.Path
	switch {
	case path == "/robots.txt":
		v.robots(w)
	case path == "/sitemap.xml" && v.yes("sitemap"):
		v.sitemap(w)
	case path == "/feed.xml":
		v.feed(w)
	case strings.HasPrefix(path, v.lore.Addresses.Made):
		v.serveMade(w)
	case slices.ContainsFunc(v.lore.Addresses.Static, func(prefix string) bool { return strings.HasPrefix(path, prefix) }):
		v.static(w, path)
	case keyFile.MatchString(path) && v.lies(path): // as a web server gives a file that is there
		v.static(w, path)
	case notAPage(path):
		http.NotFound(w, v.request) // as a web server answers for a file that is not there, without asking for a page
	default:
		v.cachedPage(w)
	}
}

// keyFile is how a file is called by which search engines know who speaks.
var keyFile = regexp.MustCompile(`^/[A-Za-z0-9-]{8,128}\.txt$`)

// lies tells whether a file is there that the web server would give.
func (v *view) lies(path string) bool {
	stat, err := os.Stat(filepath.Join(v.root, v.lore.Public, filepath.FromSlash(path)))
	return err == nil && stat.Mode().IsRegular()
}

// notAPage tells whether an address can only be that of a file: no page is called so.
func notAPage(path string) bool {
	if strings.HasPrefix(path, "/.") && !strings.HasPrefix(path, "/.well-known/") {
		return true
	}
	return slices.Contains([]string{".sql", ".gz", ".zip", ".bak", ".old", ".save", ".orig", ".log", ".key", ".pem", ".sqlite", ".sqlite3", ".db"}, filepath.Ext(path))
}

func (v *view) static(w http.ResponseWriter, path string) {
	root, err := os.OpenRoot(filepath.Join(v.root, v.lore.Public))
	if err != nil {
		http.NotFound(w, v.request)
		return
	}
	defer root.Close()
	name := strings.TrimPrefix(path, "/")
	stat, err := root.Stat(name)
	content, unread := root.ReadFile(name)
	if err != nil || unread != nil {
		http.ServeFileFS(w, v.request, root.FS(), name) // a folder, or nothing
		return
	}
	w.Header().Set("Cache-Control", "public, max-age=604800")
	v.serveFile(w, name, stat.ModTime(), content)
}

func (v *view) robots(w http.ResponseWriter) {
	w.Header().Set("Content-Type", "text/plain; charset=utf-8")
	if data, err := os.ReadFile(filepath.Join(v.root, v.lore.Public, "robots.txt")); err == nil { // a file goes before what is made
		_, _ = w.Write(data)
		return
	}
	if status, err := strconv.Atoi(v.options["robots_status"]); err == nil {
		w.WriteHeader(status)
		return
	}
	fmt.Fprint(w, "User-agent: *\n", v.options["robots_lines"])
	if v.yes("sitemap") && v.options["robots_sitemap"] != "no" {
		fmt.Fprintf(w, "Sitemap: %s/sitemap.xml\n", v.options["public_url"])
	}
}

// address is where an entry is found, in the declared form.
func (v *view) address(e entry) string {
	if v.options["front"] == "page" && e.Slug == v.options["front_page"] {
		return "/"
	}
	form := v.options["address_form"]
	if e.Kind == "page" && strings.Contains(form, "<name>") {
		form = "/<name>/"
	}
	return strings.NewReplacer("<name>", e.Slug, "<id>", strconv.Itoa(e.ID), "<year>", e.Published[:4], "<month>", e.Published[5:7],
		"<topic>", v.options["default_topic"], "<writer>", strings.Trim(strings.TrimPrefix(v.writerPath(), v.lore.Addresses.Writer), "/")).Replace(form)
}

func (v *view) sitemap(w http.ResponseWriter) {
	list := v.entries(func(e entry) bool { return !v.own(e) && e.Slug != "not-here" && !e.Unlisted })
	w.Header().Set("Content-Type", "application/xml; charset=utf-8")
	fmt.Fprint(w, `<?xml version="1.0" encoding="UTF-8"?><urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">`)
	paths := []string{"/", v.topicPath()}
	if extra := v.options["sitemap_extra"]; extra != "" {
		paths = append(paths, extra)
	}
	for _, e := range list {
		if address := v.address(e); e.Slug != v.options["sitemap_without"] && address != "/" {
			paths = append(paths, address)
		}
	}
	for _, path := range paths {
		fmt.Fprintf(w, "<url><loc>%s</loc></url>", template.HTMLEscapeString(v.options["public_url"]+path))
	}
	fmt.Fprint(w, "</urlset>\n")
}

func (v *view) topicPath() string {
	if prefix := v.options["topic_prefix"]; prefix != "" {
		return "/" + prefix + "/" + v.options["default_topic"] + "/"
	}
	return "/" + v.options["default_topic"] + "/"
}

func (v *view) feed(w http.ResponseWriter) {
	list := v.posts(nil)
	if n, err := strconv.Atoi(v.options["feed_items"]); err == nil && n < len(list) {
		list = list[:n]
	}
	w.Header().Set("Content-Type", "application/rss+xml; charset=utf-8")
	fmt.Fprintf(w, `<?xml version="1.0" encoding="UTF-8"?><rss version="2.0"><channel><title>%s</title><link>%s/</link><description>%s</description><managingEditor>%s</managingEditor>`,
		template.HTMLEscapeString(v.options["site_title"]), v.options["public_url"], template.HTMLEscapeString(v.options["description"]), template.HTMLEscapeString(v.options["feed_reply"]))
	for _, e := range list {
		fmt.Fprintf(w, "<item><title>%s</title><link>%s%s</link></item>", template.HTMLEscapeString(e.Title), v.options["public_url"], template.HTMLEscapeString(v.address(e)))
	}
	fmt.Fprint(w, "</channel></rss>\n")
}

// uncached is how long it takes to make a page anew, besides making it: in the demo so long that one sees what a cache is for.
const (
	uncached     = 3 * time.Millisecond
	uncachedDemo = 25 * time.Millisecond
)

// cachedPage answers out of the page cache where the settings and the page allow it. A page that is made anew
// takes a moment, as pages do.
func (v *view) cachedPage(w http.ResponseWriter) {
	key := v.request.Host + v.request.URL.RequestURI()
	if v.yes("cache") && !v.leftOut() {
		v.mu.Lock()
		kept := v.cache[key]
		body, err := os.ReadFile(kept.file)
		v.mu.Unlock()
		if err == nil && time.Now().Before(kept.until) {
			header := kept.header.Clone()
			header.Set("Cache-Status", v.lore.Maker+"; hit")
			v.send(w, http.StatusOK, header, body)
			return
		}
	}
	time.Sleep(v.takes)
	status, header, body := v.page()
	if status == http.StatusOK && v.yes("cache") && !v.leftOut() && header.Get("Cache-Control") == "" {
		minutes, _ := strconv.Atoi(v.options["cache_minutes"])
		v.mu.Lock()
		v.cache[key] = cached{header.Clone(), time.Now().Add(time.Duration(minutes) * time.Minute), v.keep(key, body)}
		v.mu.Unlock()
		header.Set("Cache-Status", v.lore.Maker+"; fwd=uri-miss; stored")
	}
	v.send(w, status, header, body)
}

func (v *view) send(w http.ResponseWriter, status int, header http.Header, body []byte) {
	for name, values := range header {
		w.Header()[name] = values
	}
	if v.yes("compress") && strings.Contains(v.request.Header.Get("Accept-Encoding"), "gzip") && len(body) > 1024 {
		w.Header().Set("Content-Encoding", "gzip")
		w.Header().Add("Vary", "Accept-Encoding")
		body = zipped(body)
	}
	w.WriteHeader(status)
	_, _ = w.Write(body)
}

// A rendered is what the template is given.
type rendered struct {
	Lang, Title, Description, Robots, Canonical, Generator, Author, Heading, Footer, Viewport, Charset, Icon, SiteTitle, Tagline          string
	CardImage, CardType, CardTitle, Public, Feed, Topic, Login, Register, Cart, Style, Sign, Find, WriterName, DateLine, DatePath, Writer string
	Verify                                                                                                                                []template.HTML
	Structured                                                                                                                            template.JS
	Body, HeadCode                                                                                                                        template.HTML // what the owners put there is markup
	List                                                                                                                                  []listed
	Nav                                                                                                                                   []listed
	LoginForm, RegisterForm, Single                                                                                                       bool
}

type listed struct{ Title, Address, About string }

// title fills in one of the title forms.
func (v *view) title(form, page string) string {
	filled := strings.NewReplacer("<page>", page, "<list>", page, "<site>", v.options["site_title"], "<tagline>", v.options["tagline"], "<sep>", v.options["title_sep"]).Replace(v.options[form])
	return strings.Join(strings.Fields(filled), " ")
}

func (v *view) page() (int, http.Header, []byte) {
	status, out, header := v.content()
	if header.Get("Content-Type") == "text/plain" {
		return status, header, []byte("404 not found\n")
	}
	header.Set("Content-Type", "text/html; charset="+v.options["theme_charset"])
	if location := header.Get("Location"); location != "" {
		return status, header, nil
	}
	var body bytes.Buffer
	if err := pageTemplate.Execute(&body, out); err != nil {
		return http.StatusInternalServerError, header, []byte("Something fell over.")
	}
	if v.yes("cache_marks") {
		body.WriteString(v.marks)
	}
	return status, header, body.Bytes()
}

// base is what every page has.
func (v *view) base() *rendered {
	out := &rendered{Lang: v.options["lang"], Footer: v.options["footer_line"], Icon: v.options["icon"], SiteTitle: v.options["site_title"], Tagline: v.options["tagline"],
		Public: v.options["public_url"], Description: v.options["description"], Topic: v.topicPath(), Login: v.options["signin_path"] + "/"}
	out.Viewport, out.Charset, out.HeadCode = v.options["theme_viewport"], v.options["theme_charset"], template.HTML(v.options["head_code"])
	at := v.lore.Addresses
	out.Style, out.Sign, out.Find = v.style(), at.Pictures+"logo.png", at.Find
	out.WriterName = strings.Fields(v.options["writer"])[0]
	if v.yes("hidden") {
		out.Robots = "noindex"
	}
	if v.yes("nofollow") {
		out.Robots = strings.Trim(out.Robots+", nofollow", ", ")
	}
	if v.yes("show_maker") {
		out.Generator = v.lore.Maker + " " + v.options["version"]
	}
	if v.yes("cards") {
		out.CardType, out.CardImage = "website", v.options["card_image"]
		if strings.HasPrefix(out.CardImage, "/") {
			out.CardImage = v.options["public_url"] + out.CardImage
		}
	}
	if v.yes("register") {
		out.Register = v.lore.Addresses.Join
	}
	out.Cart = at.Cart
	if v.options["feed_off"] != "yes" {
		out.Feed = "/feed.xml"
	}
	for _, e := range v.entries(func(e entry) bool {
		return e.Kind == "page" && slices.Contains(strings.Fields(v.options["nav"]), e.Slug)
	}) {
		out.Nav = append(out.Nav, listed{Title: e.Title, Address: v.address(e)})
	}
	return out
}

func (v *view) content() (int, *rendered, http.Header) {
	header := http.Header{}
	out := v.base()
	path, query, at := v.request.URL.Path, v.request.URL.Query(), v.lore.Addresses
	switch {
	case path == "/" && query.Get(at.Numbered) == "":
		return v.front(out), out, header
	case path == v.topicPath():
		return v.listing(out, v.options["default_topic"], nil, ""), out, header
	case strings.HasPrefix(path, at.Writer):
		return v.listing(out, "Posts by "+strings.Trim(strings.TrimPrefix(path, at.Writer), "/"), nil, "list_authors"), out, header
	case monthPath.MatchString(path):
		return v.listing(out, "Posts of "+strings.Trim(path, "/"), func(e entry) bool { return strings.HasPrefix(e.Published, path[1:5]+"-"+path[6:8]) }, "list_dates"), out, header
	case path == v.picturePath():
		return v.filePage(out), out, header
	case path == at.Find && query.Has("q"):
		return v.listing(out, "Found for "+query.Get("q"), v.finds(query.Get("q")), "list_search"), out, header
	case path == v.options["signin_path"]:
		header.Set("Location", path+"/")
		return http.StatusMovedPermanently, out, header
	case path == v.options["signin_path"]+"/":
		out.LoginForm, out.Heading, out.Title, out.Robots = !v.yes("login_formless"), v.options["signin_title"], v.title("title_form_page", v.options["signin_title"]), "noindex"
		header.Set("Cache-Control", "private, no-store")
		header.Set("Set-Cookie", strings.ToLower(v.lore.Maker)+"=invented; Path=/; Secure; HttpOnly; SameSite=Lax")
		return http.StatusOK, out, header
	case at.Cart != "" && path == at.Cart:
		return v.cart(out, header), out, header
	case path == at.Join && v.yes("register") && !v.yes("rewriting_broken"):
		out.RegisterForm, out.Heading, out.Title, out.Robots = true, "Join", v.title("title_form_page", "Join"), "noindex"
		return http.StatusOK, out, header
	}
	return v.single(out, header)
}

// finds tells which entries a search finds: those with all of its words in their titles, or parts of words where that is wished. Words that are too short
// or are to be passed over are.
func (v *view) finds(asked string) func(entry) bool {
	shortest, _ := strconv.Atoi(v.options["search_shortest"])
	var wanted []string
	for word := range strings.FieldsSeq(strings.ToLower(asked)) {
		if len(word) >= shortest && !slices.Contains(strings.Fields(v.options["search_ignored"]), word) {
			wanted = append(wanted, word)
		}
	}
	return func(e entry) bool {
		title := " " + strings.ToLower(e.Title) + " "
		return !slices.ContainsFunc(wanted, func(word string) bool {
			if !v.yes("search_partial") {
				word = " " + word + " "
			}
			return !strings.Contains(title, word)
		})
	}
}

var monthPath = regexp.MustCompile(`^/\d{4}/\d{2}/$`)

func (v *view) picturePath() string { return v.lore.Addresses.Picture + v.options["picture"] + "/" }

// filePage is the page around a single uploaded file.
func (v *view) filePage(out *rendered) int {
	out.Title, out.Heading, out.Single = v.title("title_form_page", v.options["picture_title"]), v.options["picture_title"], true
	out.Body, out.Canonical = "A drawing.", v.options["public_url"]+v.picturePath()
	out.Description = v.options["picture_about"]
	if !v.yes("list_files") {
		out.Robots = "noindex"
	}
	v.shared(out)
	return http.StatusOK
}

// single finds the entry an address names, in the declared form or the old one.
func (v *view) single(out *rendered, header http.Header) (int, *rendered, http.Header) {
	list := v.entries(func(e entry) bool { return !v.own(e) })
	asked := v.request.URL.RequestURI()
	for _, e := range list {
		address := v.address(e)
		old := "/?" + v.lore.Addresses.Numbered + "=" + strconv.Itoa(e.ID)
		if v.yes("rewriting_broken") && asked != old {
			continue
		}
		if v.yes("slash_both") && asked+"/" == address || v.request.URL.Path == address && address != "/" {
			asked = address
		}
		switch {
		case asked == address || e.Slug == v.options["front_page"] && asked == "/"+e.Slug+"/" && address != "/":
			return v.entryPage(out, e, address), out, header
		case asked == old, asked+"/" == address, asked == "/"+e.Slug+"/" && address == "/":
			header.Set("Location", address)
			return http.StatusMovedPermanently, out, header
		}
	}
	out.Title, out.Heading, out.Robots = v.title("title_form_page", "Not here"), "Not here", "noindex"
	out.Body, out.Single = template.HTML(template.HTMLEscapeString(v.options["gone"])), true
	if v.options["page_missing"] == "" {
		header.Set("Content-Type", "text/plain")
	}
	return http.StatusNotFound, out, header
}

func (v *view) entryPage(out *rendered, e entry, address string) int {
	out.Title, out.Heading, out.Body, out.Single = v.title("title_form_page", e.Title), e.Title, template.HTML(e.Body), true
	out.Canonical = v.options["public_url"] + address
	if e.Slug == v.options["untitled"] {
		out.Title = ""
	}
	if other, there := v.options["canonical_of_"+e.Slug]; there {
		if out.Canonical = other; other == "" {
			out.Canonical = v.options["public_url"] + v.request.URL.RequestURI()
		}
	}
	if e.About != "" {
		out.Description = e.About
	}
	if e.Slug == v.options["page_missing"] || e.Slug == "not-here" || e.Unlisted {
		out.Robots = "noindex"
	}
	if e.Kind == "post" {
		out.Writer, out.DateLine = v.writerPath(), e.Published[:10]
		out.DatePath = "/" + e.Published[:4] + "/" + e.Published[5:7] + "/"
		if out.CardType != "" {
			out.CardType = "article"
		}
	}
	v.shared(out)
	if v.yes("structured") && e.Kind == "post" {
		out.Structured = asJSON(map[string]any{"@context": "https://schema.org", "@type": "Article", "headline": e.Title,
			"datePublished": e.Published[:10], "author": map[string]any{"@type": "Organization", "name": v.options["site_title"]}})
	}
	return http.StatusOK
}

func (v *view) shared(out *rendered) {
	if out.CardType != "" {
		out.CardTitle = out.Heading
	}
	if v.yes("show_author") {
		out.Author = v.options["writer"]
	}
}

func asJSON(value any) template.JS {
	data, _ := json.Marshal(value)
	return template.JS(data)
}

func (v *view) front(out *rendered) int {
	out.Title, out.Heading = v.title("title_form_home", v.options["site_title"]), v.options["site_title"]
	out.Canonical = v.options["public_url"] + "/"
	for token := range strings.SplitSeq(v.options["verify"], "\n") {
		if token = strings.TrimSpace(token); token != "" {
			out.Verify = append(out.Verify, template.HTML(`<meta name="proof-of-owner" content="`+template.HTMLEscapeString(token)+`">`))
		}
	}
	posts := v.posts(nil)
	if v.options["front"] == "page" {
		if welcome := v.entries(func(e entry) bool { return e.Slug == v.options["front_page"] }); len(welcome) == 1 {
			out.Body, out.Single = template.HTML(welcome[0].Body), true
		}
		posts = posts[:min(len(posts), 1)]
	}
	v.list(out, posts)
	v.shared(out)
	if v.yes("structured") {
		out.Structured = asJSON(map[string]any{"@context": "https://schema.org", "@type": "Organization", "name": v.options["site_title"],
			"url": v.options["public_url"] + "/", "logo": v.options["public_url"] + v.options["logo"]})
	}
	return http.StatusOK
}

func (v *view) list(out *rendered, posts []entry) {
	for _, e := range posts {
		out.List = append(out.List, listed{e.Title, v.address(e), e.About})
	}
}

func (v *view) listing(out *rendered, name string, wanted func(entry) bool, indexed string) int {
	posts := v.posts(wanted)
	heading := strings.ToUpper(name[:1]) + name[1:]
	out.Title, out.Heading = v.title("title_form_list", heading), heading
	out.Canonical = v.options["public_url"] + v.request.URL.EscapedPath()
	if q := v.request.URL.Query().Get("q"); q != "" { // what a mailing adds is no part of the address
		out.Canonical += "?q=" + url.QueryEscape(q)
	}
	if indexed == "" {
		out.Description = "Everything new at " + v.options["site_title"] + ": " + v.options["topic_about"] + "."
	} else if !v.yes(indexed) {
		out.Robots = "noindex"
	}
	v.list(out, posts)
	v.shared(out)
	return http.StatusOK
}
