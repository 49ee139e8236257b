package apache

import (
	"testing"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/ground"
)

// FuzzAnswer: whatever a configuration says, a request has an answer, and soon.
func FuzzAnswer(f *testing.F) {
	for _, seed := range []string{"DocumentRoot /s\nDirectoryIndex a/ b/ c/ /", "DocumentRoot /s\nErrorDocument 404 /x\nFallbackResource /y", "RewriteEngine On\nRewriteRule ^(.*)$ /x$1 [N]", "<If \"%{X} =~ /a/ && (\">\nRequire all denied\n</If>", "<Directory /*/*/*>\nAllowOverride All\n</Directory>\nDocumentRoot /s"} {
		f.Add(seed, "/a/b?c=d")
	}
	f.Fuzz(func(t *testing.T, text, target string) {
		disk := ground.OneFile(text)
		c := New(directives.Apache("/c/a", disk, directives.ApacheOptions{}), Options{Disk: disk})
		ground.Hurry(t, text, target, c.Answer)
		c.Shadowed()
	})
}
