package fix

import (
	"path/filepath"
	"regexp"
	"strings"

	"weltaxis/internal/amend"
	"weltaxis/internal/ordinary"
)

// A schedule is that the machine's scheduler starts something of the site.
type schedule struct{ user, at string }

// A table is where schedulers keep what they start: files of which each line names its user in a field, or files that are called as their user.
type table struct {
	pattern string
	named   bool // by its file; else by the sixth field, or by a line User=
}

// tables are those of cron (crontab(5)) and of systemd (systemd.exec(5)).
var tables = []table{
	{"/etc/crontab", false}, {"/etc/cron.d/*", false}, {"/var/spool/cron/crontabs/*", true}, {"/var/spool/cron/*", true},
	{"/etc/systemd/system/*.service", false}, {"/run/systemd/system/*.service", false}, {"/usr/local/lib/systemd/system/*.service", false}, {"/lib/systemd/system/*.service", false},
}

// The bounds of what is read of them.
const (
	maxTables    = 2000
	maxTableSize = 1 << 20
)

var (
	cronLine = regexp.MustCompile(`^\s*(?:@\w+|(?:\S+\s+){4}\S+)\s+(\S+)\s+(.*)$`)
	// becomes are ways in which a line goes on as another user: sudo(8), runuser(1), su(1), setpriv(1), chpst, setuidgid.
	becomes  = regexp.MustCompile(`\b(?:(?:sudo|runuser)\b[^|;&\n]*?\s(?:-u\s*|--user[= ])|(?:su|runuser)\s+(?:-\S*\s+)*|setpriv\b[^|;&\n]*?--reuid[= ]|chpst\s+-u\s*|setuidgid\s+)["']?([a-z_][a-z0-9_.-]*)`)
	userLine = regexp.MustCompile(`(?m)^\s*User\s*=\s*(\S+)\s*$`)
)

// scheduled are those as whom something is started that lies below a root, or that names it. Tables that may not be read tell nothing: who looks after a site as its owner
// sees those of the system alone.
func scheduled(root string) (all []schedule) {
	if root == "" {
		return nil
	}
	full, err := filepath.Abs(root)
	if err != nil {
		return nil
	}
	names := func(text string) bool { return namesFolder(text, full) || namesFolder(text, amend.Real(full)) } // by a link as well
	add := func(user, at, line string) {
		if found := becomes.FindStringSubmatch(line); found != nil {
			user = found[1]
		}
		all = append(all, schedule{user, at})
	}
	looked := 0
	for _, t := range tables {
		files, _ := filepath.Glob(t.pattern)
		for _, file := range files {
			if looked++; looked > maxTables {
				return all
			}
			data, err := ordinary.Read(file, maxTableSize)
			if err != nil {
				continue
			}
			text := withoutNotes(string(data))
			if strings.HasSuffix(t.pattern, ".service") {
				if user := userLine.FindStringSubmatch(text); user != nil && names(text) {
					add(user[1], file, "")
				}
				continue
			}
			for line := range strings.Lines(text) {
				user, what := filepath.Base(file), strings.TrimRight(line, "\n")
				if !t.named {
					found := cronLine.FindStringSubmatch(what)
					if found == nil {
						continue
					}
					user, what = found[1], found[2]
				}
				if names(what) {
					add(user, file, what)
				}
			}
		}
	}
	return all
}

// withoutNotes is a table without its lines of comment.
func withoutNotes(text string) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		if trimmed := strings.TrimSpace(line); !strings.HasPrefix(trimmed, "#") && !strings.HasPrefix(trimmed, ";") {
			b.WriteString(line)
		}
	}
	return b.String()
}

// namesFolder tells whether a text names a folder, or something in it.
func namesFolder(text, folder string) bool {
	folder = strings.TrimRight(folder, "/")
	for rest := text; folder != ""; {
		i := strings.Index(rest, folder)
		if i < 0 {
			return false
		}
		if rest = rest[i+len(folder):]; rest == "" || strings.ContainsAny(rest[:1], "/ \t\"';&|)\n") {
			return true
		}
	}
	return false
}
