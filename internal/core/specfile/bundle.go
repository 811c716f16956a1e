package specfile

import (
	"path"
	"strings"
)

// Bundle is a set of files as the client sends them: the raw bytes under the
// absolute slash-separated paths that they have on the client's machine. It
// lets the same code read them locally and in the service.
type Bundle struct {
	// Main is the path of the file that was named by the user.
	Main string `json:"main"`
	// Files maps absolute paths to contents.
	Files map[string][]byte `json:"files"`
}

// Resolve makes a path that stands in the file `from` absolute: absolute paths
// stay, others are taken from the folder of that file.
func Resolve(from, name string) string {
	if strings.HasPrefix(name, "/") {
		return path.Clean(name)
	}
	return path.Join(path.Dir(from), name)
}

// Short is the path as messages show it: relative to the main file's folder
// where it lies in or below it, and else whole.
func (b *Bundle) Short(name string) string {
	dir := path.Dir(b.Main)
	if rest, ok := strings.CutPrefix(name, strings.TrimSuffix(dir, "/")+"/"); ok {
		return rest
	}
	return name
}
