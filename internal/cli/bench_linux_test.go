package cli

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// BenchmarkAsAnother sets an audit of a tree by root, who acts as its owner, beside the same by the owner: 200 000 entries, of which every tenth folder is
// the web server's user's and closed to the owner in the second case. The ratios are what counts; of each case, the closed folders cost the owner nothing, since
// he does not get in.
func BenchmarkAsAnother(b *testing.B) {
	if os.Geteuid() != 0 {
		b.Skip("only root can act as another user")
	}
	const kestrel, wren = 61001, 61002
	dir, err := os.MkdirTemp("", "weltaxis-bench-")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		b.Fatal(err)
	}
	program := buildOf(b, dir, "weltaxis", "weltaxis/cmd/weltaxis")
	must := func(err error) {
		if err != nil {
			b.Fatal(err)
		}
	}
	root := filepath.Join(dir, "www")
	for d := range 2000 {
		folder := filepath.Join(root, []string{"media", "cache", "system", "themes"}[d%4], fmt.Sprintf("d%04d", d))
		must(os.MkdirAll(folder, 0o755))
		for f := range 99 {
			must(os.WriteFile(filepath.Join(folder, fmt.Sprintf("f%02d.%s", f, []string{"jpg", "txt", "css", "html", "min.js"}[f%5])), nil, 0o644))
		}
	}
	must(exec.Command("chown", "-R", fmt.Sprintf("%d:%d", kestrel, kestrel), root).Run())
	must(os.WriteFile(filepath.Join(dir, "weltaxis.yaml"), []byte(fmt.Sprintf("site: Large\nintent: {stage: live, web_user: \"%d\"}\nsources: {files: {root: www}}\n", wren)), 0o644))
	audit := func(uid uint32) time.Duration {
		command := exec.Command(program, "audit", dir, "--offline", "--no-keep", "--format", "json", "--alarm", "never")
		command.Env = []string{"HOME=/nonexistent"}
		command.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
		start := time.Now()
		out, err := command.Output()
		if code := command.ProcessState.ExitCode(); code != 0 && code != exitPartial {
			b.Fatal(err, string(out))
		}
		return time.Since(start)
	}
	audit(0)
	var owner, asOwner, shared time.Duration
	for b.Loop() {
		owner += audit(kestrel)
		asOwner += audit(0)
	}
	must(exec.Command("sh", "-c", fmt.Sprintf("for f in '%s'/*/d*0; do chown -R %d:%d $f && chmod 700 $f; done", root, wren, wren)).Run())
	rounds := b.N
	for range rounds {
		shared += audit(0)
	}
	b.ReportMetric(asOwner.Seconds()/owner.Seconds(), "by-root/by-owner")
	b.ReportMetric(shared.Seconds()/asOwner.Seconds(), "closed/open")
	b.ReportMetric(0, "ns/op")
}
