package query

import (
	"fmt"
	"strings"
)

// A Server is what a query is printed for.
type Server uint8

// The servers.
const (
	SQLite Server = iota
	MySQL         // and MariaDB
	PostgreSQL
)

// Print is the query as the server takes it, with the arguments that stand for its texts. Fill puts the values of
// variables into a name, or into a text; its errors are returned.
func (q *Query) Print(server Server, fill func(text string, isName bool) (string, error)) (sql string, args []any, err error) {
	var b strings.Builder
	before := "("
	for _, part := range q.parts {
		// MySQL knows a function only by a parenthesis right behind its name.
		if sign := part.kind == plain && strings.Contains("().,", part.text); before != "(" && before != "." && !sign {
			b.WriteByte(' ')
		}
		before = part.text
		if part.kind != plain {
			before = ""
		}
		switch part.kind {
		case plain:
			b.WriteString(part.text)
		case name, quoted:
			filled, err := fill(part.text, true)
			if err != nil {
				return "", nil, err
			}
			if part.kind == name && server == PostgreSQL {
				filled = strings.ToLower(filled) // as it takes names without quotes
			}
			b.WriteString(Name(server, filled))
		case text:
			filled, err := fill(part.text, false)
			if err != nil {
				return "", nil, err
			}
			args = append(args, filled)
			if server == PostgreSQL {
				fmt.Fprintf(&b, "$%d", len(args))
			} else {
				b.WriteByte('?')
			}
		case castText:
			b.WriteString(map[Server]string{SQLite: "TEXT", MySQL: "CHAR", PostgreSQL: "TEXT"}[server])
		case castInt:
			b.WriteString(map[Server]string{SQLite: "INTEGER", MySQL: "SIGNED", PostgreSQL: "BIGINT"}[server])
		}
	}
	return b.String(), args, nil
}

// Name is the name of a table or a column in the server's quotes. SQLite takes what stands in double quotes for a text
// when there is no such name, so it gets the other ones.
func Name(server Server, name string) string {
	if server == PostgreSQL {
		return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
	}
	return "`" + strings.ReplaceAll(name, "`", "``") + "`"
}
