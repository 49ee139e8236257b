package cli

import (
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/santhosh-tekuri/jsonschema/v6"
	_ "modernc.org/sqlite"

	"weltaxis/schemas"
)

// TestScripts runs the built program on files in temporary folders, as the scripts in testdata/script tell.
func TestScripts(t *testing.T) {
	bin := build(t)
	testscript.Run(t, testscript.Params{
		Dir: "testdata/script",
		Setup: func(e *testscript.Env) error {
			e.Setenv("PATH", bin+string(os.PathListSeparator)+os.Getenv("PATH"))
			e.Setenv("TERM", "dumb")
			return nil
		},
		Cmds: map[string]func(*testscript.TestScript, bool, []string){
			"status": runForStatus, "sql": runSQL, "valid": checkSchema, "strange": makeStrangeNames, "served": waitUntilServed,
		},
	})
}

// build builds the program as it is released: one static binary.
func build(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	command := exec.Command("go", "build", "-o", filepath.Join(dir, "weltaxis"), "weltaxis/cmd/weltaxis")
	command.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := command.CombinedOutput(); err != nil {
		t.Fatalf("building the program: %v\n%s", err, out)
	}
	return dir
}

// runForStatus is "status N command ...": the command must end with that exit status.
func runForStatus(ts *testscript.TestScript, neg bool, args []string) {
	if neg || len(args) < 2 {
		ts.Fatalf("usage: status N command ...")
	}
	got := 0
	if err := ts.Exec(args[1], args[2:]...); err != nil {
		exit, is := err.(*exec.ExitError)
		if !is {
			ts.Fatalf("%v", err)
		}
		got = exit.ExitCode()
	}
	if fmt.Sprint(got) != args[0] {
		ts.Fatalf("exit status %d, want %s", got, args[0])
	}
}

// runSQL is "sql FILE statement".
func runSQL(ts *testscript.TestScript, neg bool, args []string) {
	db, err := sql.Open("sqlite", "file:"+ts.MkAbs(args[0]))
	ts.Check(err)
	defer db.Close()
	_, err = db.Exec(args[1])
	ts.Check(err)
}

// checkSchema is "valid SCHEMA FILE".
func checkSchema(ts *testscript.TestScript, neg bool, args []string) {
	text, err := schemas.Text(args[0])
	ts.Check(err)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	ts.Check(err)
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	ts.Check(compiler.AddResource("schema.json", document))
	schema, err := compiler.Compile("schema.json")
	ts.Check(err)
	value, err := jsonschema.UnmarshalJSON(strings.NewReader(ts.ReadFile(args[1])))
	ts.Check(err)
	ts.Check(schema.Validate(value))
}

var listening = regexp.MustCompile(`"copperbeck\.example:443": "127\.0\.0\.1:\d{2,}"`)

// waitUntilServed is "served DIR": the site files of a demo come to say where it listens; one that is just being written says nothing.
func waitUntilServed(ts *testscript.TestScript, neg bool, args []string) {
	for n := 0; ; n++ {
		text, err := os.ReadFile(filepath.Join(ts.MkAbs(args[0]), "copperbeck-aligned", "weltaxis.yaml")) // the last
		if err == nil && listening.Match(text) {
			return
		}
		if n == 2400 { // a machine that does other work takes its time
			ts.Fatalf("the demo in %s is not served", args[0])
		}
		time.Sleep(25 * time.Millisecond)
	}
}

// makeStrangeNames is "strange DIR": back-ups whose names hold what a terminal must not see.
func makeStrangeNames(ts *testscript.TestScript, neg bool, args []string) {
	for _, name := range []string{"new\nline.sql", "red\x1b[31m.sql", "bad\xff.sql", "turn\u202elqs.sql"} {
		ts.Check(os.WriteFile(filepath.Join(ts.MkAbs(args[0]), name), nil, 0o644))
	}
}
