//go:build !linux

package seed

// File is where the agent finds its seed on Windows: what prepares a machine
// there at its first start has to leave it.
const File = `C:\ProgramData\NimblePane\seed.yaml`

// disks on Windows are not read.
func disks() []string { return nil }
