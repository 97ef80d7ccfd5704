package main

import (
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestWhatIsMadeFromTheCodeIsUpToDate fails when make generate was forgotten.
func TestWhatIsMadeFromTheCodeIsUpToDate(t *testing.T) {
	t.Chdir("../..")
	client, err := clientPage()
	require.NoError(t, err)
	api, err := apiPage()
	require.NoError(t, err)
	schema, err := sheetSchema()
	require.NoError(t, err)
	for name, want := range map[string][]byte{"docs/client.md": client, "docs/api.md": api, schemaFile: schema} {
		have, err := os.ReadFile(name)
		require.NoError(t, err)
		require.Equal(t, string(want), string(have), "%s: make generate", name)
	}
	page, err := os.ReadFile("DEVELOPMENT.md")
	require.NoError(t, err)
	drawn, err := redraw(page)
	require.NoError(t, err)
	require.Equal(t, string(drawn), string(page), "DEVELOPMENT.md: make generate")
}

func TestAPageWithoutAPlaceForTheDrawingIsLeftAlone(t *testing.T) {
	t.Parallel()
	_, err := redraw([]byte("# Development\n" + drawingBegins))
	require.ErrorContains(t, err, "no place for the drawing")
}
