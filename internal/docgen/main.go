// Command docgen writes what docs/ holds of the code: the JSON Schemas of the
// files and the OpenAPI document. Run it with: go run ./internal/docgen
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"agonometer/internal/core/plain"
	"agonometer/internal/schema"
	"agonometer/internal/service"
)

func main() {
	if err := write("docs"); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(docs string) error {
	for kind := range schema.Kinds() {
		text, err := schema.Of(kind)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(docs, "schema", kind+".schema.json"), text, 0o644); err != nil {
			return err
		}
	}
	text, err := service.OpenAPI()
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(docs, "openapi.json"), append(text, '\n'), 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(docs, "..", "console", "src", "lib", "hidden.ts"), []byte(plain.TypeScript()), 0o644)
}
