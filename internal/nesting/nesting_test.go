package nesting

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestYAML(t *testing.T) {
	for text, want := range map[string]string{
		"a: [b, {c: d}]\n- - - x\n": "", "a: " + strings.Repeat("[", 300): "nested", "a: " + strings.Repeat("{a: ", 300): "nested", strings.Repeat("- ", 300) + "x": "nested",
		"a:\n" + strings.Repeat("  [\n", 300): "nested", strings.Repeat("see [1 in the list\n", 1000): "", "a: '" + strings.Repeat("[", 1000) + "'": "", "a: \"\\\"" + strings.Repeat("[", 1000) + "\"": "",
		"a: b # " + strings.Repeat("[", 1000): "", strings.Repeat("k: v\n", 30_000): "lines or entries", "a: {" + strings.Repeat("b: c, ", 30_000) + "}": "lines or entries", "": "", strings.Repeat("a: [b]\n", 1000): "",
		"a, b, " + strings.Repeat("c, ", 30_000): "", "--- \nx": "", "a: -[[": "",
	} {
		_, says := YAML([]byte(text))
		if want == "" {
			assert.Empty(t, says, text[:min(len(text), 40)])
		} else {
			assert.Contains(t, says, want, text[:min(len(text), 40)])
		}
	}
	line, _ := YAML([]byte("a: b\nc: " + strings.Repeat("[", 300)))
	assert.Equal(t, 2, line)
}
