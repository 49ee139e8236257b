package fix

import (
	"context"
	"database/sql"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/audit"
	"weltaxis/internal/dialect"
	"weltaxis/internal/facts"
	"weltaxis/internal/servertest"
	"weltaxis/internal/source/files"
	"weltaxis/internal/store"
)

// modeOf proposes another mode for the class of an entry below a root.
func modeOf(t *testing.T, root, path string, to int64) facts.Deviation {
	t.Helper()
	seen, err := (&files.Source{Root: root}).Gather(t.Context())
	require.NoError(t, err)
	stat, err := os.Stat(filepath.Join(root, path))
	require.NoError(t, err)
	at := slices.IndexFunc(seen.Classes, func(c facts.Class) bool { return slices.Contains(c.Paths, path) })
	require.GreaterOrEqual(t, at, 0, "%v", seen.Classes)
	class := seen.Classes[at]
	return facts.Deviation{Rule: "permissions.files", Subject: class.Subject(), Item: &class, Fix: facts.Proposal{Kind: facts.KindMode, Risk: facts.Safe,
		Mode: &facts.ModeTarget{From: bits(int64(stat.Mode().Perm())), To: bits(to), Origin: class.Origin()}}}
}

// A program that a real Apache has started: with a mode by which it stops it is disruptive, and taken back where it is made all the same. What lies there and is served as it is may
// lose what it does not need.
func TestAProgramThatTheServerStartsKeepsRunning(t *testing.T) {
	t.Parallel()
	s := toldSitesWith(t, "apache", "    LoadModule cgi_module /usr/lib/apache2/modules/mod_cgi.so\n    ScriptAlias /cgi-bin/ DIR/www/cgi-bin/\n    <Directory DIR/www/cgi-bin>\n        Require all granted\n    </Directory>\n",
		map[string]string{"www/cgi-bin/letters": "#!/bin/sh\nprintf 'Content-Type: text/plain\\n\\nhello\\n'\n", "www/posters/run.jpg": "\xff\xd8\xff"})
	root := filepath.Join(s.dir, "www")
	for _, path := range []string{"cgi-bin/letters", "posters/run.jpg"} {
		require.NoError(t, syscall.Chmod(filepath.Join(root, path), 0o755))
	}
	code, _, body := s.get(t, "/cgi-bin/letters")
	require.Equal(t, http.StatusOK, code, body)
	loaded, before := s.audit(t)
	w, err := WishesFor(loaded, before, audit.Options{Tool: "test"}, nil)
	require.NoError(t, err)
	address := strings.TrimSuffix(loaded.Address(), "/") + "/cgi-bin/letters"
	w.FilesRoot, w.Seen = root, []facts.Page{{Address: address, Path: "/cgi-bin/letters", Status: http.StatusOK}}
	w.Deviations = []facts.Deviation{modeOf(t, root, "cgi-bin/letters", 0o644)}
	plan, err := New(t.Context(), w)
	require.NoError(t, err)
	require.Len(t, plan.Changes, 1)
	c := plan.Changes[0]
	assert.Equal(t, facts.Disruptive, c.Risk)
	assert.Contains(t, strings.Join(c.Mind, "; "), "the web server has it started ("+filepath.Join(s.dir, "server.conf"))
	assert.Equal(t, []string{address}, c.watch)

	journal, err := OpenJournal(s.state, time.Now)
	require.NoError(t, err)
	defer journal.Close()
	env, err := For(loaded, before, audit.Options{Tool: "test"}, journal)
	require.NoError(t, err)
	env.FilesRoot, env.Recheck = root, nil
	report, err := Write(t.Context(), plan.Changes, SeenIn(before), env)
	require.NoError(t, err)
	assert.Equal(t, Broke, report.Outcomes[0].Result, "%+v", report.Outcomes)
	assert.Contains(t, report.Outcomes[0].Says, address)
	code, _, _ = s.get(t, "/cgi-bin/letters")
	assert.Equal(t, http.StatusOK, code, "it was taken back")

	w.Deviations = []facts.Deviation{modeOf(t, root, "posters/run.jpg", 0o644)}
	plan, err = New(t.Context(), w)
	require.NoError(t, err)
	require.Len(t, plan.Changes, 1)
	assert.Equal(t, facts.Safe, plan.Changes[0].Risk, plan.Changes[0].Because)
}

