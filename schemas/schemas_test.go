package schemas

import (
	"bytes"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEverySchemaIsOne(t *testing.T) {
	for _, name := range Names() {
		text, err := Text(name)
		require.NoError(t, err)
		document, err := jsonschema.UnmarshalJSON(bytes.NewReader(text))
		require.NoError(t, err, name)
		compiler := jsonschema.NewCompiler()
		require.NoError(t, compiler.AddResource("schema.json", document))
		_, err = compiler.Compile("schema.json")
		assert.NoError(t, err, name)
	}
	_, err := Text("nothing")
	assert.Error(t, err)
}
