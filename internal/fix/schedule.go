package fix

import (
	"path/filepath"
	"regexp"
	"strings"

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
	{"/etc/systemd/system/*.service", false},
}

// The bounds of what is read of them.
const (
	maxTables    = 500
	maxTableSize = 1 << 20
)

var (
	cronLine = regexp.MustCompile(`^\s*(?:@\w+|(?:\S+\s+){4}\S+)\s+(\S+)\s+(.*)$`)
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
	full = strings.TrimRight(full, "/")
	names := func(text string) bool {
		for rest := text; full != ""; {
			i := strings.Index(rest, full)
			if i < 0 {
				return false
			}
			if rest = rest[i+len(full):]; rest == "" || strings.ContainsAny(rest[:1], "/ \t\"';&|)\n") {
				return true
			}
		}
		return false
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
			text := string(data)
			switch {
			case t.named:
				if names(withoutNotes(text)) {
					all = append(all, schedule{filepath.Base(file), file})
				}
			case strings.HasSuffix(t.pattern, ".service"):
				if user := userLine.FindStringSubmatch(text); user != nil && names(withoutNotes(text)) {
					all = append(all, schedule{user[1], file})
				}
			default:
				for line := range strings.Lines(withoutNotes(text)) {
					if found := cronLine.FindStringSubmatch(strings.TrimRight(line, "\n")); found != nil && names(found[2]) {
						all = append(all, schedule{found[1], file})
					}
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
