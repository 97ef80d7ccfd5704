package foreign

import (
	"bytes"
	"encoding/binary"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"nimblepane/core/disk"
	"nimblepane/sandbox"
)

// TestAConverterThatIsFooledReachesNothing skips our own check: an image that passes it by mistake must do no harm.
func TestAConverterThatIsFooledReachesNothing(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	secret := filepath.Join(dir, "secret")
	require.NoError(t, os.WriteFile(secret, bytes.Repeat([]byte("password: tide\n"), 512), 0o600))
	evil, made := filepath.Join(dir, "evil.vmdk"), filepath.Join(dir, "made")
	content := make([]byte, 1<<20)
	copy(content, "KDMV\x01")
	binary.LittleEndian.PutUint64(content[28:], 1)
	binary.LittleEndian.PutUint64(content[36:], 20)
	copy(content[512:], "# Disk DescriptorFile\n# createType: vmfs\"\nversion=1\nCID=7a7a7a7a\nparentCID=ffffffff\n"+
		"createType=\"vmfs\"\nRW 8 VMFS \""+secret+"\"\n")
	require.NoError(t, os.WriteFile(evil, content, 0o600))

	out, err := exec.CommandContext(t.Context(), "qemu-img", "convert", "-f", "vmdk", "-O", "raw", evil,
		filepath.Join(dir, "fooled")).CombinedOutput()
	require.NoError(t, err, "the attack works outside the sandbox: %s", out)
	fooled, err := os.ReadFile(filepath.Join(dir, "fooled"))
	require.NoError(t, err)
	require.Contains(t, string(fooled), "password: tide")

	require.NoError(t, os.WriteFile(made, nil, 0o600))
	err = ConvertDisk(t.Context(), evil, disk.File{Format: disk.VMDK, Unpacked: 1 << 20}, made, func(int) {})
	require.Error(t, err)
	require.True(t, sandbox.Final(err), "%s", err)
	is, err := os.ReadFile(made)
	require.NoError(t, err)
	require.NotContains(t, string(is), "password")

	_, err = DetectDisk(t.Context(), evil, int64(len(content)))
	require.ErrorContains(t, err, "makes no sense")
}
