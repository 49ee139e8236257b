package discover

import (
	"path"
	"slices"
	"strings"

	"weltaxis/internal/dialect"
)

// pictures and programs are known by their endings.
var (
	pictures = []string{".png", ".jpg", ".jpeg", ".gif", ".webp", ".svg", ".ico", ".pdf", ".mp4"}
	programs = []string{".php", ".py", ".rb", ".pl", ".js", ".mjs", ".go"}
)

// roles proposes what plays which role from what lies where: configuration that held settings, folders of
// pictures, of programs, of what may be thrown away, and of what is nobody's business.
func (d *Draft) roles() dialect.Roles {
	roles := dialect.Roles{dialect.Config: d.configFiles()}
	for _, folder := range d.folders {
		if folder == "." || slices.ContainsFunc(slices.Concat(roles[dialect.Uploads], roles[dialect.Code], roles[dialect.Cache], roles[dialect.Private]), func(p string) bool {
			return strings.HasPrefix(folder+"/", p)
		}) {
			continue
		}
		if role := d.roleOf(folder); role != "" {
			roles[role] = append(roles[role], folder+"/")
		}
	}
	for role, patterns := range roles {
		if len(patterns) == 0 {
			delete(roles, role)
		}
	}
	return roles
}

// configFiles are the files that a finding came from.
func (d *Draft) configFiles() []string {
	var files []string
	for _, f := range d.Findings {
		name, _ := dialect.SplitPlace(f.Place)
		if file := d.stores[name].File; file != "" && f.Certain {
			files = append(files, file)
		}
	}
	for _, v := range d.variables {
		name, _ := dialect.SplitPlace(v.From)
		files = append(files, d.stores[name].File)
	}
	slices.Sort(files)
	return slices.Compact(files)
}

func (d *Draft) roleOf(folder string) string {
	name := strings.ToLower(path.Base(folder))
	switch {
	case slices.Contains([]string{"cache", "tmp", "temp", "compiled"}, name):
		return dialect.Cache
	case slices.Contains([]string{"log", "logs", "data", "private", "storage", "var", ".git", "backup", "backups"}, name):
		return dialect.Private
	}
	counts := map[string]int{}
	all := 0
	for _, file := range d.files {
		if path.Dir(file) == folder {
			all++
			counts[strings.ToLower(path.Ext(file))]++
		}
	}
	share := func(endings []string) bool {
		n := 0
		for _, e := range endings {
			n += counts[e]
		}
		return all > 0 && n*2 > all
	}
	switch {
	case slices.Contains([]string{"uploads", "media", "upload", "medien", "medias"}, name) || share(pictures):
		return dialect.Uploads
	case share(programs) && !slices.Contains([]string{"public", "htdocs", "www", "web"}, name):
		return dialect.Code
	}
	return ""
}

// Public is the folder that the web server serves: the one with the page that starts everything.
func (d *Draft) Public() string {
	for _, folder := range []string{"public", "htdocs", "public_html", "web", "www", "pub"} {
		if slices.ContainsFunc(d.files, func(f string) bool { return strings.HasPrefix(f, folder+"/index.") }) {
			return folder
		}
	}
	return ""
}
