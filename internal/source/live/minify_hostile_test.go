package live

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestMinifyingWhatIsHostile: whatever a style or a script holds, looking what it carries ends, and soon.
func TestMinifyingWhatIsHostile(t *testing.T) {
	for _, part := range []string{"(", "[", "{", "((", "a=>", "!", "x?", "a{b{", "@media x{", "${", "`${", "/*", "if(a)", "function(){", "class a{", "[{", "new ", "typeof ", "a.b(", "- ", "async()=>", ";;", "a:", "url(", "\\"} {
		for _, kind := range []string{styleKind, scriptKind} {
			start := time.Now()
			saves(kind, []byte(strings.Repeat(part, maxMinified/4/len(part))))
			assert.Less(t, time.Since(start), 30*time.Second, "%s of %q", kind, part)
		}
	}
}
