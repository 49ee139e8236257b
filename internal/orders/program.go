package orders

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"weltaxis/internal/identity"
)

// systemFolders are where programs lie that root starts, whatever PATH says: the path may begin with somebody else's folder.
var systemFolders = []string{"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"}

// ErrNoProgram reports that a program is not where programs are looked for.
var ErrNoProgram = errors.New("is not on this machine")

// Program finds a program that is to be started, and holds it against the rule. Root finds one by its name alone in the system's own
// folders, others by PATH, and then in those. The error is ErrNoProgram, wrapped, or a *Fault.
func Program(name string) (string, error) {
	if strings.ContainsRune(name, filepath.Separator) {
		return checkedProgram(name)
	}
	folders := systemFolders
	if identity.Caller() != 0 {
		if path, err := exec.LookPath(name); err == nil {
			return checkedProgram(path)
		}
	}
	for _, folder := range folders {
		path := filepath.Join(folder, name)
		if stat, err := os.Stat(path); err == nil && stat.Mode().IsRegular() && stat.Mode().Perm()&0o111 != 0 {
			return checkedProgram(path)
		}
	}
	return "", fmt.Errorf("%s %w", name, ErrNoProgram)
}

func checkedProgram(name string) (string, error) {
	resolved, err := Own().Check(name)
	var fault *Fault
	switch {
	case errors.As(err, &fault):
		return "", fmt.Errorf("the program %s is not started: %w", name, err)
	case err != nil:
		return "", fmt.Errorf("%s %w", name, ErrNoProgram)
	}
	// By its own name, which some programs go by, in a folder that held.
	if base := filepath.Join(filepath.Dir(resolved), filepath.Base(name)); base != resolved {
		if dir, err := Own().Check(filepath.Dir(absolute(name))); err == nil {
			return filepath.Join(dir, filepath.Base(name)), nil
		}
	}
	return resolved, nil
}

func absolute(name string) string {
	if full, err := filepath.Abs(name); err == nil {
		return full
	}
	return name
}

// Command is a command, without a shell, as it is started from here: found by Program, in a session of its own, so that it has no hand on
// the terminal; by root with nothing of the caller's environment but language, time zone and what kind of terminal there is.
func Command(ctx context.Context, args []string) (*exec.Cmd, error) {
	if len(args) == 0 || args[0] == "" {
		return nil, errors.New("nobody knows the command")
	}
	program, err := Program(args[0])
	if err != nil {
		return nil, err
	}
	command := exec.CommandContext(ctx, program, args[1:]...)
	command.Args[0] = args[0]
	command.WaitDelay = time.Second
	if identity.Caller() == 0 {
		command.Env = identity.Environment(0)
		if _, err := Own().Check("."); err != nil { // what it finds where it stands is somebody else's
			command.Dir = "/"
		}
	}
	apart(command)
	return command, nil
}

// Start starts a command as whoever started this program, whomever it acts as: a program that is started with half an identity could take the
// other half.
func Start(command *exec.Cmd) error { return identity.AsCaller(command.Start) }

// Run is Start, and waits for the end.
func Run(command *exec.Cmd) error {
	if err := Start(command); err != nil {
		return err
	}
	return command.Wait()
}

// maxSaid is how much of what a program says is kept, in bytes.
const maxSaid = 16 << 10

// A Said keeps the beginning of what a program says.
type Said struct{ text []byte }

// Write implements io.Writer.
func (s *Said) Write(p []byte) (int, error) {
	s.text = append(s.text, p[:min(len(p), max(0, maxSaid-len(s.text)))]...)
	return len(p), nil
}

// String is it, without blanks around it.
func (s *Said) String() string { return strings.TrimSpace(string(s.text)) }

// pathsIn are variables of the environment by which the libraries of this program find files that they go by: who is trusted to have signed
// a certificate, and what time it is where.
var pathsIn = []string{"SSL_CERT_FILE", "SSL_CERT_DIR", "ZONEINFO"}

// ForgetPaths forgets, for root, those that name what somebody else could have put there, and says which.
func ForgetPaths() (forgotten []string) {
	if identity.Caller() != 0 {
		return nil
	}
	for _, name := range pathsIn {
		for path := range strings.SplitSeq(os.Getenv(name), string(os.PathListSeparator)) {
			if path == "" {
				continue
			}
			if _, err := Own().Check(path); err != nil && os.Unsetenv(name) == nil {
				forgotten = append(forgotten, fmt.Sprintf("%s is not gone by: %s", name, err))
				break
			}
		}
	}
	return forgotten
}
