package nesting

import "testing"

// FuzzYAML holds that no text makes the scan panic or lose its line.
func FuzzYAML(f *testing.F) {
	for _, seed := range []string{"a: [b, {c: d}]", "- - - x", "a: '[\n'", "\"\\\"[", "a: b # ["} {
		f.Add([]byte(seed))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		if line, says := YAML(text); (line == 0) != (says == "") {
			t.Fatalf("line %d of %q says %q", line, text, says)
		}
	})
}
