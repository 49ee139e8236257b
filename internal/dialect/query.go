package dialect

import (
	"regexp"
	"slices"
	"strings"

	"weltaxis/internal/strict"
)

var (
	queryStart  = regexp.MustCompile(`(?is)^\s*select\s`)
	queryToken  = regexp.MustCompile("'(?:[^']|'')*'|\"[^\"]*\"|`[^`]*`|[A-Za-z_{][A-Za-z0-9_{}]*|--|/\\*|:=|@|;|#|\\(|\\S")
	queryNever  = []string{"into", "update", "delete", "insert", "alter", "drop", "create", "attach", "pragma", "call", "exec", "execute", "lock", "share", "outfile", "dumpfile", ";", "--", "/*", "#", ":=", "@"}
	queryCalls  = []string{"count", "min", "max", "sum", "avg", "coalesce", "nullif", "lower", "upper", "length", "char_length", "substr", "substring", "trim", "replace", "concat", "abs", "round", "cast", "date"}
	queryBefore = []string{"in", "exists", "and", "or", "not", "select", "from", "as", "when", "then", "else", "case", "where", "on", "values", "all", "any", "by", "having", "distinct", "like", "between", "union", "is"}
)

// checkQuery takes one SELECT that can only read: dialects come from elsewhere, and there are statements which
// write a file or wait for ever even in a read-only transaction. So no word of writing stands in it, no comment,
// and no call of a function besides a few plain ones.
func (d *Dialect) checkQuery(at strict.Pos, query, database string) error {
	if !queryStart.MatchString(query) {
		return d.errorf(at, "a query is one SELECT without a semicolon")
	}
	previous := ""
	for _, token := range queryToken.FindAllString(query, -1) {
		word := strings.ToLower(token)
		switch {
		case slices.Contains(queryNever, word):
			return d.errorf(at, "a query is one SELECT without a semicolon, and %s does not stand in it", strings.ToUpper(word))
		case word == "(" && isWord(previous) && !slices.Contains(queryCalls, previous) && !slices.Contains(queryBefore, previous):
			return d.errorf(at, "a query does not call %s(); it may call %s", previous, strings.Join(queryCalls, ", "))
		}
		previous = word
	}
	if !d.hasDatabase(database) {
		return d.errorf(at, "there is no database %q", database)
	}
	return d.checkMarks(at, query)
}

func isWord(text string) bool {
	return text != "" && (text[0] == '_' || text[0] >= 'a' && text[0] <= 'z' || text[0] == '"' || text[0] == '`')
}