// By what lies in a tree alone it is told by names.
func TestWhatIsCalledAsAProgramThatIsStarted(t *testing.T) {
	for path, risk := range map[string]facts.Risk{"cgi-bin/letters.pl": facts.Disruptive, "shop/buy.cgi": facts.Disruptive, "cgi/run": facts.Disruptive, "posters/x.jpg": facts.Safe, "magic-cgi/x.jpg": facts.Safe} {
		root := t.TempDir()
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755))
		content := "\x7fELF\x02\x01\x01"
		if risk == facts.Safe {
			content = "\xff\xd8\xff"
		}
		require.NoError(t, os.WriteFile(filepath.Join(root, path), []byte(content), 0o755))
		plan, err := New(t.Context(), Wishes{Deviations: []facts.Deviation{modeOf(t, root, path, 0o644)}, FilesRoot: root})
		require.NoError(t, err)
		require.Len(t, plan.Changes, 1)
		if assert.Equal(t, risk == facts.Disruptive, plan.Changes[0].Risk == facts.Disruptive, "%s: %s", path, plan.Changes[0].Because); risk == facts.Disruptive {
			assert.Contains(t, strings.Join(plan.Changes[0].Mind, "; "), "500 or 403", path)
		}
	}
}

// A group that may write: where programs run as their owners it has them refused, and keeping is by another way than a group or a list.
func TestProgramsThatRunAsTheirOwners(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root gives files to others")
	}
	for _, c := range []struct{ more, says, way string }{
		{"    SuexecUserGroup games games\n</VirtualHost>\n", "refused with a 500", "chown -- www-data"},
		{"", "", "setfacl -m u:www-data:rwX"},
	} {
		s := toldSitesWith(t, "apache", "", nil)
		root := filepath.Join(s.dir, "www")
		if c.more != "" { // the server that runs has no such starter; what it is to do when it reads this again counts
			s.write(t, "server.conf", strings.Replace(s.read(t, "server.conf"), "</VirtualHost>\n", c.more, 1))
		}
		loaded, before := s.audit(t)
		w, err := WishesFor(loaded, before, audit.Options{Tool: "test"}, nil)
		require.NoError(t, err)
		w.FilesRoot, w.WebUser = root, "www-data"
		require.NoError(t, syscall.Chmod(filepath.Join(root, "posters"), 0o755))
		w.Deviations = []facts.Deviation{modeOf(t, root, "posters", 0o775)}
		plan, err := New(t.Context(), w)
		require.NoError(t, err)
		require.Len(t, plan.Changes, 1)
		assert.Contains(t, strings.Join(plan.Changes[0].Mind, "; "), c.says)
		assert.Equal(t, c.says != "", plan.Changes[0].Risk == facts.Disruptive, plan.Changes[0].Because)

		require.NoError(t, syscall.Chmod(filepath.Join(root, "uploads"), 0o777))
		w.Deviations = []facts.Deviation{modeOf(t, root, "uploads", 0o775)}
		plan, err = New(t.Context(), w)
		require.NoError(t, err)
		require.Len(t, plan.Changes, 1)
		assert.Contains(t, plan.Changes[0].Because, "www-data, whom the web server runs as, loses writing")
		assert.Contains(t, strings.Join(plan.Changes[0].Besides, "; "), c.way)
	}
}

