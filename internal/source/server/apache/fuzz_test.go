package apache

import (
	"io/fs"
	"testing"
	"time"

	"weltaxis/internal/directives"
	"weltaxis/internal/source/server/answer"
)

// oneFile is a disk with one configuration, and a site in which every other path is a file and every third a folder.
type oneFile string

func (f oneFile) Read(name string) ([]byte, error) {
	if name == "/c/a" {
		return []byte(f), nil
	}
	return nil, fs.ErrNotExist
}

func (f oneFile) Names(string) ([]string, error) { return nil, fs.ErrNotExist }

func (f oneFile) Look(path string) answer.Entry {
	switch len(path) % 3 {
	case 0:
		return answer.Entry{Is: answer.AFolder}
	case 1:
		return answer.Entry{Is: answer.AFile, Size: 100}
	}
	return answer.Entry{}
}

// FuzzAnswer: whatever a configuration says, a request has an answer, and soon.
func FuzzAnswer(f *testing.F) {
	for _, seed := range []string{"DocumentRoot /s\nDirectoryIndex a/ b/ c/ /", "DocumentRoot /s\nErrorDocument 404 /x\nFallbackResource /y", "RewriteEngine On\nRewriteRule ^(.*)$ /x$1 [N]", "<If \"%{X} =~ /a/ && (\">\nRequire all denied\n</If>", "<Directory /*/*/*>\nAllowOverride All\n</Directory>\nDocumentRoot /s"} {
		f.Add(seed, "/a/b?c=d")
	}
	f.Fuzz(func(t *testing.T, text, target string) {
		disk := oneFile(text)
		c := New(directives.Apache("/c/a", disk, directives.ApacheOptions{}), Options{Disk: disk})
		start := time.Now()
		a := c.Answer(answer.Ask{Scheme: "http", Host: "x.example", Target: target, Header: map[string]string{}})
		if took := time.Since(start); took > 30*time.Second {
			t.Fatalf("%s for %q", took, text)
		}
		if a == nil || len(a.Fields) == 0 {
			t.Fatal("no answer")
		}
		c.Shadowed()
	})
}
