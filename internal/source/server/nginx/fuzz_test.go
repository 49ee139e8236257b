package nginx

import (
	"testing"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/ground"
)

// FuzzAnswer: whatever a configuration says, a request has an answer, and soon.
func FuzzAnswer(f *testing.F) {
	for _, seed := range []string{"http { server { listen 80; root /s; location / { try_files $uri /x; error_page 404 /; } } }", "http { map $a $a { default $a; } server { listen 80; return 200 $a; } }", "http { server { listen 80; rewrite ^(.*)$ /x$1; } }", "http { server { listen 80; if ($b) { return 403; } location ~ (a+)+$ { deny all; } } }"} {
		f.Add(seed, "/a/b?c=d")
	}
	f.Fuzz(func(t *testing.T, text, target string) {
		disk := ground.OneFile(text)
		c := New(directives.Nginx("/c/a", disk), Options{Disk: disk})
		ground.Hurry(t, text, target, c.Answer)
		c.Shadowed()
	})
}
