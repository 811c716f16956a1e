package service

import "golang.org/x/sys/unix"

// freeBytes is how much room a folder's file system has for us, in bytes.
func freeBytes(dir string) (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return 0, err
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}
