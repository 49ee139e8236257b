package site

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"weltaxis/internal/strict"
	"weltaxis/schemas"
)

// differences lists where a schema and the type that the loader reads into do not know the same keys.
func differences(at string, node map[string]any, read reflect.Type, defs map[string]any) []string {
	if ref, is := node["$ref"].(string); is {
		node, _ = defs[strings.TrimPrefix(ref, "#/$defs/")].(map[string]any)
	}
	for read.Kind() == reflect.Pointer {
		read = read.Elem()
	}
	reads := reflect.PointerTo(read)
	if reads.Implements(reflect.TypeFor[strict.Unmarshaler]()) || read == reflect.TypeFor[strict.Date]() {
		return nil // it reads itself, and is held against the schema by examples
	}
	switch read.Kind() {
	case reflect.Slice:
		items, _ := node["items"].(map[string]any)
		return differences(at+"[]", items, read.Elem(), defs)
	case reflect.Map:
		values, _ := node["additionalProperties"].(map[string]any)
		return differences(at+".*", values, read.Elem(), defs)
	case reflect.Struct:
	default:
		return nil
	}
	properties, _ := node["properties"].(map[string]any)
	var found []string
	if node["additionalProperties"] != false {
		found = append(found, at+": the schema takes any key")
	}
	known := map[string]bool{}
	for i := range read.NumField() {
		name, _, _ := strings.Cut(read.Field(i).Tag.Get("yaml"), ",")
		if name == "" || name == "-" {
			continue
		}
		known[name] = true
		property, there := properties[name].(map[string]any)
		if !there {
			found = append(found, fmt.Sprintf("%s.%s: the loader takes it, and the schema does not", at, name))
			continue
		}
		found = append(found, differences(at+"."+name, property, read.Field(i).Type, defs)...)
	}
	for _, name := range slices.Sorted(maps.Keys(properties)) {
		if !known[name] {
			found = append(found, fmt.Sprintf("%s.%s: the schema takes it, and the loader does not", at, name))
		}
	}
	return found
}

func siteSchema(t *testing.T) (schema map[string]any) {
	t.Helper()
	text, err := schemas.Text("site")
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &schema))
	return schema
}

func compare(schema map[string]any, read reflect.Type) []string {
	defs, _ := schema["$defs"].(map[string]any)
	return differences("site file", schema, read, defs)
}

func TestTheSchemaTakesWhatTheLoaderTakes(t *testing.T) {
	assert.Empty(t, compare(siteSchema(t), reflect.TypeFor[Site]()))
}

// TestTheComparisonCanFail takes a key away on either side.
func TestTheComparisonCanFail(t *testing.T) {
	schema := siteSchema(t)
	sources := schema["properties"].(map[string]any)["sources"].(map[string]any)["properties"].(map[string]any)
	live := sources["live"].(map[string]any)["properties"].(map[string]any)
	delete(live, "depth")
	live["depht"] = map[string]any{"type": "integer"}
	assert.Equal(t, []string{"site file.sources.live.depth: the loader takes it, and the schema does not", "site file.sources.live.depht: the schema takes it, and the loader does not"},
		compare(schema, reflect.TypeFor[Site]()))
	delete(sources, "files")
	assert.Contains(t, compare(schema, reflect.TypeFor[Site]()), "site file.sources.files: the loader takes it, and the schema does not")
}
