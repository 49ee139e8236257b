package amend

import (
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/directives"
	"weltaxis/internal/facts"
	"weltaxis/internal/source/server"
	"weltaxis/internal/tree"
)

// apacheShutWith has Apache close a host, or lock it, by which the files at some addresses stay open: at the end of the host, since of sections for
// addresses the last counts. Without a host it is for the whole server.
func (l *spot) apacheShutWith(s facts.Shut, source *server.Source, files, programs []string) (w way, err error) {
	host := l.host("VirtualHost")
	var rules []string
	if len(files) > 0 && l.tree.Modules["mod_rewrite.c"] != "" {
		rules = append(rules, fmt.Sprintf("RewriteRule \"^%s$\" - [END]", sparedPaths(files)))
	}
	text := apacheLock(s, files, l.tree.Modules["mod_access_compat.c"] != "")
	if !s.Lock {
		rules = append(apacheNoticeRules(s, files, programs), rules...)
		text = apacheNotice(s, files, l.tree.Modules["mod_headers.c"] != "")
	}
	w.file, w.from = source.Servers[0].File, "(no such line)"
	if rules != nil {
		rules = append([]string{"RewriteEngine On"}, rules...)
	}
	if host == nil {
		data := l.data(w.file)
		if len(data) > 0 && data[len(data)-1] != '\n' {
			data = append(slices.Clone(data), '\n')
		}
		text = strings.Join(append(rules, text), "\n")
		w.data, w.to, w.says = append(slices.Clone(data), text+"\n"...), text, "at the end of "+w.file
		return w, nil
	}
	first := firstOf(host.Body, func(n *directives.Node) bool {
		return n.Is("RewriteEngine", "RewriteCond", "RewriteRule", "RewriteOptions", "RewriteBase", "RewriteMap") && n.File == host.File
	})
	if first == nil {
		text = strings.Join(append(rules, text), "\n")
	}
	w.file = host.File
	if w.data, err = host.Ending(l.data(w.file), text); err != nil {
		return w, err
	}
	w.to, w.says = text, fmt.Sprintf("at the end of %s, line %d of %s", host, host.Line, host.File)
	if first != nil && rules != nil {
		if w.data, err = first.PrecededBy(w.data, strings.Join(rules, "\n")); err != nil {
			return w, err
		}
		w.to = strings.Join(rules, "\n") + "\n" + w.to
	}
	return w, nil
}

// asItWasAsked is a condition for addresses that stay open, as they were asked for.
func asItWasAsked(paths string) string { return `^(?:GET|HEAD) ` + paths + ` HTTP/` }

// apacheLock are the lines by which Apache locks a host. What was required of anybody before still is.
func apacheLock(s facts.Shut, files []string, compat bool) string {
	lines := []string{
		"<Location \"/\">",
		"    AuthMerging And",
		"    AuthType Basic",
		"    AuthName \"Locked\"",
		"    AuthBasicProvider file",
		fmt.Sprintf("    AuthUserFile \"%s\"", s.File),
		"    Require valid-user",
	}
	if compat { // override files may say otherwise
		lines = append(lines, "    Satisfy All")
	}
	lines = append(lines, "</Location>")
	for _, path := range files {
		lines = append(lines, apacheException(path, "    AuthMerging Off", fmt.Sprintf("    Require expr \"%%{THE_REQUEST} =~ m#%s# && %s\"", asItWasAsked(sparedPath(path)), noLink))...)
	}
	return strings.Join(lines, "\n")
}

// noLink is a condition for what is neither a link nor a folder.
const noLink = "! -L '%{REQUEST_FILENAME}' && ! -d '%{REQUEST_FILENAME}'"

// apacheException is the section of an address that stays open, where an error shows no page of the site.
func apacheException(path string, lines ...string) []string {
	return slices.Concat([]string{fmt.Sprintf("<LocationMatch \"^%s$\">", sparedPath(path))}, lines, []string{"    ErrorDocument 403 default", "    ErrorDocument 404 default", "</LocationMatch>"})
}

// apacheNoticeRules are the rules by which Apache answers with the notice.
func apacheNoticeRules(s facts.Shut, files, programs []string) (lines []string) {
	if len(files) > 0 {
		lines = append(lines, fmt.Sprintf("RewriteCond %%{THE_REQUEST} \"!%s\" [OR]", asItWasAsked(sparedPaths(files))), fmt.Sprintf("RewriteCond %%{REQUEST_URI} \"!^%s$\"", sparedPaths(files)))
	}
	if len(programs) > 0 {
		lines = append(lines, fmt.Sprintf("RewriteCond %%{THE_REQUEST} \"!%s\"", asItWasAsked(sparedPaths(programs))))
	}
	if s.SignIn != "" {
		lines = append(lines, fmt.Sprintf("RewriteCond %%{THE_REQUEST} \"!^[A-Z]+ %s/?(?:[?][^ ]*)? HTTP/\"", regexp.QuoteMeta(s.SignIn)))
	}
	if s.Cookie != "" {
		lines = append(lines, fmt.Sprintf("RewriteCond %%{HTTP_COOKIE} \"!(?:^|; ?)%s=\"", regexp.QuoteMeta(s.Cookie)))
	}
	return append(lines, "RewriteRule ^ - [R=503,L]")
}

// apacheNotice is what the notice says.
func apacheNotice(s facts.Shut, files []string, headers bool) string {
	var lines []string
	for _, path := range files {
		lines = append(lines, apacheException(path, "    AuthMerging And", "    Require expr \""+noLink+"\"")...)
	}
	lines = append(lines, fmt.Sprintf("ErrorDocument 503 %s", directives.NginxWord(plain(s.Notice))))
	if headers {
		lines = append(lines, fmt.Sprintf("Header always set Retry-After %d \"expr=%%{REQUEST_STATUS} -eq 503\"", s.Retry),
			"Header always set Cache-Control no-store \"expr=%{REQUEST_STATUS} -eq 503\"")
	}
	return strings.Join(lines, "\n")
}

