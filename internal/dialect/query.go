package dialect

import (
	"weltaxis/internal/query"
	"weltaxis/internal/strict"
)

// checkQuery takes a query of the small language that means the same on every server and can only read: dialects come
// from elsewhere, and there are statements which write a file or wait for ever even in a read-only transaction.
func (d *Dialect) checkQuery(at strict.Pos, text, database string) error {
	parsed, err := query.Parse(text)
	if err != nil {
		return d.errorf(at, "%w", err)
	}
	if !d.hasDatabase(database) {
		return d.errorf(at, "there is no database %q", database)
	}
	for _, mark := range parsed.Marks {
		if err := d.checkMarks(at, "{"+mark+"}"); err != nil {
			return err
		}
	}
	return nil
}
