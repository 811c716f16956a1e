package cli

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"agonometer/internal/core/verdict"
)

// The console has words for every reason of a verdict.
func TestTheConsoleKnowsEveryReason(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "console", "src", "lib", "format.ts"))
	require.NoError(t, err)
	for reason := range verdict.Reasons() {
		assert.Regexp(t, `(?m)^  '?`+string(reason)+`'?: `, string(text))
	}
}
