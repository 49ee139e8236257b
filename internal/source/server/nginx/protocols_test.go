package nginx

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/ground"
)

// Which versions of TLS nginx allows where nothing says is a matter of its own version, and so is whose line counts.
func TestVersionsOfTLS(t *testing.T) {
	const unsaid = "http { server { listen 443 ssl; server_name site.example; } server { listen 80; server_name plain.example; } }"
	const both = "http { server { listen 443 ssl; server_name first.example; ssl_protocols TLSv1.1; } server { listen 443; server_name site.example; ssl_protocols TLSv1.3; } }"
	for _, c := range []struct {
		version, text string
		want          []string
	}{
		{"1.18.0", unsaid, []string{"TLSv1", "TLSv1.1", "TLSv1.2"}},
		{"1.23.4", unsaid, []string{"TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"}},
		{"1.27.2", unsaid, []string{"TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"}},
		{"1.27.3", unsaid, []string{"TLSv1.2", "TLSv1.3"}},
		{"", unsaid, nil},
		{"1.22.1", both, []string{"TLSv1.1"}},
		{"", both, []string{"TLSv1.1"}},
		{"1.30.0", both, []string{"TLSv1.3"}},
	} {
		config := New(directives.Nginx("/c/a", ground.OneFile(c.text)), Options{Version: c.version, Disk: ground.OneFile(c.text)})
		versions, _ := config.Protocols("site.example")
		assert.Equal(t, c.want, versions, c.version)
		versions, _ = config.Protocols("plain.example")
		assert.Empty(t, versions)
	}
}
