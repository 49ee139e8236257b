package dialect

import (
	"regexp"
	"slices"
	"strings"
)

// What nobody outside should see is told by its name, whatever the dialect says besides: in any case of letters, with the
// endings that copying and compressing add, and as editors and tools leave it. All of these are names in lower case.
var (
	// toolFolders hold what tools keep for themselves, wherever they lie.
	toolFolders = []string{".git", ".svn", ".hg", ".bzr", "cvs", ".ssh", ".gnupg", ".aws", ".azure", ".kube", ".docker", ".terraform", ".vagrant", ".idea", ".vscode", ".subversion", ".cvs"}

	// privateNames are whole names.
	privateNames = []string{".git", ".env", ".htpasswd", ".pgpass", ".my.cnf", ".netrc", ".npmrc", ".s3cfg", ".boto", ".git-credentials", ".dockercfg", "sftp-config.json", ".ftpconfig",
		"id_rsa", "id_dsa", "id_ecdsa", "id_ed25519", "error_log", "access_log", "debug_log", "shadow", "htpasswd", "authorized_keys", ".bash_history", ".zsh_history", ".mysql_history", ".psql_history", ".sqlite_history"}
	privateEndings = []string{"pem", "key", "p12", "pfx", "jks", "keystore", "kdbx", "kdb", "ppk", "ovpn", "log", "sqlite", "sqlite2", "sqlite3", "db", "db3", "s3db", "mdb", "accdb", "fdb", "env", "rdb"}
	dumpEndings    = []string{"sql", "dump", "dmp", "pgdump", "mysql", "psql"}

	// secondEndings are added by compressing and encrypting, copyEndings by whoever makes a copy.
	secondEndings = []string{"gz", "bz2", "xz", "zst", "lz4", "lzma", "br", "gpg", "enc", "z"}
	copyEndings   = []string{"bak", "old", "orig", "original", "save", "sav", "saved", "copy", "backup", "bkp", "bck", "prev", "previous", "rej", "swp", "swo", "swn", "bak1", "bak2", "backup1", "off", "disabled"}
	archives      = []string{"zip", "tar", "tgz", "tbz", "tbz2", "txz", "7z", "rar", "phar.gz", "jpa", "cpio"}

	// plainEndings are those of what is served as a matter of course: quickly passed over.
	plainEndings = func() map[string]bool {
		endings := map[string]bool{}
		for ending := range strings.FieldsSeq("php js css html htm png jpg jpeg gif webp avif svg ico woff woff2 ttf otf eot mjs map po mo pot scss less ts vue twig md") {
			endings[ending] = true
		}
		return endings
	}()

	backupWords  = regexp.MustCompile(`back-?_?up|\bbkp\b|dump|databases?|(?:^|[-_.])(?:db|site|www|htdocs|public_html|webroot|full|export|daten|sicherung)(?:[-_.]|$)`)
	datedArchive = regexp.MustCompile(`(?:^|[-_.])\d{4}-?\d{2}-?\d{2}(?:[-_.t]|$)`)
	// dashed is an ending with what rotating and databases add behind a dash.
	dashed = regexp.MustCompile(`^([a-z][a-z0-9]*)[-_](?:\d{4,14}|wal|shm|journal)$`)
	// dated is what stands at the end of the name of a copy.
	dated = regexp.MustCompile(`(?:[-_. ]?(?:\(\d+\)|\d{4}-?\d{2}-?\d{2}(?:[-_t]?\d{4,6})?|old|bak|back-?up|copy|orig|save|new|prev|v?\d{1,3})|[-_. ](?:kopie|copia|copie))+$`)
	// codeCopy is a copy of configuration or code that lost its ending, so that it is served as text.
	codeCopy = regexp.MustCompile(`^.+\.(?:php\d?|phtml|inc|conf|cnf|ini|ya?ml|toml|env|htaccess|py|aspx?|jsp)[._~-](.+)$`)
	// code is a program or its configuration, which compressed or numbered is served as it is.
	code    = regexp.MustCompile(`\.(?:php\d?|phtml|inc|conf|cnf|ini|env|htaccess|py|rb|aspx?|jsp)$`)
	samples = regexp.MustCompile(`[._-](?:dist|samples?|examples?|template|tmpl|tpl|stub|lock|defaults?)(?:[._-]|$)`)
)

