package seed

// File is where the agent finds what cloud-init left for it.
const File = Path

// disks are where udev links a disk with the label.
func disks() []string {
	return []string{"/dev/disk/by-label/cidata", "/dev/disk/by-label/CIDATA"}
}
