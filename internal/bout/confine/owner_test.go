package confine

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
)

// As root, concurrent bouts belong to different users, over one prepared HOME.
func TestALayerOverWhatBelongsToAnother(t *testing.T) {
	needNamespaces(t)
	if os.Geteuid() != 0 {
		t.Skip("only root can give bouts ids of their own")
	}
	assert.True(t, DetectOverlay(t.TempDir(), Namespaces, 0))
	assert.True(t, DetectOverlay(t.TempDir(), Namespaces, 3))
}
