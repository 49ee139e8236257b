package tree

import (
	"errors"
	"slices"

	"golang.org/x/sys/unix"
)

// kernelSystems are the file systems that hold no files but views of the kernel (statfs(2)): a walk through one would read
// and count what is no part of a site, and may never end.
var kernelSystems = []int64{unix.PROC_SUPER_MAGIC, unix.SYSFS_MAGIC, unix.CGROUP_SUPER_MAGIC, unix.CGROUP2_SUPER_MAGIC, unix.DEBUGFS_MAGIC, unix.TRACEFS_MAGIC,
	unix.DEVPTS_SUPER_MAGIC, unix.SECURITYFS_MAGIC, unix.BPF_FS_MAGIC, unix.BINFMTFS_MAGIC, unix.PSTOREFS_MAGIC, unix.EFIVARFS_MAGIC}

var errKernel = errors.New("a file system of the kernel is mounted there, which is no part of a site")

// foreign is an error for a folder on which a file system of the kernel is mounted.
func foreign(folder string) error {
	var at unix.Statfs_t
	if err := unix.Statfs(folder, &at); err == nil && slices.Contains(kernelSystems, int64(at.Type)) {
		return errKernel
	}
	return nil
}

// AccessList gives the bytes of an entry's own access control list (acl(5)), nil when it has none: its group bits are then the most
// that any entry of that list may do.
func AccessList(name string) []byte {
	const usual = 4 + 8*16
	raw := make([]byte, usual)
	n, err := unix.Lgetxattr(name, "system.posix_acl_access", raw)
	if errors.Is(err, unix.ERANGE) {
		raw = make([]byte, 1<<16) // an attribute is never larger (xattr(7))
		n, err = unix.Lgetxattr(name, "system.posix_acl_access", raw)
	}
	if err != nil || n <= 0 {
		return nil
	}
	return raw[:n]
}

// MountOf tells how the place is mounted that an entry lies on (statvfs(3), f_flag).
func MountOf(name string) Mount {
	var at unix.Statfs_t
	if err := unix.Statfs(name, &at); err != nil {
		return Mount{}
	}
	return Mount{ReadOnly: at.Flags&unix.ST_RDONLY != 0, NoRun: at.Flags&unix.ST_NOEXEC != 0, NoSetID: at.Flags&unix.ST_NOSUID != 0}
}
