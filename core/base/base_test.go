package base

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/disk"
)

func TestABaseFitsOrSaysAllThatIsInTheWay(t *testing.T) {
	t.Parallel()
	fits := Facts{
		DiskSize: 8 << 30, Firmware: []string{"bios", "uefi"}, System: "linux harbour", Architecture: "x86_64",
	}
	want := Wanted{Class: "standard", Firmware: "uefi", System: "linux harbour", Disk: 8 << 30}
	require.Empty(t, fits.Misfits(want))
	require.Empty(t, Facts{}.Misfits(want), "what cannot be seen is not held against it")
	require.Empty(t, fits.Misfits(Wanted{}))
	other := Facts{
		DiskSize: 9 << 30, Firmware: []string{"bios"}, System: "linux estuary", Architecture: "aarch64",
		Encrypted: []string{"part 2 (LUKS)", "part 3 (BitLocker)"},
	}
	require.Equal(t, []string{
		"part 2 (LUKS) and part 3 (BitLocker) of its disk is encrypted, and a version could not be made of it: " +
			"decrypt it before it is brought in",
		"its disk is started by bios, and machines of class standard by uefi: take a base for uefi, or a class for " +
			"bios",
		"it is for machines of architecture aarch64, and hosts are x86_64",
		"its operating system is linux estuary, and that of the image's versions linux harbour: make an image of its " +
			"own for it",
		"its disk has 9663676416 bytes, and the machine is to have one of 8589934592: give the machine a larger one",
	}, other.Misfits(want))
	require.Equal(t, []string{
		"its disk has 8589934592 bytes, and machines of class standard have at most 4294967296: take a smaller base, " +
			"or allow the class more (disk, in the estate file)",
	}, fits.Misfits(Wanted{Class: "standard", ClassDisk: 4 << 30}))
	require.Empty(t, fits.Misfits(Wanted{Class: "standard", ClassDisk: 8 << 30}))
}

func TestWhatADiskSaysBecomesFacts(t *testing.T) {
	t.Parallel()
	require.Equal(t, Facts{DiskSize: 7}, From(7, disk.Partitions{BIOS: true}), "without a table nothing is known")
	require.Equal(t, Facts{DiskSize: 7, Firmware: []string{"bios", "uefi"}, Encrypted: []string{"part 1 (LUKS)"}},
		From(7, disk.Partitions{Known: true, BIOS: true, UEFI: true, Parts: []disk.Part{
			{Number: 1, Encrypted: "LUKS"}, {Number: 2},
		}}))
}

func TestNamesDigestsAndLabels(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"debian-12", "a", "9.1-x"} {
		require.NoError(t, CheckName(name))
	}
	for _, name := range []string{"", "-a", "A", "a/b", "a b", strings.Repeat("a", 61)} {
		require.ErrorContains(t, CheckName(name), "is no name of a base")
	}
	require.NoError(t, CheckDigest(strings.Repeat("0f", 32)))
	for _, digest := range []string{"", "sha256:" + strings.Repeat("0f", 32), strings.Repeat("0F", 32)} {
		require.ErrorContains(t, CheckDigest(digest), "is no digest")
	}
	require.Equal(t, "Estuary Works Harbour Linux 13", Labels{
		Publisher: "Estuary Works", Product: "Harbour Linux", Release: "13",
	}.Text())
	for _, s := range States() {
		require.Equal(t, s == Receiving || s == Fetching || s == Converting, s.Coming())
	}
}