// Whoever has a part in a site keeps what they need of it: the users of the runtime's pools, of the web server by its configuration, and those as whom the scheduler starts something.
func TestWhoHasAPartKeepsIt(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root gives files to others")
	}
	was := tables
	defer func() { tables = was }()
	etc := t.TempDir()
	tables = []table{{filepath.Join(etc, "crontab"), false}, {filepath.Join(etc, "d/*"), false}, {filepath.Join(etc, "spool/*"), true}, {filepath.Join(etc, "units/*.service"), false}}
	for _, c := range []struct {
		name, file, text string // ROOT is the site's
		loses            string // who does, "" for nobody
	}{
		{"nobody", "", "", ""},
		{"a line of cron", "crontab", "MAILTO=x\n*/5 * * * * games cd ROOT && php run.php\n", "games"},
		{"by a word", "d/site", "@daily games php ROOT/run.php\n", "games"},
		{"a table of one's own", "spool/games", "5 4 * * * php 'ROOT/run.php'\n", "games"},
		{"a unit", "units/site.service", "[Service]\nUser=games\nExecStart=/usr/bin/php ROOT/run.php\n", "games"},
		{"by root as somebody else", "crontab", "5 * * * * root sudo -u games php ROOT/run.php\n", "games"},
		{"by root's shell as somebody else", "spool/root", "5 * * * * su - games -s /bin/sh -c 'php ROOT/run.php'\n", "games"},
		{"by a long option", "d/x", "5 * * * * root cd / && runuser --user=games -- php ROOT/run.php\n", "games"},
		{"by a link", "crontab", "5 * * * * games php LINK/run.php\n", "games"},
		{"as somebody else elsewhere", "crontab", "5 * * * * root sudo -u games php /srv/other/run.php\n", ""},
		{"a comment", "crontab", "# 5 * * * * games php ROOT/run.php\n", ""},
		{"another site beside it", "crontab", "5 * * * * games php ROOT-old/run.php\n", ""},
		{"root itself", "crontab", "5 * * * * root php ROOT/run.php\n", ""},
		{"a user that is none", "crontab", "5 * * * * 'nobody here' php ROOT/run.php\n", ""},
	} {
		root := servertest.Public(t)
		link := root // the site file may name the one, and the table the other
		if strings.Contains(c.text, "LINK") {
			real := root
			root = filepath.Join(t.TempDir(), "www")
			require.NoError(t, os.Symlink(real, root))
			link = real
		}
		if c.file != "" {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(etc, c.file)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(etc, c.file), []byte(strings.NewReplacer("ROOT", root, "LINK", link).Replace(c.text)), 0o600))
		}
		require.NoError(t, os.WriteFile(filepath.Join(root, "run.php"), []byte("<?php\nsweep();\n"), 0o644))
		plan, err := New(t.Context(), Wishes{Deviations: []facts.Deviation{modeOf(t, root, "run.php", 0o640)}, FilesRoot: root, WebUser: "root"})
		require.NoError(t, err)
		require.Len(t, plan.Changes, 1)
		if c.loses == "" {
			assert.NotContains(t, plan.Changes[0].Because, "loses reading at", c.name)
		} else {
			assert.Equal(t, facts.Disruptive, plan.Changes[0].Risk, c.name)
			assert.Contains(t, plan.Changes[0].Because, "games, as whom the scheduler starts something there", c.name)
			assert.Contains(t, strings.Join(plan.Changes[0].Besides, ""), "setfacl -m u:games:rX", c.name)
		}
		if c.file != "" {
			require.NoError(t, os.Remove(filepath.Join(etc, c.file)))
		}
	}
	tables = nil
	s := toldSitesWith(t, "nginx", "", nil)
	s.write(t, "php/php-fpm.conf", strings.Replace(s.read(t, "php/php-fpm.conf"), "user = root\ngroup = root", "user = games\ngroup = games", 1))
	loaded, before := s.audit(t)
	w, err := WishesFor(loaded, before, audit.Options{Tool: "test"}, nil)
	require.NoError(t, err)
	root := filepath.Join(s.dir, "www")
	w.FilesRoot, w.Deviations = root, []facts.Deviation{modeOf(t, root, "about/index.php", 0o640)}
	plan, err := New(t.Context(), w)
	require.NoError(t, err)
	require.Len(t, plan.Changes, 1)
	assert.Contains(t, plan.Changes[0].Because, "games, whom the runtime's pool site runs as")
}

