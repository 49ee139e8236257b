package demo

import (
	"context"
	"database/sql"
	"fmt"
	"path/filepath"
	"strings"
)

// hobnail is the stand-in content system for shops by the water: an INI file, a table with one wide row a wharf and
// values inside values, a table of what was loaded later, with a column for the wharf, and three files of its gear.
type hobnail struct{}

func (hobnail) lore() *lore { return hobnailLore() }

// The documents that are values in the wide row.
const (
	paint   = inside + "paint.serialised"
	beacons = inside + "beacons.json"
)

func (hobnail) keep(in *installation, root string) ([]string, error) {
	options := in.options
	options["secret"] = in.secret
	scheme, host, _ := strings.Cut(options["public_url"], "://")
	options["host"], options["scheme"], options["inner_url"] = host, map[bool]string{true: "yes", false: "no"}[scheme == "https"], options["install_url"]
	written, err := hobnailLore().writeDocuments(root, options)
	if err != nil {
		return nil, err
	}
	where := "driver = sqlite\nfile = hold/ledger.db\n"
	if d := in.database; d != nil {
		where = fmt.Sprintf("driver = %s\nserver = 127.0.0.1:%s\nname = %s\nuser = %s\npassword = \"%s\"\n", d.driver, d.port, d.name, d.user, d.password)
	}
	text, err := textOf(root, "lockbook.ini")
	if err != nil {
		return nil, err
	}
	if err := writeFile(filepath.Join(root, "lockbook.ini"), file{text + "\n[database]\n" + where, 0o644}); err != nil {
		return nil, err
	}
	database, err := in.fillDatabase(root, in.fillWharf)
	return append(written, database...), err
}

func (in *installation) fillWharf(insert inserter) error {
	l, row := hobnailLore(), []any{1}
	for _, k := range l.in("wharf") {
		row = append(row, k.spelling.store(in.options[k.option], false))
	}
	for _, name := range []string{paint, beacons} {
		text, err := l.document(name, in.options)
		if err != nil {
			return err
		}
		row = append(row, text)
	}
	if err := insert("wharf", row...); err != nil {
		return err
	}
	for _, k := range l.in("lading") {
		if err := insert("lading", 1, k.path, k.spelling.store(in.options[k.option], false)); err != nil {
			return err
		}
		// Another wharf shares the table.
		if err := insert("lading", 2, k.path, "of another wharf"); err != nil {
			return err
		}
	}
	return nil
}

func (hobnail) open(root string, database *databaseServer) (keeper, error) {
	file := filepath.Join(root, hobnailLore().Database.File)
	db, err := database.openSQL(file)
	return remembering(&hobnailKeeper{root, db}, database, func() []string {
		files := []string{file}
		for _, name := range hobnailFiles {
			files = append(files, filepath.Join(root, filepath.FromSlash(name)))
		}
		return files
	}), err
}

// hobnailFiles are the files beside the ledger.
var hobnailFiles = []string{"lockbook.ini", "gear/sluices.xml", "gear/gates.conf", "gear/toll.properties"}

type hobnailKeeper struct {
	root string
	db   *sql.DB
}

func (k *hobnailKeeper) close() { k.db.Close() }

func (k *hobnailKeeper) options(ctx context.Context) (map[string]string, error) {
	l, options := hobnailLore(), map[string]string{}
	columns := l.in("wharf")
	values := make([]sql.NullString, len(columns)+2)
	into, names := make([]any, len(values)), ""
	for i := range values {
		into[i] = &values[i]
	}
	for _, column := range columns {
		names += column.path + ", "
	}
	if err := k.db.QueryRowContext(ctx, "SELECT "+names+"paint, beacons FROM wharf WHERE no = 1").Scan(into...); err != nil {
		return nil, err
	}
	for i, column := range columns {
		options[column.option] = column.spelling.read(values[i].String)
	}
	loaded, err := pairs(ctx, k.db, "SELECT item, content FROM lading WHERE wharf_no = 1")
	if err != nil {
		return nil, err
	}
	for _, item := range l.in("lading") {
		options[item.option] = item.spelling.read(loaded[item.path])
	}
	documents := map[string]string{paint: values[len(columns)].String, beacons: values[len(columns)+1].String}
	for _, name := range hobnailFiles {
		if documents[name], err = textOf(k.root, name); err != nil {
			return nil, err
		}
	}
	for name, text := range documents {
		if err := l.readDocument(name, text, options); err != nil {
			return nil, err
		}
	}
	options["public_url"] = map[string]string{"yes": "https://", "no": "http://"}[options["scheme"]] + options["host"]
	options["install_url"] = options["inner_url"]
	return options, nil
}

func (k *hobnailKeeper) entries(ctx context.Context) ([]entry, error) {
	return hobnailLore().entriesIn(ctx, k.db)
}
