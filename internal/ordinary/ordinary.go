// Package ordinary opens files that somebody names, and only such as have an end: no named pipe that waits for a writer,
// no device, no folder, and nothing larger than its reader takes. Opening waits for nobody. It imports nothing of this
// program.
package ordinary

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"syscall"
)

// An Error says that what a name leads to is not a file that can be read whole: it is no file, or too large a one.
type Error struct {
	Says     string
	TooLarge bool
}

func (e *Error) Error() string { return e.Says }

// Read gives all of a file of at most so many bytes. Links are followed.
func Read(name string, most int64) ([]byte, error) {
	file, err := Open(name)
	if err != nil {
		return nil, err
	}
	return All(file, most)
}

// Open opens a file for reading.
func Open(name string) (*os.File, error) {
	return Checked(os.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0))
}

// OpenIn is Open below a root.
func OpenIn(root *os.Root, name string) (*os.File, error) {
	return Checked(root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0))
}

// Checked lets a file pass that was opened, without waiting for anybody, and is an ordinary one; it closes any other.
func Checked(file *os.File, err error) (*os.File, error) {
	if errors.Is(err, syscall.ENXIO) { // open(2)
		return nil, &Error{Says: "it is no ordinary file but a socket, or a device that is not there"}
	}
	if err != nil {
		return nil, err
	}
	stat, err := file.Stat()
	if err == nil && !stat.Mode().IsRegular() {
		err = &Error{Says: "it is no ordinary file but " + kind(stat.Mode())}
	}
	if err != nil {
		file.Close()
		return nil, err
	}
	return file, nil
}

func kind(mode fs.FileMode) string {
	switch {
	case mode.IsDir():
		return "a folder"
	case mode&fs.ModeNamedPipe != 0:
		return "a named pipe"
	case mode&fs.ModeSocket != 0:
		return "a socket"
	case mode&fs.ModeDevice != 0:
		return "a device"
	}
	return "something else"
}

// All reads a file to its end, which may come later than the size says, since some files of the kernel have none, and closes it.
func All(file fs.File, most int64) ([]byte, error) {
	defer file.Close()
	if stat, err := file.Stat(); err == nil && stat.Size() > most {
		return nil, tooLarge(most)
	}
	data, err := io.ReadAll(io.LimitReader(file, most+1))
	if err == nil && int64(len(data)) > most {
		return nil, tooLarge(most)
	}
	return data, err
}

func tooLarge(most int64) error {
	return &Error{fmt.Sprintf("it has more than %d bytes, which is the most that is read", most), true}
}