// keepsPagesAt is an installation whose settings stand in a SQLite file.
func keepsPagesAt(t *testing.T, rows map[string]string) (*dialect.Dialect, store.Options) {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pebble.yaml"), []byte("dialect: pebble\nversion: 1\ndatabases: {main: {sqlite: x.db}}\nstores: {o: {database: main, table: o, key: k, value: v}}\nsettings:\n  site.address: {from: o/address}\n  cache.page: {from: o/keep}\n  cache.lifetime: {from: o/long, unit: seconds}\n  cache.excludes: {from: o/out, split: \",\"}\n"), 0o600))
	d, err := dialect.Load(filepath.Join(dir, "pebble.yaml"), "")
	require.NoError(t, err)
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "x.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec("CREATE TABLE o (k TEXT PRIMARY KEY, v TEXT)")
	require.NoError(t, err)
	for key, value := range rows {
		_, err := db.Exec("INSERT INTO o VALUES (?, ?)", key, value)
		require.NoError(t, err)
	}
	return d, store.Options{Root: dir}
}

// What forms hold for one visit is asked about before pages are kept, and looked for afterwards.
func TestPagesThatAreKeptOutliveWhatIsForOneVisit(t *testing.T) {
	d, options := keepsPagesAt(t, map[string]string{"keep": "0", "long": "60", "out": "/cart/*,/contact/"})
	contact := facts.Page{Path: "/contact/", Address: "http://site.example/contact/", Status: 200, Once: []string{"check"}}
	other := facts.Page{Path: "/", Address: "http://site.example/", Status: 200}
	twice := []facts.Spelling{{Address: "http://www.site.example/", Kind: "host", Status: 200}}
	for _, c := range []struct {
		name, key, value string
		w                Wishes
		disruptive       bool
		says             string
	}{
		{"with such a form", "cache.page", "yes", Wishes{Seen: []facts.Page{other, contact}}, true, "/contact/ (check)"},
		{"that is left out", "cache.page", "yes", Wishes{Seen: []facts.Page{other, contact}, Excluded: []string{"/cont*"}}, false, ""},
		{"without one", "cache.page", "yes", Wishes{Seen: []facts.Page{other}}, false, ""},
		{"nobody looked", "cache.page", "yes", Wishes{}, false, "nobody looked"},
		{"switched off", "cache.page", "no", Wishes{Seen: []facts.Page{contact}}, false, ""},
		{"longer", "cache.lifetime", "2h", Wishes{Seen: []facts.Page{contact}}, true, "/contact/ (check)"},
		{"shorter", "cache.lifetime", "30s", Wishes{Seen: []facts.Page{contact}}, false, ""},
		{"left out no more", "cache.excludes", "/cart/*", Wishes{Seen: []facts.Page{contact}}, true, "/contact/ (check)"},
		{"left out besides", "cache.excludes", "/cart/*, /contact/, /x/", Wishes{Seen: []facts.Page{contact}}, false, ""},
		{"at two hosts", "cache.page", "yes", Wishes{Seen: []facts.Page{other}, Spellings: twice}, true, "http://www.site.example/ as well"},
	} {
		w := c.w
		w.Dialect, w.Stores, w.Values = d, options, map[string]string{c.key: c.value}
		plan, err := New(t.Context(), w)
		require.NoError(t, err, c.name)
		for _, change := range plan.Changes {
			assert.Equal(t, c.disruptive, change.Risk == facts.Disruptive, "%s: %s", c.name, change.Because)
			if mind := strings.Join(change.Mind, "; "); c.says == "" {
				assert.Empty(t, mind, c.name)
			} else {
				assert.Contains(t, mind, c.says, c.name)
			}
		}
		assert.NotEqual(t, c.key != "cache.page" || c.value == "yes", len(plan.Changes) == 0, c.name)
	}
	visits := 0
	page := func(kept *bool) func(context.Context, string) string {
		return func(context.Context, string) string {
			if visits++; *kept {
				return `<form method=post><input type=hidden name=check value=always-2></form>`
			}
			return fmt.Sprintf(`<form method=post><input type=hidden name=check value=visit-%d></form>`, visits)
		}
	}
	kept := false
	e := &Env{Text: page(&kept)}
	c := Change{watch: []string{"/contact/"}, effects: []int{2}}
	after := e.lookouts(t.Context(), c)
	require.Len(t, after, 1)
	assert.Empty(t, after[0](t.Context()), "each visit has its own")
	kept = true
	assert.Contains(t, after[0](t.Context()), "two visits to /contact/ were given the same check")
	assert.Empty(t, e.lookouts(t.Context(), c)[0](t.Context()), "it was the same before")
}

