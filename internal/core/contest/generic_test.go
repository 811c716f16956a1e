package contest

import (
	"testing"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
)

// generic reads YAML as plain maps, lists and scalars.
func generic(t *testing.T, data []byte) any {
	t.Helper()
	var v any
	require.NoError(t, yaml.Unmarshal(data, &v))
	return v
}
