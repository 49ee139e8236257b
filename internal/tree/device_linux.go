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

// HasACL tells whether an entry has an access control list of its own (acl(5)): its group bits are the most that any entry
// of that list may do.
func HasACL(name string) bool {
	n, err := unix.Lgetxattr(name, "system.posix_acl_access", nil)
	return err == nil && n > 0
}
