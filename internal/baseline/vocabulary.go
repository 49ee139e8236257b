package baseline

import (
	"fmt"
	"strings"
	"time"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/ext"

	"weltaxis/internal/facts"
)

// The names that rules may use, besides those of the catalogue:
//
//	factory.site.title            the setting has a value the install came with
//	absent.site.title             it is known that nothing is there; what it would hold is unknown then
//	settings.security.secret.length   the length of a secret, whose text is never known
//	limits.title_chars            a limit
//	taken                         when the snapshot was taken
const (
	factoryPrefix = "factory."
	absentPrefix  = "absent."
	limitsPrefix  = "limits."
	lengthSuffix  = ".length"
	takenName     = "taken"
)

// celTypes gives each type of the catalogue its type in expressions.
var celTypes = map[facts.Type]*cel.Type{
	facts.String: cel.StringType, facts.Zone: cel.StringType, facts.Mail: cel.StringType, facts.URL: cel.StringType,
	facts.Pattern: cel.StringType, facts.Version: cel.StringType, facts.Words: cel.StringType,
	facts.Bool: cel.BoolType, facts.Int: cel.IntType, facts.Size: cel.IntType, facts.Mode: cel.IntType, facts.Secret: cel.IntType,
	facts.Duration: cel.DurationType, facts.Date: cel.TimestampType, facts.List: cel.ListType(cel.StringType),
}

// native is a value as expressions see it.
func nativeOf(v facts.Value) any {
	switch v.Type() {
	case facts.Bool:
		return v.Bool()
	case facts.Int, facts.Size, facts.Mode, facts.Secret:
		return v.Number()
	case facts.Duration:
		return time.Duration(v.Number()) * time.Second
	case facts.Date:
		return time.Unix(v.Number(), 0).UTC()
	case facts.List:
		return v.List()
	}
	return v.Text()
}

// variable is the name under which expressions see a name of the catalogue.
func variable(entry *facts.Term) string {
	if entry.Type == facts.Secret {
		return entry.Name + lengthSuffix
	}
	return entry.Name
}

// absentName is what absent. stands before: a setting without its source, like factory., and all else in full.
func absentName(full string) string { return strings.TrimPrefix(full, facts.Settings.All()) }

// newEnv declares every leaf as a dotted variable of its own, so that an unknown one is named in full.
func newEnv(limits map[string]Limit) (*cel.Env, error) {
	options := append(functions(), ext.Strings(), cel.Variable(takenName, cel.TimestampType))
	for _, entry := range facts.Catalogue() {
		options = append(options, cel.Variable(variable(entry), celTypes[entry.Type]), cel.Variable(absentPrefix+absentName(entry.Name), cel.BoolType))
		if bare, ok := strings.CutPrefix(entry.Name, facts.Settings.All()); ok {
			options = append(options, cel.Variable(factoryPrefix+bare, cel.BoolType))
		}
	}
	for name, limit := range limits {
		options = append(options, cel.Variable(limitsPrefix+name, celTypes[limit.Value.Type()]))
	}
	env, err := cel.NewCustomEnv(append([]cel.EnvOption{cel.StdLib()}, options...)...)
	if err != nil {
		return nil, fmt.Errorf("setting up the names that rules may use: %w", err)
	}
	return env, nil
}

// itemVariables declares the fields of a list under the name a rule gives its items.
func itemVariables(list, as string) []cel.EnvOption {
	var options []cel.EnvOption
	for _, field := range facts.Lists[list] {
		options = append(options, cel.Variable(as+"."+field.Name, celTypes[field.Type]))
	}
	return options
}

// declared lists every name a rule may use, for "did you mean".
func (b *Baseline) declared(r *Rule) []string {
	var names []string
	for _, entry := range facts.Catalogue() {
		names = append(names, variable(entry))
	}
	for name := range b.Limits {
		names = append(names, limitsPrefix+name)
	}
	for _, field := range facts.Lists[r.list] {
		names = append(names, r.as+"."+field.Name)
	}
	return names
}

// wordsOf is the fixed set of words a name may be, nil for other types.
func wordsOf(r *Rule, name string) []string {
	if entry, ok := facts.Lookup(name); ok {
		return entry.Words
	}
	if field, ok := strings.CutPrefix(name, r.as+"."); ok && r.as != "" {
		entry, _ := facts.Lookup(r.list + "." + field)
		return entry.Words
	}
	return nil
}
