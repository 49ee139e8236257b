package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"weltaxis/internal/format"
)

// ostler is the stand-in content system for gardens and what grows out of them. It has no database: everything is a
// record in one of its drawers, and what only the person with the keys should change is in two files beside them.
type ostler struct{}

func (ostler) lore() *lore { return ostlerLore() }

func (ostler) keep(in *installation, root string) ([]string, error) {
	l := ostlerLore()
	in.options["secret"] = in.secret
	written, err := l.writeDocuments(root, in.options)
	if err != nil {
		return nil, err
	}
	record := func(name, text string, err error) error {
		if err != nil {
			return err
		}
		written = append(written, name)
		return writeFile(filepath.Join(root, name), file{text, 0o644})
	}
	for i, p := range in.pages {
		text, err := yamlRecord("number", int64(i+1), "title", p.Title, "kind", l.theirs("kind", p.Kind), "state", l.theirs("status", p.Status), "sown", p.Published,
			"summary", p.About, "listed", !slices.Contains(in.unlisted, p.Slug), "words", p.Body)
		if err := record("packets/"+p.Slug+".yaml", text, err); err != nil {
			return nil, err
		}
	}
	for i, a := range in.accounts {
		text, err := jsonRecord(map[string]any{"rank": l.theirs("role", a.Role), "since": fmt.Sprintf("2026-05-%02d", i+3), "second_key": a.Role == "keeper", "seen": "2026-11-20"})
		if err := record("growers/"+a.Login+".json", text, err); err != nil {
			return nil, err
		}
	}
	for _, e := range in.extensions {
		text, err := jsonRecord(map[string]any{"kind": e.Kind, "in_use": e.Active, "version": e.Version, "newest": e.Newest, "grafted_on": e.Parent})
		if err := record("tools/"+e.Name+".json", text, err); err != nil {
			return nil, err
		}
	}
	for _, k := range in.keys {
		text, err := jsonRecord(map[string]any{"who": k.Service, "way": l.theirs("key", k.Kind), "cut": "2026-06-01", "used": "2026-11-20", "teeth": "an invented key of the demo and not a secret at all"})
		if err := record("spares/"+k.Name+".json", text, err); err != nil {
			return nil, err
		}
	}
	for i, c := range in.copies() {
		text, err := jsonRecord(map[string]any{"stands": c.path, "piled": c.taken})
		if err := record(fmt.Sprintf("heaps/%d.json", i+1), text, err); err != nil {
			return nil, err
		}
	}
	return written, nil
}

func jsonRecord(value any) (string, error) {
	data, err := json.MarshalIndent(value, "", "  ")
	return string(data) + "\n", err
}

// yamlRecord writes keys and values, which take turns.
func yamlRecord(pairs ...any) (string, error) {
	text := ""
	for i := 0; i < len(pairs); i += 2 {
		doc, err := format.Read("yaml", []byte(text), format.Options{})
		if err != nil {
			return "", err
		}
		changed, err := doc.Set(pairs[i].(string), pairs[i+1])
		if err != nil {
			return "", err
		}
		text = string(changed)
	}
	return text, nil
}

func (ostler) open(root string, _ *databaseServer) (keeper, error) {
	return remembering(ostlerKeeper{root}, nil, func() []string {
		files, _ := filepath.Glob(filepath.Join(root, "packets", "*.yaml"))
		for _, name := range ostlerLore().stores() {
			files = append(files, filepath.Join(root, filepath.FromSlash(name)))
		}
		return files
	}), nil
}

type ostlerKeeper struct{ root string }

func (ostlerKeeper) close() {}

func (k ostlerKeeper) options(context.Context) (map[string]string, error) {
	options := map[string]string{}
	for _, name := range ostlerLore().stores() {
		text, err := textOf(k.root, name)
		if err != nil {
			return nil, err
		}
		if err := ostlerLore().readDocument(name, text, options); err != nil {
			return nil, err
		}
	}
	return options, nil
}

func (k ostlerKeeper) entries(context.Context) ([]entry, error) {
	names, err := filepath.Glob(filepath.Join(k.root, "packets", "*.yaml"))
	if err != nil {
		return nil, err
	}
	var list []entry
	for _, name := range names {
		data, err := textOf(filepath.Dir(name), filepath.Base(name))
		if err != nil {
			return nil, err
		}
		doc, err := format.Read("yaml", []byte(data), format.Options{})
		if err != nil {
			return nil, err
		}
		text := func(path string) string {
			e, _ := doc.Lookup(path)
			return strings.TrimPrefix(fmt.Sprint(e.Value), "<nil>")
		}
		e := entry{Slug: strings.TrimSuffix(filepath.Base(name), ".yaml"), Title: text("title"), Kind: ostlerLore().ours("kind", text("kind")),
			Status: ostlerLore().ours("status", text("state")), Published: text("sown"), About: text("summary"), Body: text("words"), Unlisted: text("listed") == "false"}
		_, _ = fmt.Sscan(text("number"), &e.ID)
		list = append(list, e)
	}
	slices.SortFunc(list, func(a, b entry) int { return a.ID - b.ID })
	return list, nil
}
