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