// byName tells of a name whether nobody outside should see what it names, "" when it does not tell. Folder is the role that
// the folder passes on; depth is how many folders lie above.
func (m *Matcher) byName(name, folder string, depth int) string {
	lower := name
	if !plainCase(name) {
		lower = strings.ToLower(name)
	}
	dot := strings.LastIndexByte(lower, '.')
	if dot > 0 && plainEndings[lower[dot+1:]] && lower[0] != '.' && lower[0] != '#' {
		return m.copyOfConfig(lower[:dot], lower[dot:])
	}
	if lower == "thumbs.db" {
		return ""
	}
	sample := samples.MatchString(lower)
	if slices.Contains(privateNames, lower) || strings.HasPrefix(lower, ".env.") && !sample {
		return Private
	}
	base, copied := bared(lower)
	ending := base[strings.LastIndexByte(base, '.')+1:]
	if ending == base {
		ending = ""
	}
	switch {
	case slices.Contains(dumpEndings, ending):
		return Backup
	case copied && !isPicture(ending):
		return Backup
	case sample && (ending == "env" || ending == "key" || ending == "pem" || strings.HasPrefix(base, ".env")):
		return ""
	case slices.Contains(privateNames, base), slices.Contains(privateEndings, ending):
		return Private
	case slices.Contains(archives, ending):
		if folder != Uploads && (depth <= 1 || datedArchive.MatchString(base)) || backupWords.MatchString(base) {
			return Backup
		}
		return ""
	case strings.HasPrefix(lower, "credentials.") || strings.HasPrefix(lower, "secrets."):
		return Private
	}
	compressed := slices.Contains(secondEndings, lower[strings.LastIndexByte(lower, '.')+1:])
	if !sample && (!compressed && codeCopy.MatchString(lower) || base != lower && code.MatchString(base)) {
		return Backup
	}
	return ""
}

func isPicture(ending string) bool {
	return slices.Contains([]string{"jpg", "jpeg", "png", "gif", "webp", "avif", "svg", "pdf", "mp4", "mp3", "css", "js", "txt", "md"}, ending)
}

// bared takes off what compressing, rotating and copying add, and tells whether it is a copy, or what an editor left.
func bared(lower string) (base string, copied bool) {
	base = lower
	if strings.HasPrefix(base, ".#") || strings.HasPrefix(base, "#") && strings.HasSuffix(base, "#") {
		return strings.Trim(base, ".#"), true
	}
	for range 4 {
		if trimmed := strings.TrimRight(base, "~"); trimmed != base {
			base, copied = trimmed, true
			continue
		}
		dot := strings.LastIndexByte(base, '.')
		if dot <= 0 {
			break
		}
		ending := base[dot+1:]
		if m := dashed.FindStringSubmatch(ending); m != nil { // log-20260102, db-wal
			return base[:dot+1] + m[1], copied
		}
		switch {
		case slices.Contains(secondEndings, ending):
		case slices.Contains(copyEndings, ending):
			copied = true
		case isNumber(ending):
			copied = copied || len(ending) >= 6 // a date; less is a log that was rotated, or a version
		default:
			return base, copied
		}
		base = base[:dot]
	}
	return base, copied
}

func isNumber(s string) bool {
	return s != "" && strings.Trim(s, "0123456789-_") == ""
}

func plainCase(s string) bool {
	for i := range len(s) {
		if s[i] >= 'A' && s[i] <= 'Z' {
			return false
		}
	}
	return true
}

// copyOfConfig tells whether a name is that of a configuration file with a word or a date of a copy in it.
func (m *Matcher) copyOfConfig(stem, ending string) string {
	for _, config := range m.configs {
		of, is := strings.CutSuffix(config, ending)
		if !is || stem == of || !strings.Contains(stem, of) {
			continue
		}
		bare := strings.TrimPrefix(strings.TrimPrefix(stem, "copy of "), "copy-of-")
		if dated.ReplaceAllString(bare, "") == of {
			return Backup
		}
	}
	return ""
}

// inToolFolder tells whether a folder is one that a tool keeps things in, or lies in one.
func inToolFolder(dir string) bool {
	for rest := dir; rest != "" && rest != "."; {
		part, after, _ := strings.Cut(rest, "/")
		if part != "" && (part[0] == '.' || len(part) == 3) && slices.Contains(toolFolders, strings.ToLower(part)) {
			return true
		}
		rest = after
	}
	return false
}
