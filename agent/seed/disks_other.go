//go:build !linux

package seed

// disks on Windows: cloudbase-init and its like leave the file at Path; no
// device is read there.
func disks() []string { return nil }