// letsIn are directives by which somebody is let in.
var letsIn = []string{"Require", "RequireAny", "RequireAll", "RequireNone", "Satisfy", "Allow", "AuthMerging"}

// apacheGaps are the places of a host that a lock would not stand before: sections with a condition are joined last, also those of override files; what
// redirects comes first.
func (l *spot) apacheGaps(s facts.Shut, source *server.Source) (gaps []Gap) {
	host := l.host("VirtualHost")
	if gaps = l.sameElsewhere(host); !s.Lock {
		return gaps
	}
	names, folders := []string{".htaccess"}, []string{source.Root()}
	var in func(body []*directives.Node)
	in = func(body []*directives.Node) {
		for _, n := range body {
			because := fmt.Sprintf("%s, line %d: %s", n.File, n.Line, facts.Shorten(n.String(), 80))
			switch {
			case n.Is("VirtualHost") && n != host: // another site's
				continue
			case n.Is("If", "ElseIf", "Else") && lastOf(inside(n.Body), func(n *directives.Node) bool { return n.Is(letsIn...) }) != nil:
				gaps = append(gaps, Gap{n.File, fmt.Sprintf("line %d: <%s>, which is joined after all else", n.Line, facts.Shorten(n.String(), 80)), false})
			case n.Is("Redirect", "RedirectMatch", "RedirectPermanent", "RedirectTemp"):
				gaps = append(gaps, Gap{strings.Join(n.Args[:max(0, len(n.Args)-1)], " "), because, true})
			case n.Is("RewriteRule") && redirects.MatchString(n.Arg(2)):
				gaps = append(gaps, Gap{n.Arg(0), because, true})
			case n.Is("AccessFileName"):
				names = n.Args
			case n.Is("Alias", "ScriptAlias"):
				folders = append(folders, n.Arg(1))
			}
			in(n.Body)
		}
	}
	in(l.tree.Root)
	slices.Sort(folders)
	for _, folder := range slices.Compact(folders) {
		if folder != "" {
			gaps = append(gaps, l.overrideGaps(folder, names)...)
		}
	}
	return gaps
}

// redirects tells of the flags of a RewriteRule whether it redirects.
var redirects = regexp.MustCompile(`(?i)[\[,]\s*(?:R|redirect)\s*[=,\]]`)

// mayGrant tells whether override files of a folder may say who is let in: what the section of the longest path allows, or one for many folders.
func (l *spot) mayGrant(folder string) (may bool) {
	longest := -1
	l.tree.Bodies(func(body []*directives.Node) {
		for _, n := range body {
			if !n.Is("Directory", "DirectoryMatch") {
				continue
			}
			said, grants := false, false
			for _, inner := range inside(n.Body) {
				said = said || inner.Is("AllowOverride", "AllowOverrideList")
				grants = grants || inner.Is("AllowOverride") && slices.ContainsFunc(inner.Args, func(arg string) bool { return strings.EqualFold(arg, "All") || strings.EqualFold(arg, "AuthConfig") }) ||
					inner.Is("AllowOverrideList") && slices.ContainsFunc(inner.Args, func(arg string) bool { return (&directives.Node{Name: arg}).Is(letsIn...) })
			}
			path := strings.TrimSuffix(n.Arg(0), "/")
			switch {
			case !said:
			case n.Is("DirectoryMatch") || strings.ContainsAny(path, "*?[~"):
				may = may || grants
			case (folder == path || strings.HasPrefix(folder, path+"/")) && len(path) >= longest:
				longest, may = len(path), grants
			}
		}
	})
	return may
}

// condition begins a section of an override file that is joined after all else.
var condition = regexp.MustCompile(`(?im)^\s*<(?:If|ElseIf|Else)(?:\s|>)`)

// mostEntries is how many entries of a folder that is served are looked at for override files.
const mostEntries = 1_000_000

// overrideGaps are the override files below a folder that hold a section with a condition, and may let somebody in by it; and what could not be looked at.
func (l *spot) overrideGaps(root string, names []string) (gaps []Gap) {
	files, err := tree.Open(root)
	if err != nil {
		return nil // nothing is served there
	}
	defer files.Close()
	seen := 0
	note := func(path, because string) {
		if full := filepath.Join(root, filepath.FromSlash(path)); l.mayGrant(filepath.Dir(full)) {
			gaps = append(gaps, Gap{full, because, false})
		}
	}
	var in func(folder string)
	in = func(folder string) {
		entries, err := files.ReadDir(folder)
		if err != nil {
			note(folder, "whether override files there let somebody in cannot be told: "+facts.InWords(err))
			return
		}
		for _, e := range entries {
			if seen++; seen == mostEntries {
				note(".", fmt.Sprintf("there are more than %d entries, and not all override files were looked at", mostEntries))
			}
			switch {
			case seen >= mostEntries:
				return
			case e.Kind == tree.Folder:
				in(e.Path)
			case slices.Contains(names, e.Base()):
				data, err := tree.Read(files, e.Path, 1<<20)
				switch {
				case err != nil:
					note(e.Path, "whether it lets somebody in cannot be told: "+facts.InWords(err))
				case condition.Match(data) && grant.Match(data):
					note(e.Path, "its <If> is joined after all else, and may let anybody in; AllowOverride without AuthConfig takes that away")
				}
			}
		}
	}
	in(".")
	return gaps
}

// grant begins a line of an override file that lets somebody in.
var grant = regexp.MustCompile(`(?im)^\s*<?(?:Require|Satisfy|Allow|AuthMerging)`)