// Where an address stands in values whose length stands before them is said, and only the setting itself changes.
func TestAnAddressInsideOtherValues(t *testing.T) {
	d, options := keepsPagesAt(t, map[string]string{"address": "http://old.example", "menu": `a:2:{s:4:"home";s:19:"http://old.example/";s:1:"x";s:2:"ok";}`, "text": "see http://old.example/about/", "script": `{"at":"http:\/\/old.example\/x"}`, "mail": "post@old.example", "other": "http://new.old.example/", "port": "http://old.example:8080/", "longer": "http://old.example.org/", "none": "nothing"})
	plan, err := New(t.Context(), Wishes{Dialect: d, Stores: options, Values: map[string]string{"site.address": "https://new.example"}})
	require.NoError(t, err)
	require.Len(t, plan.Changes, 1)
	assert.Len(t, plan.Changes[0].Edits, 1)
	assert.Equal(t, "old.example stands in 3 values of o besides, which stay as they are; in 1 of them the length of each text stands before it, so that replacing it as text breaks them: change those by their own format (serialised)", strings.Join(plan.Changes[0].Mind, ""))
}

// Whoever changes modes is to look again on the next day, until an audit has; a lock as long as it stands.
func TestChangesAreComeBackTo(t *testing.T) {
	root, state := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(root, "x.jpg"), []byte("\xff\xd8\xff"), 0o600))
	require.NoError(t, syscall.Chmod(filepath.Join(root, "x.jpg"), 0o666))
	plan, err := New(t.Context(), Wishes{Deviations: []facts.Deviation{modeOf(t, root, "x.jpg", 0o644)}, FilesRoot: root, WebUser: "www-data"})
	require.NoError(t, err)
	now := time.Date(2026, 11, 30, 22, 0, 0, 0, time.UTC)
	journal, err := OpenJournal(state, func() time.Time { return now })
	require.NoError(t, err)
	_, err = Write(t.Context(), plan.Changes, Seen{}, Env{Journal: journal, FilesRoot: root})
	require.NoError(t, err)
	records, err := ReadJournal(state)
	require.NoError(t, err)
	all := Comebacks(records, time.Time{})
	require.Len(t, all, 1)
	assert.Equal(t, facts.Day("2026-12-01"), all[0].On)
	assert.Contains(t, all[0].What, "may have given the old ones again")
	assert.Len(t, Comebacks(records, now), 1, "an audit on the same day has not seen the next")
	assert.Empty(t, Comebacks(records, now.AddDate(0, 0, 1)))
	seen := func(lacked, seen time.Time) facts.Deviation {
		return facts.Deviation{Rule: "permissions.files", Subject: plan.Changes[0].Subject, Since: &facts.Since{Lacked: &lacked, Seen: seen}}
	}
	if at := PutRight(records, seen(now.Add(time.Minute), now.Add(time.Hour))); assert.NotNil(t, at, "%+v", records) {
		assert.Equal(t, now, *at)
	}
	assert.Nil(t, PutRight(records, seen(now.Add(-2*time.Hour), now.Add(time.Hour))), "no look has seen that it was right")
	assert.Nil(t, PutRight(records, facts.Deviation{Rule: "permissions.files", Subject: "another", Since: &facts.Since{Lacked: &now, Seen: now}}))
	Undo(t.Context(), Chosen(records, Choice{}), Env{Journal: journal, FilesRoot: root})
	journal.Close()
	records, err = ReadJournal(state)
	require.NoError(t, err)
	assert.Empty(t, Comebacks(records, time.Time{}), "what is taken back is not to be looked at")

	lock := LogLine{ID: 1, Event: Done, Kind: Server, Name: ShutName(true), At: now, Again: &Again{"2026-12-29", "The site is locked from here.", true}}
	assert.Len(t, Comebacks([]LogLine{lock}, now.AddDate(1, 0, 0)), 1)
	lock.Event = TakenBackByUndo
	assert.Empty(t, Comebacks([]LogLine{lock}, time.Time{}))
}
